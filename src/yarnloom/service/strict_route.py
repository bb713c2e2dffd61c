"""What every route does before its handler: limits of size, known query parameters, a whole body.

Size is compared first, before anything is parsed. A small body is parsed here; a large one in
another process (`check_processes`), so that nothing that a client sends holds up the others.
"""

from __future__ import annotations

from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import Request
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Query
from fastapi.responses import Response
from fastapi.routing import APIRoute
from pydantic import BaseModel

from yarnloom.errors import InvalidInput, Problem, TooLarge, nearest
from yarnloom.side_process.check_values import parse_body

API = "/api/v1"
BODY_LIMIT = 2**20
BODY_LIMITS = {
    f"{API}/session": 4 * 2**10,
    f"{API}/runs/many": 8 * 2**20,
    f"{API}/workflows": 8 * 2**20,
    f"{API}/workers/{{worker}}/report": 8 * 2**20,
}
"""Bytes that the body of a route may have, where they differ from `BODY_LIMIT`. Files stream."""

PARSED_HERE = 128 * 2**10
"""A larger body is parsed and checked in another process."""


class BodyRequest(Request):
    """A request whose body has been read and parsed."""

    body_value: Any = None

    async def json(self) -> Any:
        """Return what the body holds."""
        return self.body_value


class StrictRoute(APIRoute):
    """A route that refuses what it does not know, and what is too large."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """Return the handler, behind the checks."""
        handle = super().get_route_handler()
        known = {
            get_flat_param.alias
            for get_flat_param in get_flat_params(self.dependant)
            if isinstance(get_flat_param.field_info, Query)
        }
        model = self.body_field.field_info.annotation if self.body_field else None
        limit = BODY_LIMITS.get(self.path, BODY_LIMIT)

        async def check_and_handle(request: Request) -> Response:
            _refuse_unknown(request, known)
            if self.body_field is None:
                return await handle(request)
            whole = BodyRequest(request.scope, request.receive)
            raw = await read_body(whole, limit)
            whole._body = raw  # the way that Starlette keeps what has been read
            if raw and _is_json(whole):
                whole.body_value = await _parsed(whole, _model_in(model), raw)
            return await handle(whole)

        return check_and_handle


async def read_body(request: Request, limit: int) -> bytes:
    """Return the body of a request.

    Raises:
        TooLarge: it is, or says that it will be, larger than the limit.
    """
    declared = request.headers.get("content-length", "")
    if declared.isdecimal() and len(declared) < 20 and int(declared) > limit:
        raise _too_large(int(declared), limit)
    blocks, size = [], 0
    async for block in request.stream():
        size += len(block)
        if size > limit:
            raise _too_large(size, limit)
        blocks.append(block)
    return b"".join(blocks)


def _too_large(size: int, limit: int) -> TooLarge:
    return TooLarge(
        f"the body has {size:,} bytes or more; at most {limit:,} are taken here. Send less at a "
        "time, or upload a file and name it"
    )


def _is_json(request: Request) -> bool:
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    return kind == "application/json" or (kind.startswith("application/") and kind[-5:] == "+json")


def _model_in(annotation: Any) -> type[BaseModel]:
    """The model of a body that may also be left out."""
    options = getattr(annotation, "__args__", (annotation,))
    model: type[BaseModel] = next(
        option for option in options if isinstance(option, type) and issubclass(option, BaseModel)
    )
    return model


async def _parsed(request: Request, model: type[BaseModel], raw: bytes) -> Any:
    """The body's value; of a large one the model itself."""
    if len(raw) > PARSED_HERE:
        return await request.app.state.core.checker.parse(model, raw)
    if raw.strip() == b"null":
        return None
    return parse_body(model, raw)


def _refuse_unknown(request: Request, known: set[str]) -> None:
    """Refuse query parameters that the route does not have: they would change what is meant."""
    given = request.query_params.keys()
    problems = [
        Problem(f"/{name[:100]}", f"there is no such query parameter{nearest(name[:100], known)}")
        for name in list(given)[:20]
        if name not in known
    ]
    if problems:
        raise InvalidInput("the query has parameters that are not known", problems=problems)
