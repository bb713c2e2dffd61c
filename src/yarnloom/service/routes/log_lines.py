"""Watching live: what a step prints, what a run publishes, and links for end users' browsers."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import AsyncIterator, Iterator
from dataclasses import asdict
from itertools import islice
from typing import Annotated

from fastapi import Header, Path, Query
from fastapi.responses import Response
from sse_starlette import EventSourceResponse

from yarnloom.engine.commands import MakeLink, RevokeLink
from yarnloom.engine.queries import run_graph
from yarnloom.engine.queries.log_records import link_record
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.parts import AttemptRecord, PartRecord, StepRecord
from yarnloom.engine.records.runs import LinkRecord, RunRecord
from yarnloom.engine.rules.states import STEP_ENDED
from yarnloom.errors import InvalidInput, NotAllowed, Problem
from yarnloom.protocol.bodies import LinkBody
from yarnloom.protocol.overview_answers import LineList
from yarnloom.protocol.part_answers import PublishedList
from yarnloom.protocol.run_answers import LinkAnswer, LinkedRun, LinkList, MadeLink
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router, takes
from yarnloom.service.render.answers import show
from yarnloom.service.route_helpers import Asker, TheCore, answer, flat_answer, problems
from yarnloom.service.routes.runs import Address, RunNumber
from yarnloom.service.routes.system import PING
from yarnloom.service.runs.log_buffer import Whole
from yarnloom.store import Printed, Record
from yarnloom.store.logs.log_chunks import Wanted
from yarnloom.store.logs.log_records import Line, Mark
from yarnloom.store.runs import link_records
from yarnloom.units import iso_time, whole_number
from yarnloom.values import JsonObject

router = api_router("watching", changes=("operate",))

BATCH = 500
# A page of the user's own application may use a link: it is the link that allows it.
ANY_PAGE = {"Access-Control-Allow-Origin": "*", "Cache-Control": "no-store"}
_LINK_HEADERS = {
    **ANY_PAGE,
    "Access-Control-Allow-Headers": "Yarnloom-Link, Last-Event-ID, Cache-Control",
    "Access-Control-Max-Age": "7200",
}
_SHOWN = ("number", "state", "progress", "created_at", "started_at", "ended_at")
_DETAILS = ("workflow", "outcome", "stop_asked", "output", "error", "round")

_PUBLISHED_SHOWN = ("line", "at", "value", "to", "append", "attempt")
"""Of something published what an end user sees: a new attempt begins a growing text anew."""

STEPS_SHOWN = 200
"""Of a run by a link with details."""

MOST_WAITING = 5_000
"""Lines that wait for a reader of all runs."""

BREATH = 0.2
"""Seconds between two looks at what a whole run prints."""

MarkText = Annotated[str, Query(pattern=r"^([0-9]{1,15}-[0-9]{1,15})?$")]
SoughtText = Annotated[str, Query(max_length=200, description="In a line")]
LastId = Annotated[str | None, Header(max_length=100, alias="Last-Event-ID")]
Token = Annotated[str, Path(max_length=200)]
LinkHeader = Annotated[
    str, Header(max_length=200, alias="Yarnloom-Link", description="What is in the fragment")
]


@router.get("/runs/{number}/published", response_model=PublishedList, responses=problems(404, 410))
async def published(
    core: TheCore,
    number: RunNumber,
    after: Annotated[int, Query(ge=0, le=2**53, description="Entries to leave out")] = 0,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1_000,
) -> Response:
    """What the run's steps published, in the order in which it came."""
    await core.runs.run_row(number)
    return flat_answer({"published": await core.logs.published(number, after, limit)})


@router.get("/runs/{number}/published/live", responses=problems(404, 410))
async def published_live(
    core: TheCore, number: RunNumber, last_event_id: LastId = None
) -> EventSourceResponse:
    """The same as Server-Sent Events, as it comes, from behind `Last-Event-ID` on."""
    await core.runs.run_row(number)
    after = _after(last_event_id)
    return EventSourceResponse(_published_events(core, number, after), ping=PING)


