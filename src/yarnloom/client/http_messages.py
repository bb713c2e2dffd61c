"""Requests and answers of a transport, and its error."""

from __future__ import annotations

from collections.abc import AsyncIterable, AsyncIterator, Iterable, Iterator, Mapping
from contextlib import AbstractAsyncContextManager, AbstractContextManager
from dataclasses import dataclass, field
from typing import Protocol


@dataclass(frozen=True, slots=True)
class HttpRequest:
    """A request.

    Attributes:
        method: e.g. `GET`.
        url: the whole address, with its query.
        headers: by name.
        content: the body, or blocks of it; None for none.
    """

    method: str
    url: str
    headers: Mapping[str, str] = field(default_factory=dict)
    content: bytes | Iterable[bytes] | AsyncIterable[bytes] | None = None


@dataclass(frozen=True, slots=True)
class HttpResponse:
    """An answer, read whole."""

    status: int
    body: bytes = b""
    headers: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class HttpStream:
    """An answer, with its body block by block."""

    status: int
    headers: Mapping[str, str]
    blocks: Iterator[bytes]


@dataclass(frozen=True, slots=True)
class AsyncHttpStream:
    """The same for asyncio."""

    status: int
    headers: Mapping[str, str]
    blocks: AsyncIterator[bytes]


class ConnectionLost(Exception):  # it is no error of ours, and the client turns it into one
    """A request could not be sent, or its answer did not arrive.

    Attributes:
        connected: whether there was a connection, so that the request may have arrived.
        broke: whether the connection broke; then another may do at once.
    """

    def __init__(self, why: str, *, connected: bool = True, broke: bool = True) -> None:
        super().__init__(why)
        self.connected = connected
        self.broke = broke


class Transport(Protocol):
    """Sends the requests of a `Client`. A test gives one of its own."""

    def request(self, request: HttpRequest) -> HttpResponse:
        """Send a request; return the answer, whatever its status.

        Raises:
            ConnectionLost: none arrived.
        """

    def stream(self, request: HttpRequest) -> AbstractContextManager[HttpStream]:
        """Send a request and read the answer as it comes.

        Raises:
            ConnectionLost: none arrived; also raised while it is read.
        """

    def close(self) -> None:
        """Close the connections."""


class AsyncTransport(Protocol):
    """Sends the requests of an `AsyncClient`."""

    async def request(self, request: HttpRequest) -> HttpResponse:
        """Send a request; as of `Transport`."""

    def stream(self, request: HttpRequest) -> AbstractAsyncContextManager[AsyncHttpStream]:
        """Send a request whose answer is read as it comes; as of `Transport`."""

    async def close(self) -> None:
        """Close the connections."""
