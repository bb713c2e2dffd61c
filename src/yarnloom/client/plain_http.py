"""Connections for many small requests: plain HTTP/1.1 with JSON bodies, and nothing else.

Of a worker, and of a client for asyncio on the service's machine, which may wait for hundreds of
runs at once. What a general client does for each request takes longer than the service takes to
answer, and the more the more requests are held.

Decision: `docs/decisions/16-start-of-the-service.md`.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import ssl
from collections.abc import AsyncIterator
from typing import Any
from urllib.parse import urlsplit

from yarnloom import local_socket
from yarnloom.client.file_transfer import Outgoing
from yarnloom.client.http_requests import API, Request, query_text, read_answer
from yarnloom.client.target import Target

CONNECT_SECONDS = 10.0
ANSWER_SECONDS = 40.0
LONGEST_HEAD = 1 << 16
MOST_IDLE = 20
"""Connections that are kept for later requests."""

_BROKEN = (OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, ValueError)


def speaks_plainly(target: Target) -> bool:
    """Whether a service is reached without a proxy in between."""
    names = ("http_proxy", "https_proxy", "all_proxy")
    return target.local or not any(os.environ.get(n) or os.environ.get(n.upper()) for n in names)


class Connections:
    """Connections to one service, each kept for the next request.

    Args:
        target: the service.
        who: who asks.
    """

    def __init__(self, target: Target, who: str) -> None:
        self._target = target
        parts = urlsplit(target.url)
        self._host = parts.hostname or ""
        self._port = parts.port or (443 if target.secure else 80)
        self._path = parts.path + API
        self._ssl = ssl.create_default_context() if target.secure else None
        self._headers = {"Host": parts.netloc, **target.headers(who)}
        self._head = "".join(f"{name}: {value}\r\n" for name, value in self._headers.items())
        self._idle: list[_Connection] = []

    def show_too(self, name: str, value: str) -> None:
        """Send a header with every request from now on."""
        self._headers[name] = value
        self._head = "".join(f"{name}: {value}\r\n" for name, value in self._headers.items())

    async def call(self, call: Request) -> Any:
        """Send a request, again where that is safe and a connection broke that was kept.

        Raises:
            Refused: the service said no; the class says how.
            NotReachable: nothing answers.
        """
        body = call.content or b""
        query = f"?{query_text(call.query)}" if call.query else ""
        head = f"{call.method} {self._path}{call.path}{query} HTTP/1.1\r\n{self._head}"
        if call.body is not None:
            head += "Content-Type: application/json\r\n"
        request = f"{head}Content-Length: {len(body)}\r\n\r\n".encode() + body
        while True:
            kept = self._idle.pop() if self._idle else None
            try:
                connection = kept or await self._connect()
                status, answer = await self._ask(connection, request)
            except TimeoutError as error:
                raise self._target.not_reachable("it does not answer") from error
            except _BROKEN as error:
                if kept is None or not call.again:
                    raise self._target.not_reachable(error) from error
                continue
            return read_answer(self._target, status, answer)

    async def _connect(self) -> _Connection:
        path = self._target.socket_path()
        async with asyncio.timeout(CONNECT_SECONDS):
            if path:
                streams = await asyncio.open_unix_connection(path, limit=LONGEST_HEAD)
            else:
                streams = await asyncio.open_connection(
                    self._host, self._port, ssl=self._ssl, limit=LONGEST_HEAD
                )
        connection = _Connection(*streams)
        if path and not local_socket.is_trusted(streams[1].get_extra_info("socket"), path):
            connection.close()
            raise ConnectionRefusedError(local_socket.not_trusted(path))
        return connection

    async def _ask(self, connection: _Connection, request: bytes) -> tuple[int, bytes]:
        try:
            async with asyncio.timeout(ANSWER_SECONDS):
                status, answer, stays = await connection.ask(request)
        except BaseException:
            connection.close()
            raise
        if stays and len(self._idle) < MOST_IDLE:
            self._idle.append(connection)
        else:
            connection.close()
        return status, answer

    async def close(self) -> None:
        """Close all that are kept."""
        while self._idle:
            self._idle.pop().close()


class _Connection:
    """One connection."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader = reader
        self._writer = writer

    async def ask(self, request: bytes) -> tuple[int, bytes, bool]:
        """Send a request; its status, its body, and whether the connection stays open."""
        self._writer.write(request)
        await self._writer.drain()
        head = await self._reader.readuntil(b"\r\n\r\n")
        first, *lines = head[:-4].split(b"\r\n")
        version, status, *_ = first.split(b" ", 2)
        if not version.startswith(b"HTTP/1."):
            raise ValueError(f"{version[:20]!r} is not HTTP/1.1")
        headers = {
            name.strip().lower(): value.strip().lower()
            for name, _, value in (line.partition(b":") for line in lines)
        }
        if b"chunked" in headers.get(b"transfer-encoding", b""):
            body = await self._chunks()
        else:
            body = await self._reader.readexactly(int(headers.get(b"content-length", b"0")))
        return int(status), body, headers.get(b"connection") != b"close"

    async def _chunks(self) -> bytes:
        """A body in pieces, as a server in between may send it."""
        pieces = []
        while size := int((await self._reader.readuntil(b"\r\n")).partition(b";")[0], 16):
            pieces.append(await self._reader.readexactly(size))
            await self._reader.readexactly(2)
        while await self._reader.readuntil(b"\r\n") != b"\r\n":
            pass  # trailers
        return b"".join(pieces)

    def close(self) -> None:
        """Close it."""
        with contextlib.suppress(OSError, RuntimeError):
            self._writer.close()


async def blocks_on_thread(outgoing: Outgoing) -> AsyncIterator[bytes]:
    """Yield the blocks of a file, each read on a thread."""
    blocks = outgoing.blocks()
    while (block := await asyncio.to_thread(next, blocks, None)) is not None:
        yield block
