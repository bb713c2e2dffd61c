"""Holding a service that runs beside a program."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path

from sse_starlette import EventSourceResponse

from yarnloom.errors import Busy
from yarnloom.protocol.holder_bodies import HoldBody
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router
from yarnloom.service.processes.worker_process import Helpers
from yarnloom.service.route_helpers import TheCore, problems
from yarnloom.service.routes.system import PING
from yarnloom.values import dump

WORKING_SECONDS = 10.0
LOOK_SECONDS = 0.02

router = api_router("system", changes=())


@router.post("/holders", responses=problems(404, 409, 422, 503))
async def hold(core: TheCore, body: HoldBody) -> EventSourceResponse:
    """Hold the service for as long as the request is open, and bring it newer code.

    The first event comes when the code is published and work is taken: it says whether the code was
    newer.
    """
    helpers = Helpers(
        tuple(body.load), body.workers, body.processes, Path(body.folder), path=tuple(body.path)
    )
    if core.looms.pending:
        await core.looms.ready()
    newer = await core.holders.bring(helpers, body.release)
    await _until_working(core)
    return EventSourceResponse(_held(core, newer=newer), ping=PING)


async def _until_working(core: Core) -> None:
    """Wait until work is taken.

    Raises:
        Busy: that takes too long, or the service is stopping.
    """
    until = asyncio.get_running_loop().time() + WORKING_SECONDS
    while why := core.not_ready():
        if core.closing or asyncio.get_running_loop().time() > until:
            raise Busy(why)
        await asyncio.sleep(LOOK_SECONDS)


async def _held(core: Core, *, newer: bool) -> AsyncIterator[bytes]:
    with core.holders.held():
        yield b"event: yarnloom.held\ndata: " + dump({"newer": newer}) + b"\n\n"
        await core.closed.wait()
