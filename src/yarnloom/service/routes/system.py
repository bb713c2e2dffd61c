"""The service itself: what it is, whether it is well, its events, and the viewer's token."""

from __future__ import annotations

import hmac
import os
from typing import Annotated

from fastapi import Header, Query
from fastapi.responses import Response
from pydantic import Field
from sse_starlette import EventSourceResponse

from yarnloom.errors import TokenNeeded
from yarnloom.protocol.bodies import TokenBody
from yarnloom.protocol.workflow_answers import HealthAnswer, ServiceAnswer
from yarnloom.service.http.api_router import api_router
from yarnloom.service.http.api_router import health_router as new_health_router
from yarnloom.service.http.guard import COOKIE
from yarnloom.service.route_helpers import TheCore, answer, problems
from yarnloom.version import VERSION

router = api_router("system")
health_router = new_health_router()

PING = 25


@router.get("/service", response_model=ServiceAnswer)
async def service(core: TheCore) -> Response:
    """Which service this is: id, version, data folder, and since when it runs."""
    return answer(
        ServiceAnswer,
        {
            "id": core.database.id,
            "version": VERSION,
            "data": str(core.database.folder),
            "starts": core.database.starts,
            "started_at": core.started_at,
            "commits_on": "thread" if core.writer.threaded else "loop",
            "pid": os.getpid(),
        },
    )


@router.get("/events", responses=problems(404, 410))
async def events(
    core: TheCore,
    run: Annotated[int | None, Query(ge=1, le=2**53, description="Only this run")] = None,
    graph: Annotated[
        list[Annotated[int, Field(ge=1, le=2**53)]] | None,
        Query(max_length=50, description="Of these runs the graphs too"),
    ] = None,
    after: Annotated[
        str | None, Query(max_length=100, description="As Last-Event-ID, for a new connection")
    ] = None,
    last_event_id: Annotated[str | None, Header(max_length=100)] = None,
) -> EventSourceResponse:
    """Server-Sent Events, each a CloudEvents 1.0 JSON object."""
    if run is not None:
        await core.runs.run_row(run)
    frames = core.hub.watch(run, last_event_id or after, graph or ())
    return EventSourceResponse(frames, ping=PING)


@router.post("/session", status_code=204, response_class=Response, responses=problems(403))
async def session(core: TheCore, body: TokenBody) -> Response:
    """Keep the token in a cookie, for the console."""
    if not hmac.compare_digest(body.token.encode(), core.settings.token.encode()):
        raise TokenNeeded("that is not this service's token")
    done = Response(status_code=204)
    done.set_cookie(COOKIE, body.token, httponly=True, samesite="strict", max_age=30 * 86_400)
    return done


@health_router.get("/health", response_model=HealthAnswer, include_in_schema=False)
async def health() -> Response:
    """The process answers."""
    return answer(HealthAnswer, {"status": "pass"})


@health_router.get("/ready", response_model=HealthAnswer, include_in_schema=False)
async def ready(core: TheCore) -> Response:
    """The service takes commands, and what `--load` names is published and worked for."""
    why = core.not_ready()
    return answer(
        HealthAnswer,
        {"status": "fail", "reason": why} if why else {"status": "pass"},
        503 if why else 200,
    )
