"""Runs: start, list, show, cancel, and what is inside them."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

from fastapi import Header, Path, Query
from fastapi.responses import Response

from yarnloom.engine.commands import CancelRun, Started, StartRun
from yarnloom.engine.queries import failures_by_kind, item_pages, run_graph, time_spent
from yarnloom.engine.queries.log_records import command_record
from yarnloom.engine.records.unreadable import readable
from yarnloom.engine.rules.states import RunState
from yarnloom.errors import InvalidInput, NotFound, Problem
from yarnloom.protocol.bodies import CancelBody, RunsQuery, StartBody, StartManyBody
from yarnloom.protocol.fields import Time
from yarnloom.protocol.overview_answers import GlanceAnswer, RunCounts
from yarnloom.protocol.part_answers import AttemptLog, ItemList, PartAnswer, StepAnswer, StepList
from yarnloom.protocol.run_answers import (
    AttemptList,
    CheckingAnswer,
    FailuresAnswer,
    Outliers,
    RunAnswer,
    RunCommands,
    RunList,
    StartedMany,
    TimesAnswer,
    WhyAnswer,
)
from yarnloom.service.access.callers import CALLER
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router
from yarnloom.service.http.strict_route import API
from yarnloom.service.render.answers import encode
from yarnloom.service.render.parts import graph_json, items_json, step_json, steps_json
from yarnloom.service.render.runs import page_json, run_text
from yarnloom.service.route_helpers import (
    Asker,
    TheCore,
    answer,
    flat_answer,
    json_answer,
    problems,
)
from yarnloom.service.routes.filters import filter_of
from yarnloom.start_keys import generated_key
from yarnloom.store.runs import run_lists
from yarnloom.units import micros, whole_number

router = api_router("runs", "/runs", changes=("operate",))

ItemState = Literal["waiting", "running", "paused", "done", "failed", "cancelled", "skipped"]
RunNumber = Annotated[int, Path(ge=1, le=2**53)]
CHECK_WAIT = 20.0
CheckWait = Annotated[
    float, Query(ge=0, le=25, description="Seconds to wait for rows to be checked")
]
Address = Annotated[
    str, Query(max_length=2_000, description="Within the run: `fetch`, or `fetch#2` for an attempt")
]


@router.post(
    "",
    status_code=201,
    response_model=RunAnswer,
    responses={202: {"model": CheckingAnswer}, **problems(404, 409, 422, 503)},
)
async def start(
    core: TheCore,
    who: Asker,
    body: StartBody,
    idempotency_key: Annotated[str | None, Header(max_length=200)] = None,
    wait: CheckWait = CHECK_WAIT,
) -> Response:
    """Start a workflow or a task: 201 with the run, or 200 with the one the key made before.

    Rows of files are checked whole before. While that goes on longer than `wait`, the answer is 202
    with how far it is: nothing was started, and the same request is to be sent again.
    """
    return json_answer(*await started(core, body, who, idempotency_key, wait))


async def started(
    core: Core, body: StartBody, who: str, key: str | None, wait: float = CHECK_WAIT
) -> tuple[bytes, int, str]:
    """Start a run; return the answer to that, its status, and the path of a new run."""
    if core.looms.pending:
        await core.looms.ready()
    return answer_to_start(await core.starts.start(_start_of(body, who, key), wait))


@router.post(
    "/many",
    status_code=201,
    response_model=StartedMany,
    responses={202: {"model": CheckingAnswer}, **problems(404, 409, 422, 503)},
)
async def start_many(
    core: TheCore, who: Asker, body: StartManyBody, wait: CheckWait = CHECK_WAIT
) -> Response:
    """Start up to 10,000 runs in one transaction: all of them, or none.

    They begin in their order, a few at a time. Give each a `key` to be able to send this again.
    """
    if core.looms.pending:
        await core.looms.ready()
    found = await core.starts.start_many([_start_of(start, who) for start in body.starts], wait)
    return answer(type(found), found, 201 if isinstance(found, StartedMany) else 202)


def _start_of(body: StartBody, who: str, key: str | None = None) -> StartRun:
    return StartRun(
        target=body.target,
        params=body.params,
        key=body.key or key or generated_key(),
        who=who,
        priority=body.priority,
        share=body.share,
        tags=tuple(body.tags),
        start_at=micros(body.at),
        start_in=body.after,
        start_by=micros(body.start_by),
        keywords=tuple(body.keywords),
        within=CALLER.get().workflows,
    )


def answer_to_start(found: Started | CheckingAnswer) -> tuple[bytes, int, str]:
    """Return the answer to a start: the run, or how far its rows are checked.

    Returns:
        The text, the status, and the path of a run that was made; else empty.
    """
    if isinstance(found, CheckingAnswer):
        return encode(CheckingAnswer, found), 202, ""
    if not found.created:
        return run_text(found.run), 200, ""
    return run_text(found.run), 201, f"{API}/runs/{found.run.number}"


@router.get("", response_model=RunList, responses=problems(422))
async def list_runs(core: TheCore, query: Annotated[RunsQuery, Query()]) -> Response:
    """Runs, newest first.

    A page that is searched for a text may have fewer runs than the limit, and yet a `next`.
    """
    wanted = await filter_of(core, query.wanted, query.saved)
    page = await core.runs.list_runs(replace(wanted, below=query.cursor, limit=query.limit))
    return flat_answer(page_json(page))


@router.get("/counts", response_model=RunCounts)
async def counts(core: TheCore) -> Response:
    """How many runs are in each state; of more than a thousand only that they are more."""
    found = await core.read(run_lists.state_counts, [str(state) for state in RunState])
    most = run_lists.COUNTED
    return answer(
        RunCounts,
        {
            "counts": {state: min(count, most) for state, count in found.items()},
            "more": [state for state, count in found.items() if count > most],
        },
    )


@router.get("/{number}", response_model=RunAnswer, responses=problems(404, 410))
async def show(
    core: TheCore,
    number: RunNumber,
    wait: Annotated[float, Query(ge=0, le=25, description="Seconds to wait for its end")] = 0.0,
    attempt: Annotated[
        int | None, Query(ge=1, le=2**53, description="The attempt in which a task waits so")
    ] = None,
) -> Response:
    """A run; with `wait`, as soon as it has ended, or as it is after that time."""
    return json_answer(*await shown(core, number, wait, attempt))


async def shown(
    core: Core, number: int, wait: float, attempt: int | None = None
) -> tuple[bytes, int]:
    """Return a run, after a wait for its end if any, and the answer's status."""
    if wait:
        return run_text(await core.waits.wait_for_end(number, wait, attempt)), 200
    return run_text(await core.runs.run(number)), 200


