"""Watching live: what a step prints, what a run publishes, and links for end users' browsers."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import APIRouter, Header, Path, Query
from fastapi.responses import Response
from sse_starlette import EventSourceResponse

from yarnloom.engine import looking
from yarnloom.engine.states import STEP_ENDED
from yarnloom.engine.views import moment
from yarnloom.protocol.bodies import LinkBody
from yarnloom.service.answers import TheCore, answer, problems
from yarnloom.service.core import Core
from yarnloom.service.links import Link
from yarnloom.service.routes.runs import Address, RunNumber
from yarnloom.service.routes.system import PING
from yarnloom.service.strict import StrictRoute

router = APIRouter(route_class=StrictRoute, tags=["watching"])

BATCH = 500
# A page of the user's own application may use a link: it is the link that allows it.
ANY_PAGE = {"Access-Control-Allow-Origin": "*", "Cache-Control": "no-store"}
_SHOWN = (
    *("number", "workflow", "state", "outcome", "stop_asked", "progress", "output", "error"),
    *("round", "created_at", "started_at", "ended_at"),
)

LastId = Annotated[str | None, Header(max_length=100, alias="Last-Event-ID")]
Token = Annotated[str, Path(max_length=200)]


@router.get("/runs/{number}/published", responses=problems(404, 410))
async def published(
    core: TheCore,
    number: RunNumber,
    after: Annotated[int, Query(ge=0, le=2**53, description="Entries to leave out")] = 0,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1_000,
) -> Response:
    """What the run's steps published, in the order in which it came."""
    await core.run_row(number)
    return answer({"published": core.logs.read_published(number, after, limit)})


@router.get("/runs/{number}/published/live", responses=problems(404, 410))
async def published_live(
    core: TheCore, number: RunNumber, last_event_id: LastId = None
) -> EventSourceResponse:
    """The same as Server-Sent Events, as it comes, from behind `Last-Event-ID` on."""
    await core.run_row(number)
    after = _after(last_event_id)
    return EventSourceResponse(_published_events(core, number, after), ping=PING)


@router.get("/runs/{number}/log/live", responses=problems(404, 410, 422))
async def log_live(
    core: TheCore, number: RunNumber, address: Address, last_event_id: LastId = None
) -> EventSourceResponse:
    """What a step prints, as it comes, from attempt to attempt until it has ended.

    Ids are `ATTEMPT-LINE`; a reader that was cut off goes on behind `Last-Event-ID`.
    """
    await core.look_into(number, looking.step, address.partition("#")[0])
    events = _log_events(core, number, address, last_event_id)
    return EventSourceResponse(events, ping=PING)


@router.post("/runs/{number}/links", status_code=201, responses=problems(404, 410))
async def make_link(core: TheCore, number: RunNumber, body: LinkBody | None = None) -> Response:
    """A token with which whoever has it may watch this run, and nothing else, until it expires."""
    await core.run_row(number)
    seconds = (body or LinkBody()).seconds
    expires_at = int(time.time() + seconds)
    token = core.links.make(Link(number, expires_at))
    path = f"/api/v1/links/{token}/events"
    when = moment(expires_at * 1_000_000)
    return answer({"token": token, "path": path, "run": number, "expires_at": when}, 201)


@router.get("/links/{token}", responses=problems(403, 404, 410))
async def linked_run(core: TheCore, token: Token) -> Response:
    """The run of a link, as far as it may be seen: without its params, and who started it."""
    link = core.links.read(token, time.time())
    found = answer(_shown(await core.run(link.run)))
    found.headers.update(ANY_PAGE)
    return found


@router.get("/links/{token}/events", responses=problems(403, 404, 410))
async def linked_events(
    core: TheCore, token: Token, last_event_id: LastId = None
) -> EventSourceResponse:
    """The run's state, and what it publishes, as Server-Sent Events for a browser's EventSource.

    The state comes first, and whenever it changes. What was published comes from behind
    `Last-Event-ID` on, so that a browser that was cut off misses nothing.
    """
    link = core.links.read(token, time.time())
    await core.run_row(link.run)
    events = _link_events(core, link, _after(last_event_id))
    return EventSourceResponse(events, ping=PING, headers=ANY_PAGE)


