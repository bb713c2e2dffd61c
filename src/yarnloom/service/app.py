"""The ASGI application."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from fastapi.routing import APIRoute

from yarnloom.engine import MOST_WORK, Engine, EngineSettings, Verdicts
from yarnloom.service.access.route_roles import RouteRoles
from yarnloom.service.core import Core
from yarnloom.service.group_commit import system_clock
from yarnloom.service.http import console_files, problems
from yarnloom.service.http.guard import Guard, HeadRequests, JsonAnswers
from yarnloom.service.http.openapi import describe
from yarnloom.service.http.strict_route import API
from yarnloom.service.routes import (
    access,
    exports,
    files,
    filters,
    holders,
    log_lines,
    overview,
    pools,
    run_actions,
    runs,
    schedules,
    system,
    workers,
    workflows,
)
from yarnloom.service.routes.fast_lane import Direct
from yarnloom.service.settings import ServiceSettings
from yarnloom.store import Database, LogFile
from yarnloom.version import VERSION

_ROOMS = (
    *(runs, filters, run_actions, log_lines, exports, files, workflows, pools, schedules, workers),
    *(overview, system, access, holders),
)
_ABOUT = """\
Start runs, watch them, and decide about them. Choose an operation on the left; it can be tried
here, and acts on this service.

- `POST /api/v1/runs` starts a run: `{"workflow": "yearly-almanac", "params": {"year": 2027}}`.
  Send an `Idempotency-Key` header to be able to send it again.
- `GET /api/v1/runs/{number}?wait=25` answers as soon as the run has ended.
- `GET /api/v1/events` is a stream of what changes, as Server-Sent Events.

What is wrong with a request is answered as a problem (RFC 9457), with a JSON Pointer to each bad
input.
"""


def route_roles() -> RouteRoles:
    """Return which roles each operation takes."""
    return RouteRoles(pair for room in _ROOMS for pair in room.router.with_roles())


def create_app(
    settings: ServiceSettings,
    database: Database,
    log_file: LogFile,
    looms: str = "",
    release: float = 0.0,
) -> FastAPI:
    """The service's application over an opened data folder.

    Args:
        settings: how it runs.
        database: closed when the application ends.
        log_file: of the same folder; closed when the application ends.
        looms: what is published at the start; empty for nothing.
        release: of the code of that.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        verdicts = Verdicts(MOST_WORK)
        told = EngineSettings(
            lease=settings.lease, keep_files=settings.keep_files, verdicts=verdicts
        )
        engine = Engine(database, system_clock(), told)
        core = app.state.core = Core(settings, database, log_file, engine, verdicts, looms, release)
        try:
            yield
        finally:
            core.close_gates()
            core.close()

    app = FastAPI(
        title="Yarn Loom",
        version=VERSION,
        summary="Durable background work for Python.",
        description=_ABOUT,
        openapi_url=f"{API}/openapi.json",
        docs_url=None,
        redoc_url=None,
        lifespan=lifespan,
    )
    problems.install(app)
    for room in _ROOMS:
        for route in room.router.routes:
            if isinstance(route, APIRoute):  # the first line of what it says of itself
                route.summary = route.description.partition("\n")[0].rstrip(".")
        app.router.routes += room.router.routes
    app.router.routes += [*system.health_router.routes, *console_files.router.routes]
    roles = route_roles()
    describe(app, API, roles)
    app.add_middleware(Direct)
    app.add_middleware(JsonAnswers)
    app.add_middleware(HeadRequests)
    app.add_middleware(Guard, settings=settings, roles=roles)
    return app
