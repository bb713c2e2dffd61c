"""The worker protocol (`docs/worker-protocol.md`), and the list of workers."""

from __future__ import annotations

import asyncio
from time import time_ns
from typing import Annotated, Any, cast

from fastapi import Path, Request
from fastapi.responses import Response
from starlette.types import Receive

from yarnloom.engine.commands import (
    BeginAttempt,
    BeginEffect,
    DrainWorker,
    EndEffect,
    LeaveService,
    LoseWorker,
    Poll,
    Register,
    Report,
    Reported,
    ReportItem,
)
from yarnloom.protocol.bodies import (
    ReasonBody,
)
from yarnloom.protocol.worker_bodies import (
    BeginBody,
    BeginEffectBody,
    DoneBody,
    EndEffectBody,
    GoneAnswer,
    GoneBody,
    ItemBody,
    PollBody,
    RegisterBody,
    ReportBody,
)
from yarnloom.service.api_router import api_router
from yarnloom.service.core import Core
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems

router = api_router("workers", "/workers")

REPORTED_AT_ONCE = 512

Saved = dict[str, Any]

WorkerId = Annotated[str, Path(max_length=100)]


@router.get("")
async def list_workers(core: TheCore) -> Response:
    """The workers as they are now."""
    return answer({"workers": await core.workers()})


@router.post("", status_code=201, responses=problems(422, 503))
async def register(core: TheCore, body: RegisterBody) -> Response:
    """Register, or register again."""
    offers = {name: task for name, task in body.tasks.items() if not isinstance(task, str)}
    command = Register(
        worker=body.id,
        name=body.name,
        facts=body.facts,
        places=body.places,
        tasks={
            name: task if isinstance(task, str) else task.code_hash
            for name, task in body.tasks.items()
        },
        offers={
            name: {"input": one.input, "output": one.output}
            for name, one in offers.items()
            if one.input is not None and one.output is not None
        },
        graces={name: one.grace for name, one in offers.items() if one.grace},
        sources={name: one.source for name, one in offers.items() if one.source},
        in_hand=tuple(body.in_hand),
        io_places=body.io_places,
        io_tasks=tuple(body.io_tasks),
        plain_tasks=tuple(body.plain_tasks),
        ahead=body.ahead,
        has=tuple(body.has),
        pools=None if body.pools is None else tuple(body.pools),
        draining=body.draining,
        until_idle=body.until_idle,
        abandoned=tuple(body.abandoned),
        trouble=body.trouble,
        service=body.service,
        epoch=body.epoch,
        commits=body.commits,
    )
    registered = await core.submit(command)
    core.polls.note_registered(body.id)
    return answer({**registered, "commits": core.commits}, 201)


@router.post("/{worker}/ask", responses=problems(404, 503))
async def ask(core: TheCore, request: Request, worker: WorkerId, body: PollBody) -> Response:
    """The open request: answered as soon as there is work or an order, empty after 20 to 25 s."""
    return answer(*await asked(core, request.receive, worker, body))


async def asked(
    core: Core, receive: Receive, worker: str, body: PollBody
) -> tuple[dict[str, Any], int]:
    """The answer to a worker's open request, which has been received whole, and its status."""
    closed = asyncio.ensure_future(_closed(receive))
    try:
        messages = await core.polls.poll(_ask_of(worker, body), closed)
    finally:
        closed.cancel()
    return {"messages": messages, "closing": core.closing, "commits": core.commits}, 200


async def _closed(receive: Receive) -> None:
    """Return when the connection of a request, which has been received whole, is closed."""
    while (await receive())["type"] != "http.disconnect":
        pass


@router.post("/{worker}/report", responses=problems(404, 503))
async def report(core: TheCore, worker: WorkerId, body: ReportBody) -> Response:
    """What happened to attempts; the answer says what was refused, and can carry work."""
    return answer(*await reported(core, worker, body))


