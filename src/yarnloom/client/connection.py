"""Made from `async_connection.py` by `make generate`: change that file instead."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import httpx
from httpx_sse import EventSource

from yarnloom.client import http_requests
from yarnloom.client.http_limits import TRIES
from yarnloom.client.http_messages import ConnectionLost, HttpRequest, HttpStream, Transport
from yarnloom.client.http_requests import API, Request
from yarnloom.client.network import Network
from yarnloom.client.target import Target
from yarnloom.errors import Busy, NotReachable
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    pass

PAGE = 200
FIRST_PAUSE, LONGEST_PAUSE = 0.05, 1.0
"""Seconds between two tries to reach a service that comes up."""


class Connection:
    """The connection that every part of a client shares."""

    def __init__(
        self,
        url: str | None = None,
        *,
        token: str | None = None,
        who: str | None = None,
        target: Target | None = None,
        transport: Transport | None = None,
        wait_for_service: Duration = 0,
    ) -> None:
        self.target = target or Target.find(url, token)
        self._patience = seconds(wait_for_service)
        who = who or http_requests.default_who("python")
        self._headers = self.target.headers(who)
        self._transport: Transport = transport or Network(self.target)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._transport.close()

    def show_too(self, name: str, value: str) -> None:
        """Send a header with every request from now on."""
        self._headers[name] = value

    def call(self, request: Request) -> Any:
        """Send a request, again where that is safe and the connection broke; JSON as it comes.

        With `wait_for_service` also while nothing answers, or the service says that it is busy.

        Raises:
            YarnloomError: as the answer says.
            NotReachable: nothing answers.
        """
        until = time.monotonic() + self._patience
        pause = FIRST_PAUSE
        while True:
            try:
                return self._call_once(request)
            except (NotReachable, Busy) as error:
                left = until - time.monotonic()
                if left <= 0 or not (request.again or isinstance(error, Busy)):
                    raise
            time.sleep(min(pause, left))
            pause = min(LONGEST_PAUSE, pause * 2)

    def _call_once(self, request: Request) -> Any:
        json_type = {"Content-Type": "application/json"} if request.body is not None else {}
        sent = self._request(
            request.method, request.path, request.query, headers=json_type, content=request.content
        )
        for tries_left in reversed(range(TRIES)):
            try:
                answer = self._transport.request(sent)
            except ConnectionLost as error:
                if not (error.broke and request.again and tries_left):
                    raise self.target.not_reachable(error) from error
            else:
                return http_requests.read_answer(self.target, answer.status, answer.body)
        raise AssertionError("the loop returns or raises")

    def stream(
        self, path: str, query: Mapping[str, JsonValue] | None = None, *, ends: bool = False
    ) -> Iterator[JsonObject]:
        """The events of a path; after a broken connection from where it broke.

        Args:
            path: below `/api/v1`.
            query: its parameters.
            ends: whether the service ends the stream when there is nothing more to come.
        """
        last_id, failures = "", 0
        while True:
            headers = {"Accept": "text/event-stream", "Cache-Control": "no-store"}
            if last_id:
                headers["Last-Event-ID"] = last_id
            try:
                request = self._request("GET", path, query, headers=headers)
                with self._transport.stream(request) as source:
                    self._refuse(source)
                    answer = httpx.Response(
                        source.status, headers=source.headers, content=source.blocks
                    )
                    for event in EventSource(answer).iter_sse():
                        failures = 0
                        if event.data:
                            last_id = event.id or last_id
                            yield json.loads(event.data)
                if ends:
                    return
            except ConnectionLost as error:
                failures += 1
                if failures > 6:
                    raise self.target.not_reachable(error) from error
            time.sleep(min(5.0, 0.1 * 2**failures))

    def _get(self, path: str, **query: JsonValue) -> Any:
        given = {name: value for name, value in query.items() if value is not None}
        return self.call(Request("GET", path, query=given))

    def pages(
        self, path: str, field: str, query: JsonObject, limit: int | None
    ) -> Iterator[JsonObject]:
        """Go through the records of a list, page by page."""
        cursor, left = None, limit
        while left is None or left > 0:
            size = PAGE if left is None else min(PAGE, left)
            page = self._get(path, **{**query, "limit": size, "cursor": cursor})
            yield from page[field]
            left = None if left is None else left - len(page[field])
            cursor = page["next"]
            if cursor is None:
                return

    def _request(
        self,
        method: str,
        path: str,
        query: Mapping[str, JsonValue] | None = None,
        *,
        headers: Mapping[str, str] | None = None,
        content: Any = None,
    ) -> HttpRequest:
        asked = f"?{http_requests.query_text(query)}" if query else ""
        url = f"{self.target.url}{API}{path}{asked}"
        return HttpRequest(method, url, {**self._headers, **(headers or {})}, content)

    def _refuse(self, source: HttpStream) -> None:
        """Raise the error of an answer that refuses."""
        if source.status >= 400:
            body = b""
            for block in source.blocks:
                body += block
            http_requests.read_answer(self.target, source.status, body)

    def blocks(self, path: str, query: Mapping[str, JsonValue] | None = None) -> Iterator[bytes]:
        """The body of an answer, block by block."""
        try:
            with self._transport.stream(self._request("GET", path, query)) as source:
                self._refuse(source)
                yield from source.blocks
        except ConnectionLost as error:
            raise self.target.not_reachable(error) from error
