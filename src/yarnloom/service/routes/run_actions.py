"""Runs and steps under control: pause, resume, mend, rerun, what is done by hand, the ledger."""

from __future__ import annotations

import asyncio
import uuid
from collections.abc import Callable
from typing import Annotated, Literal

from fastapi import Query
from fastapi.responses import Response

from yarnloom.engine.commands import (
    CancelRun,
    ChangeRun,
    Command,
    FailuresOf,
    MendRun,
    PauseRun,
    RerunRun,
    ResumeRun,
    SettleEffect,
    StepAction,
)
from yarnloom.engine.queries import run_graph
from yarnloom.engine.queries.log_records import effect_record, run_command_record
from yarnloom.engine.records.runs import EffectRecord
from yarnloom.engine.records.unreadable import readable
from yarnloom.errors import Conflict, Refused
from yarnloom.protocol.bodies import (
    BulkBody,
    ChangeBody,
    MendBody,
    ReasonBody,
    RerunBody,
    SettleBody,
    StepBody,
)
from yarnloom.protocol.part_answers import StepAnswer
from yarnloom.protocol.run_answers import (
    BulkAnswer,
    CheckingAnswer,
    CommandList,
    LedgerAnswer,
    RunAnswer,
    SettledAnswer,
)
from yarnloom.service.http.api_router import api_router
from yarnloom.service.render.parts import step_json
from yarnloom.service.route_helpers import (
    Asker,
    TheCore,
    answer,
    flat_answer,
    json_answer,
    problems,
)
from yarnloom.service.routes.filters import filter_of
from yarnloom.service.routes.runs import CHECK_WAIT, Address, CheckWait, RunNumber, answer_to_start
from yarnloom.store.runs import run_lists
from yarnloom.units import micros

router = api_router("control", changes=("operate",))

AT_ONCE = 20
Action = Literal["pause", "resume", "cancel", "retry", "edit", "skip", "supply"]
_BULK: dict[str, Callable[[int, str, str], Command]] = {"pause": PauseRun, "resume": ResumeRun}


def _reason(body: ReasonBody | None) -> str:
    return body.reason if body else ""


@router.post("/runs/actions", response_model=BulkAnswer, responses=problems(404, 409, 422))
async def act_on_many(core: TheCore, who: Asker, body: BulkBody) -> Response:
    """The same command for every run of a list. Without `count` only says how many they are."""
    wanted = await filter_of(core, body, body.saved)
    count = await core.read(run_lists.count_runs, wanted)
    if body.count is None:
        return answer(BulkAnswer, {"count": count, "done": [], "refused": []})
    if body.count != count:
        raise Conflict(
            f"{body.count} runs were confirmed, and {count} match now; nothing was done. Look at "
            "the list, and confirm what it shows",
            count=count,
        )
    numbers = await core.read(run_lists.run_numbers, wanted)
    done, refused = [], []
    for first in range(0, len(numbers), AT_ONCE):
        some = numbers[first : first + AT_ONCE]
        answers = await asyncio.gather(
            *(core.submit(_bulk_command(body, one, who)) for one in some), return_exceptions=True
        )
        for number, found in zip(some, answers, strict=True):
            if isinstance(found, Refused):
                refused.append({"run": number, "why": found.detail})
            elif isinstance(found, BaseException):
                raise found
            else:
                done.append(number)
    return answer(BulkAnswer, {"count": count, "done": done, "refused": refused})


def _bulk_command(body: BulkBody, run: int, who: str) -> Command:
    if body.action == "cancel":
        return CancelRun(run, who, body.reason, body.now)
    if body.action == "mend":
        return MendRun(run, who, body.reason, body.paused)
    return _BULK[body.action](run, who, body.reason)


@router.post("/runs/{number}/pause", response_model=RunAnswer, responses=problems(404, 409))
async def pause(
    core: TheCore, who: Asker, number: RunNumber, body: ReasonBody | None = None
) -> Response:
    """Begin nothing more of a run; what runs stops at its next checkpoint, or finishes."""
    return answer(RunAnswer, await core.submit(PauseRun(number, who, _reason(body))))


@router.post("/runs/{number}/resume", response_model=RunAnswer, responses=problems(404, 409))
async def resume(
    core: TheCore, who: Asker, number: RunNumber, body: ReasonBody | None = None
) -> Response:
    """Let a run that is pausing or paused go on."""
    return answer(RunAnswer, await core.submit(ResumeRun(number, who, _reason(body))))