@router.get("/runs/{number}/log/live", responses=problems(404, 410, 422))
async def log_live(
    core: TheCore,
    number: RunNumber,
    address: Address,
    text: SoughtText = "",
    last_event_id: LastId = None,
) -> EventSourceResponse:
    """What a step prints, as it comes, from attempt to attempt until it has ended.

    Ids are `ATTEMPT-LINE`; a reader that was cut off goes on behind `Last-Event-ID`.
    """
    await core.runs.look_into(number, run_graph.step, address.partition("#")[0])
    events = _log_events(core, number, address, text, last_event_id)
    return EventSourceResponse(events, ping=PING)


@router.get("/runs/{number}/lines", response_model=LineList, responses=problems(404, 410, 422))
async def lines(
    core: TheCore,
    number: RunNumber,
    address: Address = "",
    text: SoughtText = "",
    after: Annotated[MarkText, Query(description="The mark behind which lines begin")] = "",
    before: Annotated[MarkText, Query(description="The mark before which lines end")] = "",
    newest: Annotated[bool, Query(description="The newest lines, in place of the first")] = False,
    limit: Annotated[int, Query(ge=1, le=5_000)] = 500,
) -> Response:
    """What all steps of a run printed, or those at an address, in the order in which it arrived.

    A page that is searched for a text may have fewer lines than the limit, and yet a `next`: the
    mark to give as `after`, or as `before` where the newest were asked for.
    """
    if after and (before or newest):
        raise InvalidInput(
            "found `after` with `before` or `newest`; expected one direction",
            problems=[Problem("/after", "not together with `before` or `newest`")],
        )
    await _state_at(core, number, address)
    wanted = Wanted(limit, address.strip("/"), text)
    if before or newest:
        page = await core.logs.lines_before(number, Mark.of(before), wanted)
    else:
        page = await core.logs.lines_after(number, Mark.of(after) or Mark(), wanted)
    following = None if page.next is None else str(page.next)
    return flat_answer({"lines": page.lines, "next": following, "end": str(page.end)})


@router.get("/runs/{number}/lines/live", responses=problems(404, 410, 422))
async def lines_live(
    core: TheCore,
    number: RunNumber,
    address: Address = "",
    text: SoughtText = "",
    after: Annotated[MarkText, Query(description="The mark behind which lines begin")] = "",
    last_event_id: LastId = None,
) -> EventSourceResponse:
    """What all steps of a run print, or those at an address, until that has ended.

    Ids are marks; a reader that was cut off goes on behind `Last-Event-ID`.
    """
    await _state_at(core, number, address)
    mark = Mark.of(last_event_id or after) or Mark()
    wanted = Wanted(BATCH, address.strip("/"), text)
    return EventSourceResponse(_line_events(core, number, mark, wanted), ping=PING)


async def _state_at(core: Core, number: int, address: str) -> str | None:
    """Return the state of a run, or of the part of it at an address.

    Raises:
        NotFound: the address leads nowhere.
    """
    if not address.strip("/"):
        return (await core.runs.run(number)).state
    return (await core.runs.graph(number, address)).part.state


@router.post(
    "/runs/{number}/links", status_code=201, response_model=MadeLink, responses=problems(404, 410)
)
async def make_link(
    core: TheCore, who: Asker, number: RunNumber, body: LinkBody | None = None
) -> Response:
    """Make a link: whoever has it may watch this run, and nothing else, until it expires."""
    await core.runs.run_row(number)
    body = body or LinkBody()
    link: LinkRecord = await core.submit(MakeLink(number, body.seconds, body.details, who))
    token = core.links.token(link.id)
    told = {
        "token": token,
        "address": f"{core.address}/link#{token}",
        "path": f"/api/v1/links/{token}/events",
    }
    return answer(MadeLink, {**asdict(link), **told}, 201)