@router.post("/{number}/cancel", response_model=RunAnswer, responses=problems(404, 409))
async def cancel(
    core: TheCore, who: Asker, number: RunNumber, body: CancelBody | None = None
) -> Response:
    """Tell a run to stop. What runs gets its grace, unless `now`; `state` says how far it is."""
    body = body or CancelBody()
    return answer(RunAnswer, await core.submit(CancelRun(number, who, body.reason, body.now)))


@router.get("/{number}/graph", response_model=PartAnswer, responses=problems(404, 410))
async def graph(
    core: TheCore,
    number: RunNumber,
    address: Address = "",
    at: Annotated[Time | None, Query(description="As it was then")] = None,
) -> Response:
    """The parts of a run as a tree, each with its state; with `address` those of a part or item.

    With `at` as they were at that moment, put back together from the times of attempts.
    """
    return flat_answer(
        graph_json(await core.runs.look_into(number, run_graph.graph, address, micros(at)))
    )


@router.get("/{number}/glance", response_model=GlanceAnswer, responses=problems(404, 410))
async def glance(core: TheCore, number: RunNumber) -> Response:
    """A run on one line: progress, running steps, failures, bottleneck, time left."""
    return answer(GlanceAnswer, await core.runs.glance(number))


@router.get("/{number}/failures", response_model=FailuresAnswer, responses=problems(404, 410))
async def failures(core: TheCore, number: RunNumber) -> Response:
    """What failed in a run, by kind: the same step and error, but for numbers and quoted names.

    The first 5,000 failed steps are looked at; `more` says that there are more.
    """
    return answer(FailuresAnswer, await core.runs.look_into(number, failures_by_kind.failures))


@router.get("/{number}/times", response_model=TimesAnswer, responses=problems(404, 410))
async def times(core: TheCore, number: RunNumber) -> Response:
    """Where the time of a run went, by the steps and eaches of its plan, in slices of time."""
    found = await core.runs.look_into(number, time_spent.spending, core.now())
    return answer(TimesAnswer, found)


