"""The worker protocol (`docs/worker-protocol.md`), and the list of workers."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from time import time_ns
from typing import Annotated, cast

from fastapi import Header, Path, Request
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
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.workers import BegunEffect, Registered
from yarnloom.protocol.bodies import ReasonBody
from yarnloom.protocol.worker_answers import (
    BegunEffectAnswer,
    NoContent,
    PollAnswer,
    RegisteredAnswer,
    ReportAnswer,
    WorkerFacts,
    WorkerList,
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
from yarnloom.service.access.callers import CALLER
from yarnloom.service.access.gate import WORKER_HEADER
from yarnloom.service.access.route_roles import WORK
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router, takes
from yarnloom.service.route_helpers import Asker, TheCore, answer, json_answer, problems
from yarnloom.values import JsonObject, dump

router = api_router("workers", "/workers", changes=WORK)

REPORTED_AT_ONCE = 512

Saved = JsonObject

WorkerId = Annotated[str, Path(max_length=100)]


@router.get("", response_model=WorkerList)
async def list_workers(core: TheCore) -> Response:
    """The workers as they are now."""
    return answer(WorkerList, {"workers": await core.workers()})


@router.post("", status_code=201, response_model=RegisteredAnswer, responses=problems(422, 503))
async def register(
    core: TheCore,
    body: RegisterBody,
    secret: Annotated[
        str, Header(alias=WORKER_HEADER, max_length=200, description="Of the first answer")
    ] = "",
) -> Response:
    """Register, or register again: the second time with the secret that the first answer had."""
    caller = CALLER.get()
    if core.writer.has_worker(body.id):
        core.gate.check_worker(caller, body.id, secret)
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
    registered: Registered = await core.submit(command)
    core.polls.note_registered(body.id)
    core.gate.note_worker(caller, body.id)
    secret = core.gate.worker_secret(body.id)
    found = {**asdict(registered), "commits": core.commits, "secret": secret}
    return answer(RegisteredAnswer, found, 201)


@router.post("/{worker}/ask", response_model=PollAnswer, responses=problems(404, 503))
async def ask(core: TheCore, request: Request, worker: WorkerId, body: PollBody) -> Response:
    """The open request: answered as soon as there is work or an order, empty after 20 to 25 s."""
    return json_answer(*await asked(core, request.receive, worker, body))


async def asked(core: Core, receive: Receive, worker: str, body: PollBody) -> tuple[bytes, int]:
    """Return the answer to a worker's open request, once it was received whole, and its status."""
    closed = asyncio.ensure_future(_closed(receive))
    try:
        messages = await core.polls.poll(_ask_of(worker, body), closed)
    finally:
        closed.cancel()
    found = {"messages": messages, "closing": core.closing, "commits": core.commits}
    return dump(found), 200


async def _closed(receive: Receive) -> None:
    """Return when the connection of a request, which has been received whole, is closed."""
    while (await receive())["type"] != "http.disconnect":
        pass


@router.post("/{worker}/report", response_model=ReportAnswer, responses=problems(404, 503))
async def report(core: TheCore, worker: WorkerId, body: ReportBody) -> Response:
    """What happened to attempts; the answer says what was refused, and can carry work."""
    return json_answer(*await reported(core, worker, body))


async def reported(core: Core, worker: str, body: ReportBody) -> tuple[bytes, int]:
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
        part: Reported = await core.submit(
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
        refused += part.refused
        messages += part.messages
    found = {"refused": refused, "messages": messages, "commits": core.commits}
    return dump(found), 200


def _item_of(item: ItemBody) -> ReportItem:
    return ReportItem(
        item.attempt,
        item.outcome,
        item.output,
        cast(StepError | None, item.error),
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


@router.post("/{worker}/begin", response_model=NoContent, responses=problems(404, 409, 503))
async def begin(core: TheCore, worker: WorkerId, body: BeginBody) -> Response:
    """Record that an attempt begins, before it does anything; refused if it was given up."""
    await core.submit(BeginAttempt(worker, body.attempt))
    return answer(NoContent, {})


@router.post("/gone", response_model=GoneAnswer, responses=problems(422, 503))
async def gone(core: TheCore, body: GoneBody) -> Response:
    """Report workers that are gone, with the attempts that they had begun, from their machine."""
    now = time_ns() // 1_000
    why = "its process has ended, as another worker on its machine says"
    caller = CALLER.get()
    known = [
        worker
        for worker in body.begun_ago
        if core.writer.has_worker(worker) and core.gate.owns_worker(caller, worker)
    ]
    for worker in known:
        ago = body.begun_ago[worker]
        begun = {attempt: now - round(seconds * 1_000_000) for attempt, seconds in ago.items()}
        await core.submit(LoseWorker(worker, why, begun))
    return answer(GoneAnswer, {"known": known})


@router.post(
    "/{worker}/begin-effect", response_model=BegunEffectAnswer, responses=problems(404, 409, 503)
)
async def begin_effect(core: TheCore, worker: WorkerId, body: BeginEffectBody) -> Response:
    """An attempt is about to do something outside that must not happen twice."""
    named = (worker, body.attempt, body.what, body.call, body.scope)
    command = BeginEffect(*named, body.again, body.is_used, body.position)
    begun: BegunEffect = await core.submit(command)
    found = {"now": begun.now, "token": begun.token}
    return answer(BegunEffectAnswer, found | ({"value": begun.value} if begun.is_done else {}))


@router.post(
    "/{worker}/end-effect", response_model=NoContent, responses=problems(404, 409, 422, 503)
)
async def end_effect(core: TheCore, worker: WorkerId, body: EndEffectBody) -> Response:
    """What an attempt did outside is done, or did not happen."""
    command = EndEffect(worker, body.attempt, body.what, body.done, body.value, body.scope)
    await core.submit(command)
    return answer(NoContent, {})


@router.post("/{worker}/drain", response_model=WorkerFacts, responses=problems(404, 409))
@takes("admin")
async def drain(
    core: TheCore, who: Asker, worker: WorkerId, body: ReasonBody | None = None
) -> Response:
    """Let a worker, by name or id, take nothing new, and end when it has nothing in hand."""
    command = DrainWorker(worker, who, body.reason if body else "")
    return answer(WorkerFacts, await core.submit(command))


@router.delete("/{worker}", status_code=204, response_class=Response)
async def leave(core: TheCore, worker: WorkerId) -> Response:
    """A worker ends, with nothing in hand any more."""
    await core.submit(LeaveService(worker))
    return Response(status_code=204)
