"""Usual requests, answered before the framework.

Four operations are nearly all that a busy service is asked: a worker asks for work, and reports; a
client starts a run, and waits for its end. Where the request is the usual one, it is answered here,
by the functions that its route calls as well. Everything else goes on to the framework as it came:
other operations, queries and kinds of bodies, large ones, and those that do not fit.
"""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable
from typing import Any, NamedTuple

from pydantic import BaseModel
from starlette.types import ASGIApp, Receive, Scope, Send

from yarnloom.errors import YarnloomError
from yarnloom.protocol.bodies import StartBody
from yarnloom.protocol.worker_bodies import PollBody, ReportBody
from yarnloom.service.access.callers import CALLER, NOBODY, OWN_USER
from yarnloom.service.core import Core
from yarnloom.service.http.problems import problem_response
from yarnloom.service.http.strict_route import API, PARSED_HERE
from yarnloom.service.processes.check_processes import CLIENT
from yarnloom.service.routes import runs, workers
from yarnloom.side_process.check_values import parse_body

MOST_IN_HEADER = 200
MOST_IN_ID = 100
_RUNS, _RUN, _WORKER = f"{API}/runs", f"{API}/runs/", f"{API}/workers/"
_FORMS = (b"application/json",)
_NUMBER = re.compile(r"[1-9][0-9]{0,14}")
_WAIT = re.compile(rb"(?:wait=([0-9]{1,2}(?:\.[0-9]{1,6})?))?")
_LONGEST_WAIT = 25

Answer = tuple[bytes, int] | tuple[bytes, int, str]


class Asked(NamedTuple):
    """A usual request.

    Attributes:
        model: of its body; None where it has none.
        handle: answers it, given the core, the body and the rest of what the client sends.
        worker: the worker that it says it comes from; empty for none.
    """

    model: type[BaseModel] | None
    handle: Callable[[Core, Any, Receive], Awaitable[Answer]]
    worker: str = ""


class Direct:
    """Middleware that answers usual requests itself."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request, or pass it on."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        _note_client(scope)
        asked = _usual(scope)
        if asked is None:
            await self._app(scope, receive, send)
            return
        body: BaseModel | None = None
        if asked.model is not None:
            raw = await _whole_body(receive)
            if raw is None:
                return  # nobody is there to read an answer
            core: Core = scope["app"].state.core
            try:
                if asked.worker:
                    core.need_worker(asked.worker)
                body = parse_body(asked.model, raw)
            except YarnloomError as error:
                await problem_response(error)(scope, receive, send)
                return
        try:
            content, status, *location = await asked.handle(scope["app"].state.core, body, receive)
        except YarnloomError as error:
            await problem_response(error)(scope, receive, send)
            return
        length = str(len(content)).encode()
        headers = [(b"content-type", b"application/json"), (b"content-length", length)]
        headers += [(b"location", path.encode()) for path in location if path]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": content})


def _note_client(scope: Scope) -> None:
    """Remember for the request at hand who sent it."""
    host = (scope.get("client") or ("",))[0]
    who = next((value for name, value in scope["headers"] if name == b"yarnloom-who"), b"")
    CLIENT.set(f"{host} {who[:200].decode('latin-1')}")


def _usual(scope: Scope) -> Asked | None:
    """What a request asks, if it is a usual one."""
    path: str = scope["path"]
    if scope["method"] == "GET":
        return _wait(path[len(_RUN) :], scope["query_string"]) if path.startswith(_RUN) else None
    if scope["method"] != "POST" or scope["query_string"]:
        return None
    if path == _RUNS:
        return _start(scope)
    if path.startswith(_WORKER) and _is_small_json(_headers(scope)):
        worker, _, operation = path[len(_WORKER) :].partition("/")
        if not 0 < len(worker) <= MOST_IN_ID:
            return None
        if operation == "ask":
            return Asked(
                PollBody, lambda core, body, rest: workers.asked(core, rest, worker, body), worker
            )
        if operation == "report":
            return Asked(
                ReportBody, lambda core, body, _: workers.reported(core, worker, body), worker
            )
    return None


def _start(scope: Scope) -> Asked | None:
    headers = _headers(scope)
    said = headers.get(b"yarnloom-who", b"").decode("latin-1")
    key = headers.get(b"idempotency-key", b"").decode("latin-1")
    if not _is_small_json(headers) or max(len(said), len(key)) > MOST_IN_HEADER:
        return None
    caller = CALLER.get()
    who = said or NOBODY if caller is OWN_USER else caller.who(said)
    return Asked(StartBody, lambda core, body, _: runs.started(core, body, who, key or None))


def _wait(number: str, query: bytes) -> Asked | None:
    """The operation for a run's number, and `wait` in seconds."""
    wait = _WAIT.fullmatch(query)
    if wait is None or not _NUMBER.fullmatch(number):
        return None
    seconds = float(wait[1] or 0)
    if seconds > _LONGEST_WAIT:
        return None
    return Asked(None, lambda core, _, __: runs.shown(core, int(number), seconds))


def _headers(scope: Scope) -> dict[bytes, bytes]:
    """The headers by name; empty where one comes twice, which is not usual."""
    headers = dict(scope["headers"])
    return headers if len(headers) == len(scope["headers"]) else {}


def _is_small_json(headers: dict[bytes, bytes]) -> bool:
    """Whether a body is JSON, and its length known and small."""
    length = headers.get(b"content-length", b"")
    small = length.isdigit() and len(length) < 7 and int(length) <= PARSED_HERE
    return small and headers.get(b"content-type") in _FORMS


async def _whole_body(receive: Receive) -> bytes | None:
    """A request's body; None if the client has gone."""
    blocks = []
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            return None
        blocks.append(message.get("body", b""))
        if not message.get("more_body"):
            return b"".join(blocks)
