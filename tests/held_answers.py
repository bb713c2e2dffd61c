"""Every answer of a service that a test starts is held to the model that its route declares.

`install` wraps the application in the process of the service. A fault goes into a file that the
tests read: an answer with another field, or without one, fails the test in which it came.
"""

from __future__ import annotations

import gzip
import json
import os
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from fastapi.routing import APIRoute
from pydantic import TypeAdapter, ValidationError
from starlette.routing import Match
from starlette.types import ASGIApp, Message, Receive, Scope, Send

FILE_VARIABLE = "YARNLOOM_TEST_ANSWERS"

_read_from = 0


GZIP = b"\x1f\x8b"


def install() -> None:
    """Wrap each application that is made in this process from now on."""
    from yarnloom.service import server

    create = server.create_app

    def create_held(*arguments: Any, **options: Any) -> Any:
        app = create(*arguments, **options)
        app.add_middleware(_Held, routes=app.router.routes)
        return app

    server.create_app = create_held


class _Held:
    def __init__(self, app: ASGIApp, routes: list[Any]) -> None:
        self._app = app
        self._routes = routes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        status, is_json, body = 0, False, b""

        async def keep(message: Message) -> None:
            nonlocal status, is_json, body
            if message["type"] == "http.response.start":
                status = message["status"]
                is_json = (b"content-type", b"application/json") in message["headers"]
            elif is_json and scope["method"] != "HEAD":
                body += message.get("body", b"")
            await send(message)

        asked = dict(scope)
        await self._app(scope, receive, keep)
        if body and status < 300:
            for fault in self._faults(asked, status, body):
                line = f"{scope['method']} {scope['path']}: {fault}"[:1_000].replace("\n", " ")
                with Path(os.environ[FILE_VARIABLE]).open("a", encoding="utf-8") as file:
                    file.write(line + "\n")

    def _faults(self, scope: Scope, status: int, body: bytes) -> Iterator[str]:
        if scope["path"].endswith("/openapi.json"):
            return
        for route in self._routes:
            if not isinstance(route, APIRoute) or route.matches(scope)[0] is not Match.FULL:
                continue
            model = route.responses.get(status, {}).get("model", route.response_model)
            if model is None:
                yield f"the route declares no model for {status}"
                return
            value = json.loads(gzip.decompress(body) if body[:2] == GZIP else body)
            try:
                read = _adapter(model).validate_python(value)
            except ValidationError as error:
                yield f"does not fit {model}: {error}"
                return
            again = _adapter(model).dump_python(
                read, mode="json", by_alias=True, exclude_unset=True
            )
            if again != value:
                yield f"is more than {model} says: {_difference(value, again)}"
            return


@lru_cache
def _adapter(model: Any) -> TypeAdapter[Any]:
    return TypeAdapter(model)


def _difference(value: Any, again: Any, at: str = "") -> str:
    """Return the first place in which two values differ."""
    if isinstance(value, dict) and isinstance(again, dict):
        for name in {**value, **again}:
            if value.get(name, ...) != again.get(name, ...):
                return _difference(value.get(name, ...), again.get(name, ...), f"{at}/{name}")
    if isinstance(value, list) and isinstance(again, list) and len(value) == len(again):
        for index, (one, other) in enumerate(zip(value, again, strict=True)):
            if one != other:
                return _difference(one, other, f"{at}/{index}")
    return f"{at}: {value!r:.200} is {again!r:.200} there"


def new_faults() -> list[str]:
    """Return the faults that are new."""
    global _read_from  # noqa: PLW0603
    target = Path(os.environ[FILE_VARIABLE])
    if not target.exists() or target.stat().st_size <= _read_from:
        return []
    with target.open(encoding="utf-8") as file:
        file.seek(_read_from)
        text = file.read()
        _read_from = file.tell()
    return text.splitlines()