@router.get("/{number}/outliers", response_model=Outliers, responses=problems(404, 410, 422))
async def outliers(
    core: TheCore,
    number: RunNumber,
    address: Address,
    limit: Annotated[int, Query(ge=1, le=50)] = 5,
) -> Response:
    """The slowest attempts of a step over all items, and the first that failed; or of an each."""
    found = await core.runs.look_into(number, time_spent.outliers, address, core.now(), limit)
    return answer(Outliers, found)


@router.get("/{number}/attempts", response_model=AttemptList, responses=problems(404, 410, 422))
async def attempts(
    core: TheCore,
    number: RunNumber,
    address: Address = "",
    cursor: Annotated[int, Query(ge=0, le=2**53)] = 0,
    limit: Annotated[int, Query(ge=1, le=2_000)] = 500,
) -> Response:
    """Every attempt of a run with its times, as handed out; with `address` those in one item."""
    found = await core.runs.look_into(number, run_graph.attempts, address, cursor, limit)
    return answer(AttemptList, found)


@router.get("/{number}/steps", response_model=StepAnswer | StepList, responses=problems(404, 410))
async def steps(
    core: TheCore, number: RunNumber, address: Address = "", inside: Address = ""
) -> Response:
    """The steps of a run that stand in no item of an each, or with `inside` those of one item.

    With `address` one step, with its values and attempts.
    """
    if address:
        return flat_answer(step_json(await core.runs.look_into(number, run_graph.step, address)))
    return flat_answer(steps_json(await core.runs.graph(number, inside)))


@router.get("/{number}/why", response_model=WhyAnswer, responses=problems(404, 410))
async def why(core: TheCore, number: RunNumber, address: Address = "") -> Response:
    """What each unfinished step of a run, or of a part of it, waits for, right now."""
    return flat_answer(await core.runs.why(number, address))


@router.get("/{number}/items", response_model=ItemList, responses=problems(404, 410, 422))
async def items(
    core: TheCore,
    number: RunNumber,
    address: Address,
    state: Annotated[list[ItemState] | None, Query()] = None,
    text: Annotated[
        str | None, Query(max_length=200, description="In an item's name or value")
    ] = None,
    cursor: Annotated[int, Query(ge=0, le=2**53)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> Response:
    """The items of an each, in order; those that were not made yet too.

    A page that is searched for a text may have fewer items than the limit, and yet a `next`.
    """
    states, wanted = tuple(state or ()), text or None
    found = await core.runs.look_into(
        number, item_pages.items, address, states, cursor, limit, wanted
    )
    return flat_answer(items_json(found))


@router.get("/{number}/log", response_model=AttemptLog, responses=problems(404, 410, 422))
async def log(
    core: TheCore,
    number: RunNumber,
    address: Address,
    after: Annotated[int, Query(ge=0, le=2**53, description="Lines to leave out")] = 0,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1_000,
) -> Response:
    """What an attempt printed and logged; without `#` in the address, the newest attempt."""
    label, _, wanted = address.partition("#")
    attempts = (await core.runs.look_into(number, run_graph.step, label)).attempts
    number_wanted = whole_number(wanted)
    if wanted and number_wanted is None:
        raise InvalidInput(
            f"found {wanted!r:.40} after '#'; expected an attempt's number, as in {label}#1",
            problems=[Problem("/address", "not a number after '#'")],
        )
    chosen = [attempt for attempt in attempts if not wanted or attempt.number == number_wanted]
    if not chosen and wanted:
        raise NotFound(f"{number}/{label} has no attempt #{wanted}; it has {len(attempts)}")
    key = await core.runs.log_key(chosen[-1].id) if chosen else None
    lines = await core.logs.lines(key, after, limit) if key else []
    shown = chosen[-1].number if chosen else None
    return flat_answer({"address": f"{number}/{label}", "attempt": shown, "lines": lines})


@router.get("/{number}/commands", response_model=RunCommands, responses=problems(404, 410))
async def commands(core: TheCore, number: RunNumber) -> Response:
    """Who gave which command for this run, when and why."""
    await core.runs.run_row(number)
    rows = await core.read(run_lists.commands, number)
    found = readable(rows, command_record, "at", "who", "what")
    return answer(RunCommands, {"commands": found})