@router.get("/runs/{number}/links", response_model=LinkList, responses=problems(404, 410))
async def list_links(
    core: TheCore,
    number: RunNumber,
    cursor: Annotated[int | None, Query(ge=1, le=2**53)] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> Response:
    """The links to a run, newest first, those that expired within 30 days too."""
    await core.runs.run_row(number)
    rows = await core.read(link_records.links, number, cursor, limit)
    following = str(rows[-1]["id"]) if len(rows) == limit else None
    return answer(LinkList, {"links": [link_record(row) for row in rows], "next": following})


@router.delete(
    "/runs/{number}/links/{link}", response_model=LinkAnswer, responses=problems(404, 409, 410)
)
async def revoke_link(
    core: TheCore,
    who: Asker,
    number: RunNumber,
    link: Annotated[int, Path(ge=1, le=2**53)],
    reason: Annotated[str, Query(max_length=2_000, description="Why, for the record")] = "",
) -> Response:
    """End a link before its time; whoever watches with it is cut off."""
    return answer(LinkAnswer, await core.submit(RevokeLink(number, link, who, reason)))


@router.get("/links/{token}", response_model=LinkedRun, responses=problems(403, 404, 410))
@takes("anybody")
async def linked_run(core: TheCore, token: Token) -> Response:
    """The run of a link, as far as the link shows it."""
    link = await _opened(core, token)
    found = answer(LinkedRun, await _shown(core, link))
    found.headers.update(ANY_PAGE)
    return found


@router.get("/link", response_model=LinkedRun, responses=problems(403, 404, 410))
@takes("anybody")
async def shown_by_header(core: TheCore, yarnloom_link: LinkHeader) -> Response:
    """Show the run of a link. Its secret is in a header, so that no log has it."""
    return await linked_run(core, yarnloom_link)


@router.get("/link/events", responses=problems(403, 404, 410))
@takes("anybody")
async def events_by_header(
    core: TheCore, yarnloom_link: LinkHeader, last_event_id: LastId = None
) -> EventSourceResponse:
    """Follow the run of a link. Its secret is in a header, so that no log has it."""
    return await linked_events(core, yarnloom_link, last_event_id)


@router.options("/link", include_in_schema=False)
@router.options("/link/events", include_in_schema=False)
@takes("anybody")
async def allowed_from_elsewhere() -> Response:
    """What a page of another site may send: browsers ask before they do."""
    return Response(status_code=204, headers=_LINK_HEADERS)


@router.get("/links/{token}/events", responses=problems(403, 404, 410))
@takes("anybody")
async def linked_events(
    core: TheCore, token: Token, last_event_id: LastId = None
) -> EventSourceResponse:
    """The run's state, and what it publishes, as Server-Sent Events for a browser's EventSource.

    The state comes first, and whenever it changes. What was published comes from behind
    `Last-Event-ID` on, so that a browser that was cut off misses nothing.
    """
    link = await _opened(core, token)
    await core.runs.run_row(link["run"])
    events = _link_events(core, link, _after(last_event_id))
    return EventSourceResponse(events, ping=PING, headers=ANY_PAGE)


async def _opened(core: Core, token: str) -> Record:
    """What the link of a token allows.

    Raises:
        NotAllowed: nothing, or nothing more.
    """
    link = await core.read(link_records.link, core.links.read(token))
    if link is None or link["expires_at"] <= time.time() * 1_000_000:
        raise NotAllowed("this link has expired; ask for a new one")
    if link["revoked_at"] is not None:
        raise NotAllowed("this link was revoked; ask for a new one")
    return link


def _after(last_id: str | None) -> int:
    return whole_number(last_id or "") or 0


async def _shown(core: Core, link: Record) -> JsonObject:
    """A run as a link shows it: for an end user, or with details for a colleague.

    An end user is told numbers and what the task says of itself, not what parts are called.
    """
    run = await core.runs.show(link["run"], plain=not link["details"])
    names = (*_SHOWN, *(_DETAILS if link["details"] else ()))
    message = _plain_message(run, details=bool(link["details"]))
    shown = {**{name: getattr(run, name) for name in names}, "message": message}
    if link["details"]:
        graph = await core.runs.graph(link["run"])
        shown["steps"] = list(islice(_steps_of(graph.part), STEPS_SHOWN))
    return shown


def _steps_of(part: PartRecord) -> Iterator[JsonObject]:
    """Yield the steps and eaches below a part, in the order of the plan."""
    if part.parts:
        for child in part.parts:
            yield from _steps_of(child)
    elif part.standing is not None and part.address:
        yield {"address": part.address, "state": str(part.standing.state)}


def _plain_message(run: RunRecord, *, details: bool) -> str:
    """Say how it is with a run; an error's text can hold anything, so it is a detail."""
    error = (run.error or StepError()).get("message", "") if details else ""
    words = {"done": "It is done.", "failed": "It has failed.", "cancelled": "It was cancelled."}
    said = words.get(run.state, f"It is {run.state}.")
    first = error.partition("\n")[0][:200]
    return f"{said[:-1]}: {first}" if first and run.state == "failed" else said


def _published_by(link: Record, entry: Line) -> JsonObject:
    """Return something published as a link shows it: without the name of its step."""
    return (
        dict(entry)
        if link["details"]
        else {name: entry[name] for name in _PUBLISHED_SHOWN if name in entry}
    )


async def _published_events(core: Core, number: int, after: int) -> AsyncIterator[bytes]:
    """What is published, from an entry on, without end."""
    with core.logs.watch(number) as woken:
        while not core.closing:
            woken.clear()
            found = await core.logs.published(number, after, BATCH)
            for entry in found:
                after = entry["line"] + 1
                yield core.hub.event("yarnloom.published", f"{number}", str(after), entry)
            if not found:
                await woken.wait()


async def _link_events(core: Core, link: Record, after: int) -> AsyncIterator[bytes]:
    """The state of a run at first and when it changes, and what it publishes."""
    number, until = link["run"], link["expires_at"] / 1_000_000
    revoked = False
    with core.logs.watch(number) as published, core.hub.listen(number) as changed:
        changed.set()
        while not core.closing and time.time() < until:
            if changed.is_set():
                changed.clear()
                now = await core.read(link_records.link, link["id"])
                if revoked := now is None or now["revoked_at"] is not None:
                    break
                shown = show(LinkedRun, await _shown(core, link))
                yield core.hub.event("yarnloom.run.changed", f"{number}", str(after), shown)
            published.clear()
            found = await core.logs.published(number, after, BATCH)
            for entry in found:
                after = entry["line"] + 1
                value = _published_by(link, entry)
                yield core.hub.event("yarnloom.published", f"{number}", str(after), value)
            if not found:
                await _first(published, changed, timeout=until - time.time())
    if not core.closing:
        ended = {"expires_at": iso_time(link["expires_at"]), "revoked": revoked}
        yield core.hub.event("yarnloom.link.expired", f"{number}", str(after), ended)


async def _log_events(
    core: Core, number: int, address: str, text: str, last_id: str | None
) -> AsyncIterator[bytes]:
    """Lines of a step's attempts, one after the other, until it has ended."""
    label, _, wanted = address.partition("#")
    attempt, _, line_of = (last_id or "").partition("-")
    after, reached = whole_number(line_of) or 0, whole_number(attempt) or 0
    sought = text.casefold()
    with core.hub.listen(number) as changed:
        while not core.closing:
            changed.clear()
            step = await core.runs.look_into(number, run_graph.step, label)
            for one in _attempts_from(step, wanted, reached):
                if one.number != reached:
                    reached, after = one.number, 0
                key = await core.runs.log_key(one.id)
                if key is None:
                    continue
                with core.logs.watch(key) as woken:
                    while not core.closing:
                        woken.clear()
                        lines = await core.logs.lines(key, after, BATCH)
                        for line in lines:
                            after = line["line"] + 1
                            if sought not in line["text"].casefold():
                                continue
                            entry, place = {**line, "attempt": reached}, f"{reached}-{after}"
                            yield core.hub.event("yarnloom.line", f"{number}/{label}", place, entry)
                        if lines:
                            continue
                        # All that is there was told; if anything changed, it is looked at anew.
                        if one.outcome is not None or changed.is_set():
                            break
                        await _first(woken, changed)
            if _is_over(step, wanted):
                return
            await changed.wait()


@router.get("/lines/live", responses=problems(422))
async def all_lines_live(core: TheCore, text: SoughtText = "") -> EventSourceResponse:
    """Lines that the steps of all runs print, from now on, without end.

    A reader that is too slow misses lines, and a line says how many.
    """
    return EventSourceResponse(_all_line_events(core, text.lower()), ping=PING)


async def _all_line_events(core: Core, text: str) -> AsyncIterator[bytes]:
    """Lines of all runs as they arrive, at most so many waiting."""
    waiting: deque[JsonObject] = deque(maxlen=MOST_WAITING)
    missed, woken = 0, asyncio.Event()

    def take(batch: list[Printed]) -> None:
        nonlocal missed
        for printed in batch:
            for place, line in enumerate(printed.lines, printed.first):
                if line.get("text") and text in line["text"].lower():
                    missed += len(waiting) == MOST_WAITING
                    waiting.append({"address": printed.printer.address, "line": place, **line})
        woken.set()

    end = core.lines.listen(take)
    closing = core.hub.closing
    try:
        while not core.closing:
            woken.clear()
            while waiting:
                line = waiting.popleft()
                yield core.hub.event("yarnloom.line", line["address"], "", line)
            if missed:
                said = {"stream": "yarnloom", "text": f"and {missed:,} more"}
                missed = 0
                now = iso_time(core.now())
                yield core.hub.event("yarnloom.line", "", "", {"address": "", "at": now, **said})
            await _first(woken, closing)
    finally:
        end()


async def _line_events(core: Core, number: int, mark: Mark, wanted: Wanted) -> AsyncIterator[bytes]:
    """Lines of all steps of a run from a mark on, until the run, item or step has ended."""
    with core.hub.listen(number) as changed, core.logs.watch(Whole(number)) as woken:
        while not core.closing:
            changed.clear()
            woken.clear()
            over = await _state_at(core, number, wanted.address) in STEP_ENDED
            page = await core.logs.lines_after(number, mark, wanted)
            for line in page.lines:
                place = f"{number}/{line['address']}"
                yield core.hub.event("yarnloom.line", place, line["mark"], line)
            mark = page.end
            if page.next is not None:
                continue
            if over:
                return
            await _first(woken, changed)
            await asyncio.sleep(BREATH)


def _attempts_from(step: StepRecord, wanted: str, reached: int) -> list[AttemptRecord]:
    """The attempts whose lines are to be told: one, or from the newest or that reached on."""
    attempts = step.attempts
    if (number := whole_number(wanted)) is not None:
        return [attempt for attempt in attempts if attempt.number == number]
    return (
        [attempt for attempt in attempts if attempt.number >= reached] if reached else attempts[-1:]
    )


def _is_over(step: StepRecord, wanted: str) -> bool:
    """Whether nothing more is printed."""
    if (number := whole_number(wanted)) is not None:
        return any(
            attempt.number == number and attempt.outcome is not None for attempt in step.attempts
        )
    return step.part.state in STEP_ENDED


async def _first(*events: asyncio.Event, timeout: float | None = None) -> None:
    """Wait until one of some events is set."""
    waits = [asyncio.ensure_future(event.wait()) for event in events]
    try:
        await asyncio.wait(waits, timeout=timeout, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for wait in waits:
            wait.cancel()
