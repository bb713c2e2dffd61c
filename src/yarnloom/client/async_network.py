"""The network as a transport for asyncio. `make generate` makes `network.py` from it."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import httpx

from yarnloom.client.http_limits import NO_LIMIT, TIMEOUT
from yarnloom.client.http_messages import AsyncHttpStream, ConnectionLost, HttpRequest, HttpResponse
from yarnloom.client.target import Target
from yarnloom.client.unix_backend import AsyncUnixTransport
from yarnloom.media_types import BLOCK

_BROKEN = (httpx.RemoteProtocolError, httpx.ReadError, httpx.WriteError)


class AsyncNetwork:
    """Sends requests over the network.

    Args:
        target: the service. A local one is reached without a proxy.
    """

    def __init__(self, target: Target) -> None:
        # Certificates are loaded only where TLS is spoken; on this machine no proxy is between.
        own = AsyncUnixTransport(target) if target.local and not target.secure else None
        self._http = httpx.AsyncClient(
            timeout=TIMEOUT,
            limits=NO_LIMIT,
            trust_env=not target.local,
            verify=target.secure,
            transport=own,
        )

    async def request(self, request: HttpRequest) -> HttpResponse:
        """Send a request.

        Raises:
            ConnectionLost: no answer arrived.
        """
        try:
            answer = await self._http.send(self._built(request))
        except (httpx.TransportError, httpx.InvalidURL) as error:
            raise lost(error) from error
        return HttpResponse(answer.status_code, answer.content, answer.headers)

    @asynccontextmanager
    async def stream(self, request: HttpRequest) -> AsyncIterator[AsyncHttpStream]:
        """Send a request and read the answer as it comes.

        Raises:
            ConnectionLost: no answer arrived, or it broke off.
        """
        try:
            answer = await self._http.send(self._built(request), stream=True)
        except (httpx.TransportError, httpx.InvalidURL) as error:
            raise lost(error) from error
        try:
            yield AsyncHttpStream(answer.status_code, answer.headers, self._blocks(answer))
        finally:
            await answer.aclose()

    async def _blocks(self, answer: httpx.Response) -> AsyncIterator[bytes]:
        # Events are read as they come; of a file the blocks are as large as they may be.
        size = None if "text/event-stream" in answer.headers.get("content-type", "") else BLOCK
        try:
            async for block in answer.aiter_bytes(size):
                yield block
        except httpx.TransportError as error:
            raise lost(error) from error

    def _built(self, request: HttpRequest) -> httpx.Request:
        return self._http.build_request(
            request.method, request.url, headers=request.headers, content=request.content
        )

    async def close(self) -> None:
        """Close the connections."""
        await self._http.aclose()


def lost(error: Exception) -> ConnectionLost:
    """Return our error for an error of the library."""
    connected = not isinstance(error, httpx.ConnectError | httpx.InvalidURL)
    return ConnectionLost(str(error), connected=connected, broke=isinstance(error, _BROKEN))