@router.post("/runs/{number}/mend", response_model=RunAnswer, responses=problems(404, 409))
async def mend(
    core: TheCore, who: Asker, number: RunNumber, body: MendBody | None = None
) -> Response:
    """Run again what failed, was cancelled or not reached in an ended run: a new round."""
    body = body or MendBody()
    only = FailuresOf(**body.only.model_dump()) if body.only else None
    command = MendRun(number, who, body.reason, body.paused, only)
    return answer(RunAnswer, await core.submit(command))


@router.patch("/runs/{number}", response_model=RunAnswer, responses=problems(404, 409, 422))
async def change(core: TheCore, who: Asker, number: RunNumber, body: ChangeBody) -> Response:
    """Change a run that has not begun: when it begins, its priority, its tags."""
    command = ChangeRun(
        *(number, who, body.reason),
        start_at=micros(body.at),
        start_in=body.after,
        priority=body.priority,
        tags=body.tags,
    )
    return answer(RunAnswer, await core.submit(command))


@router.post(
    "/runs/{number}/rerun",
    status_code=201,
    response_model=RunAnswer,
    responses={
        200: {"model": RunAnswer},
        202: {"model": CheckingAnswer},
        **problems(404, 409, 422),
    },
)
async def rerun(
    core: TheCore,
    who: Asker,
    number: RunNumber,
    body: RerunBody | None = None,
    wait: CheckWait = CHECK_WAIT,
) -> Response:
    """Start the run's workflow, as it is now, with its params and what is changed of them."""
    body = body or RerunBody()
    key = body.key or uuid.uuid4().hex
    if core.looms.pending:
        await core.looms.ready()
    command = RerunRun(number, body.params, key, who, body.reason)
    return json_answer(*answer_to_start(await core.starts.start(command, wait)))


@router.post(
    "/runs/{number}/steps/{action}", response_model=StepAnswer, responses=problems(404, 409, 422)
)
async def act_on_step(
    core: TheCore,
    who: Asker,
    number: RunNumber,
    action: Action,
    address: Address,
    body: StepBody | None = None,
) -> Response:
    """Decide something about one step, given by its address; the answer is the step."""
    place = await core.runs.look_into(number, run_graph.step_place, address)
    body = body or StepBody()
    await core.submit(
        StepAction(
            run=number,
            address=place.address,
            node=place.node,
            holder=place.holder,
            action=action,
            who=who,
            reason=body.reason,
            inputs=body.inputs,
            pool=body.pool,
            priority=body.priority,
            output=body.output,
            now=body.now,
            item=place.item,
        )
    )
    return flat_answer(step_json(await core.runs.look_into(number, run_graph.step, place.address)))


@router.get("/runs/{number}/ledger", response_model=LedgerAnswer, responses=problems(404, 410))
async def ledger(core: TheCore, number: RunNumber) -> Response:
    """The side effects that a run has begun and done; `unsure` counts those nobody knows of."""
    await core.runs.run_row(number)
    rows = await core.read(run_lists.effects, number)
    effects = readable(rows, effect_record, "what", "scope")
    unsure = [
        effect
        for effect in effects
        if isinstance(effect, EffectRecord) and effect.state == "unsure"
    ]
    return answer(LedgerAnswer, {"effects": effects, "unsure": len(unsure)})


@router.post(
    "/runs/{number}/ledger", response_model=SettledAnswer, responses=problems(404, 409, 422)
)
async def settle(core: TheCore, who: Asker, number: RunNumber, body: SettleBody) -> Response:
    """Say whether something unsure was done."""
    scope = body.address
    if scope:
        scope = (await core.runs.look_into(number, run_graph.step_place, scope)).address
    valued = "value" in body.model_fields_set
    said = (body.done, who, body.reason, body.value, valued)
    command = SettleEffect(number, scope, body.what, *said)
    return answer(SettledAnswer, await core.submit(command))


@router.get("/commands", response_model=CommandList, responses=problems(422))
async def list_commands(
    core: TheCore,
    run: Annotated[int | None, Query(ge=1, le=2**53)] = None,
    who: Annotated[str | None, Query(max_length=200)] = None,
    what: Annotated[str | None, Query(max_length=50)] = None,
    cursor: Annotated[int | None, Query(ge=1, le=2**53)] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> Response:
    """Who gave which command, when and why; newest first."""
    rows = await core.read(run_lists.all_commands, run, who, what, cursor, limit)
    following = str(rows[-1]["id"]) if len(rows) == limit else None
    found = readable(rows, run_command_record, "id", "run")
    return answer(CommandList, {"commands": found, "next": following})
