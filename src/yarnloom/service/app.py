"""The ASGI application."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI

from yarnloom.service import console, problems
from yarnloom.service.core import Core
from yarnloom.service.guard import Guard
from yarnloom.service.routes import (
    control,
    exporting,
    files,
    looms,
    overview,
    pools,
    runs,
    schedules,
    system,
    watching,
    workers,
)
from yarnloom.service.settings import ServiceSettings
from yarnloom.store import Database
from yarnloom.version import VERSION

API = "/api/v1"
_ROOMS = (
    *(runs, control, watching, exporting, files, looms, pools, schedules, workers),
    *(overview, system),
)
MAX_BODY = 64 * 1024 * 1024


def create_app(settings: ServiceSettings, database: Database) -> FastAPI:
    """The service's application over an opened data folder.

    Args:
        settings: how it runs.
        database: closed when the application ends.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        core = app.state.core = Core(settings, database)
        try:
            yield
        finally:
            core.close_gates()
            core.close()

    app = FastAPI(
        title="Yarn Loom",
        version=VERSION,
        summary="Durable background work for Python.",
        openapi_url=f"{API}/openapi.json",
        docs_url=None,
        redoc_url=None,
        lifespan=lifespan,
        max_body_size=MAX_BODY,
    )
    problems.install(app)
    for room in _ROOMS:
        app.include_router(room.router, prefix=API)
    app.include_router(system.health_router)
    app.include_router(console.router)
    app.add_middleware(Guard, settings=settings)
    return app
