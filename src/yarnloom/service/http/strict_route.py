"""What every route does before its handler: limits of size, known query parameters, a whole body.

Size is compared first, before anything is parsed. A small body is parsed here; a large one in
another process (`check_processes`), so that nothing that a client sends holds up the others.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
from collections import Counter
from collections.abc import Callable, Coroutine, Iterable, Mapping
from itertools import islice
from types import UnionType
from typing import Annotated, Any, Union, get_args, get_origin

from fastapi import Request
from fastapi._compat import ModelField
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Path, Query
from fastapi.responses import Response
from fastapi.routing import APIRoute
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from yarnloom.errors import InvalidInput, Problem, TooLarge, nearest
from yarnloom.side_process.check_values import parse_body

API = "/api/v1"
BODY_LIMIT = 2**20
BODY_LIMITS = {
    f"{API}/session": 4 * 2**10,
    f"{API}/session/downloads": 8 * 2**10,
    f"{API}/tokens": 32 * 2**10,
    f"{API}/runs/many": 8 * 2**20,
    f"{API}/workflows": 8 * 2**20,
    f"{API}/workers/{{worker}}/report": 8 * 2**20,
}
"""Bytes that the body of a route may have, where they differ from `BODY_LIMIT`. Files stream."""

_FROM_WORKERS = {
    f"{API}/workers/{{worker}}/{operation}"
    for operation in ("ask", "report", "begin", "gone", "begin-effect", "end-effect")
}

_NUMBER = re.compile(r"-?[0-9]{1,25}(\.[0-9]{1,25})?([eE][+-]?[0-9]{1,3})?")

DROPPED_LIMIT = 64 * 2**20
"""Bytes of a body that is too large, which are read all the same before it is refused."""

DROPPED_SECONDS = 5.0
"""For the rest of it to arrive."""

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
        params = get_flat_params(self.dependant)
        known: dict[str, FieldInfo] = {
            param.alias: param.field_info for param in params if isinstance(param.field_info, Query)
        }
        known |= _in_models(self.dependant.query_params)
        in_path = {
            param.alias: param.field_info for param in params if isinstance(param.field_info, Path)
        }
        model = self.body_field.field_info.annotation if self.body_field else None
        limit = BODY_LIMITS.get(self.path, BODY_LIMIT)

        async def check_and_handle(request: Request) -> Response:
            _refuse_query(request, known)
            _refuse_numbers(request.path_params.items(), in_path)
            if self.body_field is None:
                return await handle(request)
            whole = BodyRequest(request.scope, request.receive)
            raw = await read_body(whole, limit)
            if self.path in _FROM_WORKERS:
                worker = request.path_params["worker"]
                request.app.state.core.need_worker(worker)  # first: a stranger's body is not read
            whole._body = raw  # the way that Starlette keeps what has been read
            if raw and _is_json(whole):
                can_be_null = type(None) in get_args(model)
                if not (can_be_null and raw.strip() == b"null"):
                    whole.body_value = await _parsed(whole, _model_in(model), raw)
            return await handle(whole)

        return check_and_handle


def _in_models(params: Iterable[ModelField]) -> dict[str, FieldInfo]:
    """Return the query parameters that are fields of a model, by name."""
    fields: dict[str, FieldInfo] = {}
    for param in params:
        model = param.field_info.annotation
        if isinstance(model, type) and issubclass(model, BaseModel):
            fields |= {field.alias or name: field for name, field in model.model_fields.items()}
    return fields


async def read_body(request: Request, limit: int) -> bytes:
    """Return the body of a request.

    The rest of a body that is too large is read and dropped, up to `DROPPED_LIMIT`: a client that
    still sends, while the connection is closed, sees a broken line and not the answer.

    Raises:
        TooLarge: it is, or says that it will be, larger than the limit.
    """
    text = request.headers.get("content-length", "")
    declared = int(text) if text.isdecimal() and len(text) < 20 else 0
    if declared > DROPPED_LIMIT:
        raise _too_large(declared, limit)
    blocks, size = [], 0
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(None) as patience:
            async for block in request.stream():
                size += len(block)
                if size > DROPPED_LIMIT:
                    break
                if max(size, declared) <= limit:
                    blocks.append(block)
                elif patience.when() is None:
                    patience.reschedule(asyncio.get_running_loop().time() + DROPPED_SECONDS)
    if max(size, declared) > limit:
        raise _too_large(max(size, declared), limit)
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
    return parse_body(model, raw)


def _refuse_query(request: Request, known: Mapping[str, FieldInfo]) -> None:
    """Refuse query parameters that the route does not have, or that are given twice.

    They would change what is meant.
    """
    given = request.query_params.multi_items()
    if not given:
        return
    counts = Counter(name for name, _ in given)
    problems = []
    for name, count in islice(counts.items(), 20):
        place = f"/{name[:100]}"
        if name not in known:
            hint = nearest(name[:100], known)
            problems.append(Problem(place, f"there is no such query parameter{hint}"))
        elif count > 1 and not _has_type(known[name].annotation, (list,)):
            problems.append(Problem(place, f"it is given {count} times; expected once"))
    if problems:
        raise InvalidInput("the query does not fit; see `problems`", problems=problems)
    _refuse_numbers(given, known)


def _refuse_numbers(given: Iterable[tuple[str, str]], known: Mapping[str, FieldInfo]) -> None:
    """Refuse numbers that only Python reads, as `1_0`, ` 7` and `٣`."""
    problems = [
        Problem(f"/{name}", f"found {value[:40]!r}; expected a number, as 10")
        for name, value in given
        if _has_type(known[name].annotation, (int, float))
        and not _NUMBER.fullmatch(value)
        and not (value == "" and _has_type(known[name].annotation, (type(None),)))
    ]
    if problems:
        raise InvalidInput("the request does not fit; see `problems`", problems=problems[:20])


def _has_type(annotation: Any, types: tuple[type, ...]) -> bool:
    """Whether an annotation is one of some types, or has one among its alternatives."""
    origin = get_origin(annotation)
    if origin in (Union, UnionType):
        return any(_has_type(option, types) for option in get_args(annotation))
    if origin is Annotated:
        return _has_type(get_args(annotation)[0], types)
    return (origin or annotation) in types