async def reported(core: Core, worker: str, body: ReportBody) -> tuple[dict[str, Any], int]:
    """Take in a report; the answer to it, and its status."""
    # Lines first: whoever sees that an attempt has ended finds its whole log.
    if body.logs:
        await core.lines.keep(worker, body.logs)
    items = [_item_of(item) for item in body.items]
    if body.done:
        items += _done_items(body.done)
    saved = [(attempt, cast(Saved, record)) for attempt, record in body.saved.items()]
    refused, messages = [], []
    # A few at a time, so that a long report, such as one after a break, holds up nobody.
    for first in range(0, max(len(items), len(saved), 1), REPORTED_AT_ONCE):
        some = slice(first, first + REPORTED_AT_ONCE)
        found: Reported = await core.submit(
            Report(
                worker,
                tuple(items[some]),
                tuple(body.received),
                body.places,
                body.io_places,
                body.ahead,
                () if first else tuple(body.freed),
                dict(saved[some]),
                body.trouble,
                body.epoch,
            )
        )
        refused += found.refused
        messages += found.messages
    return {"refused": refused, "messages": messages, "commits": core.commits}, 200


def _item_of(item: ItemBody) -> ReportItem:
    return ReportItem(
        item.attempt,
        item.outcome,
        item.output,
        cast(dict[str, Any] | None, item.error),
        item.begun_ago,
        item.ended_ago,
        item.pid,
        item.cpu,
        item.memory,
        item.after,
        item.abandoned,
        cast(Saved | None, item.saved),
    )


def _done_items(done: DoneBody) -> list[ReportItem]:
    """The items that the columns of a report say."""
    columns = (done.attempts, done.outputs, done.begun_ago, done.ended_ago)
    return [
        ReportItem(attempt, "done", output, None, begun, ended, pid, cpu, memory)
        for attempt, output, begun, ended, pid, cpu, memory in zip(
            *columns, done.pids, done.cpu, done.memory, strict=True
        )
    ]


def _ask_of(worker: str, body: PollBody) -> Poll:
    received = tuple(body.received)
    places = (body.places, body.io_places, body.ahead)
    return Poll(worker, received, *places, body.trouble, body.epoch)


@router.post("/{worker}/begin", responses=problems(404, 409, 503))
async def begin(core: TheCore, worker: WorkerId, body: BeginBody) -> Response:
    """Record that an attempt begins, before it does anything; refused if it was given up."""
    return answer(await core.submit(BeginAttempt(worker, body.attempt)))


@router.post("/gone", response_model=GoneAnswer, responses=problems(422, 503))
async def gone(core: TheCore, body: GoneBody) -> Response:
    """Report workers that are gone, with the attempts that they had begun, from their machine."""
    now = time_ns() // 1_000
    why = "its process has ended, as another worker on its machine says"
    known = [worker for worker in body.begun_ago if core.writer.has_worker(worker)]
    for worker in known:
        ago = body.begun_ago[worker]
        begun = {attempt: now - round(seconds * 1_000_000) for attempt, seconds in ago.items()}
        await core.submit(LoseWorker(worker, why, begun))
    return answer({"known": known})


@router.post("/{worker}/begin-effect", responses=problems(404, 409, 503))
async def begin_effect(core: TheCore, worker: WorkerId, body: BeginEffectBody) -> Response:
    """An attempt is about to do something outside that must not happen twice."""
    named = (worker, body.attempt, body.what, body.call, body.scope)
    command = BeginEffect(*named, body.again, body.is_used, body.position)
    return answer(await core.submit(command))


@router.post("/{worker}/end-effect", responses=problems(404, 409, 422, 503))
async def end_effect(core: TheCore, worker: WorkerId, body: EndEffectBody) -> Response:
    """What an attempt did outside is done, or did not happen."""
    command = EndEffect(worker, body.attempt, body.what, body.done, body.value, body.scope)
    return answer(await core.submit(command))


@router.post("/{worker}/drain", responses=problems(404, 409))
async def drain(
    core: TheCore, who: Asker, worker: WorkerId, body: ReasonBody | None = None
) -> Response:
    """Let a worker, by name or id, take nothing new, and end when it has nothing in hand."""
    return answer(await core.submit(DrainWorker(worker, who, body.reason if body else "")))


@router.delete("/{worker}", status_code=204, response_class=Response)
async def leave(core: TheCore, worker: WorkerId) -> Response:
    """A worker ends, with nothing in hand any more."""
    await core.submit(LeaveService(worker))
    return Response(status_code=204)
