"""The service itself: what it is, whether it is well, and its events."""

from __future__ import annotations

import os
from typing import Annotated

from fastapi import Header, Query, Request
from fastapi.responses import Response
from pydantic import Field
from sse_starlette import EventSourceResponse

from yarnloom.protocol.workflow_answers import HealthAnswer, ServiceAnswer
from yarnloom.service.access.route_roles import ANY
from yarnloom.service.http.api_router import api_router, takes
from yarnloom.service.http.api_router import health_router as new_health_router
from yarnloom.service.http.guard import is_known
from yarnloom.service.route_helpers import TheCore, answer, problems
from yarnloom.version import VERSION

router = api_router("system")
health_router = new_health_router()

PING = 25


@router.get("/service", response_model=ServiceAnswer)
@takes(*ANY)
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


@health_router.get("/health", response_model=HealthAnswer, include_in_schema=False)
async def health() -> Response:
    """The process answers."""
    return answer(HealthAnswer, {"status": "pass"})


@health_router.get("/ready", response_model=HealthAnswer, include_in_schema=False)
async def ready(core: TheCore, request: Request) -> Response:
    """The service takes commands, and what `--load` names is published and worked for.

    Only who may use the service is told why it does not.
    """
    why = core.not_ready()
    if not why:
        return answer(HealthAnswer, {"status": "pass"})
    told = {"reason": why} if is_known(request.scope) else {}
    return answer(HealthAnswer, {"status": "fail", **told}, 503)
