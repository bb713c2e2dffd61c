"""A transport that a test answers itself, in place of the network."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from typing import Any

from yarnloom.client import AsyncHttpStream, HttpRequest, HttpResponse, HttpStream


def answer_json(status: int, body: Any) -> HttpResponse:
    """An answer with a JSON body."""
    return HttpResponse(status, json.dumps(body).encode())


def body_of(request: HttpRequest) -> bytes:
    """The body of a request that is sent whole."""
    assert isinstance(request.content, bytes)
    return request.content


class FakeNetwork:
    """Answers each request of a client by a function."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self._answer = answer

    def request(self, request: HttpRequest) -> HttpResponse:
        """Answer a request."""
        return self._answer(request)

    @contextmanager
    def stream(self, request: HttpRequest) -> Iterator[HttpStream]:
        """Answer in one block."""
        answer = self._answer(request)
        yield HttpStream(answer.status, answer.headers, iter([answer.body]))

    def close(self) -> None:
        """Nothing is open."""


class AsyncFakeNetwork:
    """The same for asyncio."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self._answer = answer

    async def request(self, request: HttpRequest) -> HttpResponse:
        """Answer a request."""
        return self._answer(request)

    @asynccontextmanager
    async def stream(self, request: HttpRequest) -> AsyncIterator[AsyncHttpStream]:
        """Answer in one block."""
        answer = self._answer(request)

        async def blocks() -> AsyncIterator[bytes]:
            yield answer.body

        yield AsyncHttpStream(answer.status, answer.headers, blocks())

    async def close(self) -> None:
        """Nothing is open."""