def _after(last_id: str | None) -> int:
    return int(last_id) if last_id and last_id.isdigit() else 0


def _shown(run: dict[str, Any]) -> dict[str, Any]:
    return {name: run[name] for name in _SHOWN}


async def _published_events(core: Core, number: int, after: int) -> AsyncIterator[bytes]:
    """What is published, from an entry on, without end."""
    with core.logs.watch(run=number) as woken:
        while not core.closing:
            woken.clear()
            found = core.logs.read_published(number, after, BATCH)
            for entry in found:
                after = entry["line"] + 1
                yield core.hub.event("yarnloom.published", f"{number}", str(after), entry)
            if not found:
                await woken.wait()


async def _link_events(core: Core, link: Link, after: int) -> AsyncIterator[bytes]:
    """The state of a run at first and when it changes, and what it publishes."""
    number = link.run
    with core.logs.watch(run=number) as published, core.hub.listen(number) as changed:
        changed.set()
        while not core.closing and time.time() < link.expires_at:
            if changed.is_set():
                changed.clear()
                view = _shown(await core.run(number))
                yield core.hub.event("yarnloom.run.changed", f"{number}", str(after), view)
            published.clear()
            found = core.logs.read_published(number, after, BATCH)
            for entry in found:
                after = entry["line"] + 1
                yield core.hub.event("yarnloom.published", f"{number}", str(after), entry)
            if not found:
                await _first(published, changed, timeout=link.expires_at - time.time())
    if not core.closing:
        expired = {"expires_at": moment(link.expires_at * 1_000_000)}
        yield core.hub.event("yarnloom.link.expired", f"{number}", str(after), expired)


async def _log_events(
    core: Core, number: int, address: str, last_id: str | None
) -> AsyncIterator[bytes]:
    """Lines of a step's attempts, one after the other, until it has ended."""
    label, _, wanted = address.partition("#")
    attempt, _, text = (last_id or "").partition("-")
    after = int(text) if text.isdigit() else 0
    reached = int(attempt) if attempt.isdigit() else 0
    with core.hub.listen(number) as changed:
        while not core.closing:
            changed.clear()
            step = await core.look_into(number, looking.step, label)
            for one in _attempts_from(step, wanted, reached):
                if one["number"] != reached:
                    reached, after = one["number"], 0
                with core.logs.watch(attempt=one["id"]) as woken:
                    while not core.closing:
                        woken.clear()
                        lines = core.logs.read(one["id"], after, BATCH)
                        for line in lines:
                            after = line["line"] + 1
                            entry, place = {**line, "attempt": reached}, f"{reached}-{after}"
                            yield core.hub.event("yarnloom.line", f"{number}/{label}", place, entry)
                        if lines:
                            continue
                        # All that is there was told; if anything changed, it is looked at anew.
                        if one["outcome"] is not None or changed.is_set():
                            break
                        await _first(woken, changed)
            if _is_over(step, wanted):
                return
            await changed.wait()


def _attempts_from(step: dict[str, Any], wanted: str, reached: int) -> list[dict[str, Any]]:
    """The attempts whose lines are to be told: one, or from the newest or that reached on."""
    attempts: list[dict[str, Any]] = step["attempts"]
    if wanted.isdigit():
        return [one for one in attempts if one["number"] == int(wanted)]
    return [one for one in attempts if one["number"] >= reached] if reached else attempts[-1:]


def _is_over(step: dict[str, Any], wanted: str) -> bool:
    """Whether nothing more is printed."""
    if wanted.isdigit():
        return any(
            one["number"] == int(wanted) and one["outcome"] is not None for one in step["attempts"]
        )
    return step["state"] in STEP_ENDED


async def _first(*events: asyncio.Event, timeout: float | None = None) -> None:
    """Wait until one of some events is set."""
    waits = [asyncio.ensure_future(one.wait()) for one in events]
    try:
        await asyncio.wait(waits, timeout=timeout, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for wait in waits:
            wait.cancel()
