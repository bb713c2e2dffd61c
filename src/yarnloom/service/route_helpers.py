"""Helpers of all routes: the core of a request, who asks, and answers as JSON."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Header, Request
from fastapi.responses import Response
from pydantic import BaseModel

from yarnloom.service.access.callers import CALLER
from yarnloom.service.core import Core
from yarnloom.service.http.openapi import problem_responses
from yarnloom.service.render.answers import encode
from yarnloom.values import JsonObject, dump

# Dependencies are coroutines although they wait for nothing: others are run on a thread.


async def core_of(request: Request) -> Core:
    """The core of the app that a request came to."""
    core: Core = request.app.state.core
    return core


async def who_asks(yarnloom_who: Annotated[str, Header(max_length=200)] = "") -> str:
    """Return the caller for the record, with the person that the header `Yarnloom-Who` names."""
    return CALLER.get().who(yarnloom_who)


TheCore = Annotated[Core, Depends(core_of)]
Asker = Annotated[str, Depends(who_asks)]


def answer(model: type[BaseModel], value: object, status: int = 200) -> Response:
    """Return an answer of a model.

    Args:
        model: of the answer.
        value: a record with the model's fields, or a dict of them.
        status: of HTTP.
    """
    return json_answer(encode(model, value), status)


def flat_answer(value: JsonObject, status: int = 200) -> Response:
    """Return an answer that is a JSON object already."""
    return json_answer(dump(value), status)


def json_answer(content: bytes, status: int = 200, location: str = "") -> Response:
    """Return JSON text as an answer, with the path of what was made."""
    headers = {"Location": location} if location else None
    return Response(content, status, headers, media_type="application/json")


def problems(*statuses: int) -> dict[int | str, JsonObject]:
    """The OpenAPI entry for the problems that a route answers with."""
    return problem_responses(statuses)
