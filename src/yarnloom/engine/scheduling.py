"""Schedules: what starts a workflow again and again by the clock.

Each planned time is one start with the key `schedule/NAME/TIME`, made in the transaction in which
the schedule goes on to its next time: neither a crash nor a clock that is set back fires twice.
"""

from __future__ import annotations

import functools
from collections import defaultdict
from datetime import UTC, datetime
from itertools import islice
from typing import Any

from yarnloom.engine.commands import (
    ChangeSchedule,
    ListSchedules,
    MakeSchedule,
    RemoveSchedule,
    Started,
    StartRun,
    StartSchedule,
)
from yarnloom.engine.data_commands import Unchecked
from yarnloom.engine.finding import find_workflow
from yarnloom.engine.starting import start_or_fail, start_run
from yarnloom.engine.states import RunState
from yarnloom.engine.stopping import stop
from yarnloom.engine.turn import SCHEDULE_DUE, Turn
from yarnloom.engine.views import moment, views_of
from yarnloom.errors import Conflict, InvalidInput, NotFound, Problem, ValueRefused, nearest
from yarnloom.plan import NAME, NAME_RULE, Plan
from yarnloom.plan.marked import has_files, seal
from yarnloom.recurring import BadRecurrence, Recurrence
from yarnloom.schedules import SETTINGS, problems_of_settings
from yarnloom.secrets import mask
from yarnloom.store import timing, writing
from yarnloom.store.timing import ScheduleRow
from yarnloom.values import encode

View = dict[str, Any]

_OF_A_LOOM = ("loom", "name", "paused")
LATE = 60_000_000
"""Microseconds after which a planned time counts as missed."""
FIRED_AT_ONCE = 20
"""How many schedules fire in one transaction."""
CAUGHT_UP = 100
"""How many missed times are caught up with at most, the newest."""
SHOWN = 5


# By the clock


def fire_due(turn: Turn) -> None:
    """Start what has fallen due, and go on to the next times."""
    for row in timing.schedules_due(turn.unit, turn.wall, FIRED_AT_ONCE):
        _fire(turn, row)
    _remind(turn)


def run_ended(turn: Turn, name: str) -> None:
    """A run of a schedule has ended: a planned time that waited for it comes now."""
    row = timing.schedule(turn.unit, name)
    if row is None or row.waiting_at is None or row.paused is not None:
        return
    if not timing.unfinished_of_schedule(turn.unit, name):
        planned, row.waiting_at = row.waiting_at, None
        _start(turn, row, planned)
        _keep(turn, row)


def look_again(turn: Turn) -> None:
    """The clock was set back, perhaps: times that lie ahead once more are not left out.

    Those that were started before are not started again, since their start keys are taken.
    """
    for row in timing.schedules(turn.unit):
        if row.paused is None:
            following = _recurrence(row).next_after(turn.wall)
            if following is not None and (row.next_at is None or following < row.next_at):
                row.next_at = following
                timing.keep_schedule(turn.unit, row)
    _remind(turn)


def _fire(turn: Turn, row: ScheduleRow) -> None:
    recurrence = _recurrence(row)
    assert row.next_at is not None
    due = []
    for planned in islice(recurrence.before(turn.wall), CAUGHT_UP):
        if planned < row.next_at:
            break
        due.append(planned)
    missed = _effective(row)["missed"]
    if missed == "none":
        taken = [planned for planned in due if planned > turn.wall - LATE]
    else:
        taken = due if missed == "all" else due[:1]
    for planned in due[len(taken) :]:
        _pass_over(row, planned, "it was missed")
    row.next_at = recurrence.next_after(turn.wall)
    for planned in reversed(taken):
        _come(turn, row, planned)
    _keep(turn, row)


def _come(turn: Turn, row: ScheduleRow, planned: int) -> None:
    """A planned time has come."""
    if _was_started(turn, row, planned):
        return  # the clock was set back since
    going = timing.unfinished_of_schedule(turn.unit, row.name)
    if_busy = _effective(row)["if_busy"]
    if not going or if_busy == "start":
        _start(turn, row, planned)
    elif if_busy == "skip":
        _pass_over(row, planned, f"run {going[-1]} was still under way")
    else:
        if row.waiting_at is not None:
            _pass_over(row, row.waiting_at, f"run {going[0]} was still under way at the next time")
        row.waiting_at = planned
        if if_busy == "replace":
            for number in going:
                run = turn.run(number)
                if not run.stop:
                    stop(turn, run, f"replaced by the next of schedule {row.name}")


def _start(turn: Turn, row: ScheduleRow, planned: int) -> None:
    text = _recurrence(row).text(planned)
    key = _key(row, planned)
    run = start_or_fail(turn, _command(turn, row, key, f"schedule {row.name}", text))
    if run is not None:
        result = "failed" if run.state == RunState.FAILED else "started"
        row.last = {"planned_at": text, "result": result, "run": run.number, "why": ""}


def _was_started(turn: Turn, row: ScheduleRow, planned: int) -> bool:
    workflow, _ = find_workflow(turn, _effective(row)["workflow"])
    return writing.find_start(turn.unit, workflow, _key(row, planned)) is not None


def _key(row: ScheduleRow, planned: int) -> str:
    at = f"{datetime.fromtimestamp(planned // 1_000_000, UTC):%Y-%m-%dT%H:%M:%SZ}"
    return f"schedule/{row.name}/{at}"


def _pass_over(row: ScheduleRow, planned: int, why: str) -> None:
    row.passed_over += 1
    text = _recurrence(row).text(planned)
    row.last = {"planned_at": text, "result": "passed_over", "run": None, "why": why}


def _command(turn: Turn, row: ScheduleRow, key: str, who: str, planned_at: str) -> StartRun:
    settings = _effective(row)
    return StartRun(
        workflow=settings["workflow"],
        params=turn.vault.open(settings["params"]),
        key=key,
        who=who,
        priority=settings["priority"],
        share=settings["share"],
        tags=tuple(settings["tags"]),
        planned_at=planned_at,
        schedule=row.name,
    )


def _remind(turn: Turn) -> None:
    if (following := timing.next_firing(turn.unit)) is not None:
        turn.remind_by_day(SCHEDULE_DUE, following)


# Declared by looms


def read_schedules(turn: Turn, given: list[View], plans: list[Plan]) -> dict[str, dict[str, View]]:
    """Schedules as looms declare them: by loom, by name.

    Args:
        turn: the transaction.
        given: what is published, each with its `loom`, its `name`, and whether it is `paused`.
        plans: the plans that are published with them.

    Raises:
        InvalidInput: one is not right; every problem is named.
    """
    declared: dict[str, dict[str, View]] = defaultdict(dict)
    problems: list[Problem] = []
    known = {plan.workflow: plan for plan in plans}
    for place, one in enumerate(given):
        loom, name, paused = str(one.get("loom")), str(one.get("name")), bool(one.get("paused"))
        settings = {key: value for key, value in one.items() if key not in _OF_A_LOOM}
        found = _wrong_name(turn, name, loom) + problems_of_settings(settings)
        found = found or _problems_of_params(turn, settings, known)
        problems += (Problem(f"/schedules/{place}{each.where}", each.message) for each in found)
        declared[loom][name] = {**SETTINGS, **settings, "paused": paused}
    if problems:
        raise InvalidInput("nothing was published: a schedule is not right", problems=problems)
    return declared


def declare_schedules(turn: Turn, loom: str, declared: dict[str, View], who: str) -> None:
    """Keep the schedules that a loom declares, and forget those that it does not any more.

    Whether one is paused is said by its first declaration, and from then on by hand.
    """
    known = {row.name: row for row in timing.schedules(turn.unit)}
    for name, one in declared.items():
        settings = {key: value for key, value in one.items() if key != "paused"}
        settings["params"] = _sealed(turn, settings)
        row = known.get(name)
        if row is None:
            row = ScheduleRow(name, loom, turn.now, who, {})
            if one["paused"]:
                row.paused = {"by": who, "at": turn.now, "reason": "declared so"}
        if row.declared != settings:
            row.declared = settings
            _settle(turn, row)
    for row in known.values():
        if row.loom == loom and row.name not in declared:
            _drop(turn, row)


def _wrong_name(turn: Turn, name: str, loom: str | None) -> list[Problem]:
    if not NAME.match(name):
        return [Problem("/name", f"found {name!r:.60}; a name has {NAME_RULE}")]
    row = timing.schedule(turn.unit, name)
    if row is None or (loom is not None and row.loom == loom):
        return []
    whose = f"is of loom {row.loom}" if row.loom else "was made by hand"
    return [Problem("/name", f"there is a schedule {name!r} that {whose}; choose another name")]


def _problems_of_params(turn: Turn, settings: View, plans: dict[str, Plan]) -> list[Problem]:
    """What is wrong with what a schedule would start."""
    plan = plans.get(settings["workflow"])
    if plan is None:
        try:
            _, plan_id = find_workflow(turn, settings["workflow"])
        except (NotFound, InvalidInput) as error:
            return [Problem("/workflow", error.message)]
        plan = turn.plan_by_id(plan_id)
    params = settings.get("params", {})
    try:
        encode(params, "params")
    except ValueRefused as error:
        return [Problem(f"/params{one.where}", one.message) for one in error.problems] or [
            Problem("/params", error.message)
        ]
    problems = turn.settings.verdicts.problems(params, plan.params_schema)
    if not problems and has_files(plan.params_schema):
        message = (
            "a workflow with files among its params cannot be scheduled: a file is kept only while "
            "a run uses it. Let its first step fetch what it needs"
        )
        return [Problem("/workflow", message)]
    return [Problem(f"/params{one.where}", one.message) for one in problems]


# Made and changed by hand


def make_schedule(turn: Turn, command: MakeSchedule) -> View:
    """Make a schedule by hand.

    Raises:
        InvalidInput: something of it is not right; every problem is named.
    """
    name = command.name
    problems = _wrong_name(turn, name, None) + _wrong_settings(turn, command.settings)
    if problems:
        raise InvalidInput("the schedule was not made", problems=problems)
    row = ScheduleRow(name, None, turn.now, command.who, {})
    row.declared = _filled(turn, {**SETTINGS, **command.settings})
    row.declared["params"] = _sealed(turn, row.declared)
    if command.paused:
        row.paused = {"by": command.who, "at": turn.now, "reason": command.reason}
    _settle(turn, row)
    _log(turn, command.who, "make_schedule", name, command.reason, command.settings)
    return _view(turn, row)


def change_schedule(turn: Turn, command: ChangeSchedule) -> View:
    """Change a schedule by hand; what a loom declares holds for the rest.

    Raises:
        NotFound: there is none of that name.
        InvalidInput: something of it is not right then; every problem is named.
    """
    row = _find(turn, command.name)
    by_hand = {} if command.as_declared else dict(row.by_hand)
    by_hand |= command.changes
    if command.changes or command.as_declared:
        settings = {**row.declared, **by_hand}
        if "params" not in command.changes:
            settings["params"] = turn.vault.open(settings["params"])
        if problems := _wrong_settings(turn, settings):
            raise InvalidInput("the schedule was not changed", problems=problems)
        by_hand |= {"params": _sealed(turn, settings)} if "params" in by_hand else {}
        row.by_hand = _filled(turn, by_hand)
    if command.paused is True and row.paused is None:
        row.paused = {"by": command.who, "at": turn.now, "reason": command.reason}
    resumed = command.paused is False and row.paused is not None
    if resumed:
        row.paused = None
    _settle(turn, row)
    said = {**command.changes}
    said |= {} if command.paused is None else {"paused": command.paused}
    said |= {"as_declared": True} if command.as_declared else {}
    _log(turn, command.who, "change_schedule", row.name, command.reason, said)
    if resumed:
        run_ended(turn, row.name)  # a time that waited may come now
    return _view(turn, _find(turn, row.name))


def remove_schedule(turn: Turn, command: RemoveSchedule) -> None:
    """Remove a schedule; the runs that it started stay.

    Raises:
        NotFound: there is none of that name.
        Conflict: a loom declares it.
    """
    row = _find(turn, command.name)
    if row.loom is not None:
        raise Conflict(
            f"loom {row.loom} declares schedule {row.name!r}, so it cannot be removed here; it can "
            "be paused"
        )
    _drop(turn, row)
    _log(turn, command.who, "remove_schedule", row.name, command.reason, {})


def start_schedule(turn: Turn, command: StartSchedule) -> Started | Unchecked:
    """Start what a schedule starts, now, whether it is paused or busy.

    Raises:
        NotFound: there is none of that name.
        InvalidInput: its params do not fit its workflow any more.
    """
    row = _find(turn, command.name)
    now = _recurrence(row).text(turn.wall)
    start = _command(turn, row, command.key, command.who, now)
    started = start_run(turn, start)
    turn.schedules.add(row.name)
    return started


def list_schedules(turn: Turn, command: ListSchedules) -> list[View]:
    """Every schedule as it is now, or one.

    Raises:
        NotFound: there is none of that name.
    """
    if command.name is not None:
        return [_view(turn, _find(turn, command.name))]
    rows = [{"name": row.name, "row": row} for row in timing.schedules(turn.unit)]
    return views_of(rows, lambda one: _view(turn, one["row"]), "name")


def next_times(cron: str, zone: str, now: int, count: int = SHOWN) -> list[str]:
    """The next planned times of an expression, as text.

    Raises:
        InvalidInput: the expression or the zone is not right.
    """
    try:
        recurrence = Recurrence(cron, zone)
    except BadRecurrence as error:
        message = "no times were found"
        raise InvalidInput(message, problems=[Problem(f"/{error.field}", str(error))]) from None
    return [recurrence.text(at) for at in islice(recurrence.after(now), count)]


def _wrong_settings(turn: Turn, settings: View) -> list[Problem]:
    problems = problems_of_settings(settings)
    return problems or _problems_of_params(turn, settings, {})


def _settle(turn: Turn, row: ScheduleRow) -> None:
    """When it comes next, after a change; a planned time that is behind us is behind us."""
    row.next_at = None if row.paused is not None else _recurrence(row).next_after(turn.wall)
    _keep(turn, row)
    _remind(turn)


def _keep(turn: Turn, row: ScheduleRow) -> None:
    timing.keep_schedule(turn.unit, row)
    turn.schedules.add(row.name)


def _drop(turn: Turn, row: ScheduleRow) -> None:
    timing.drop_schedule(turn.unit, row.name)
    turn.schedules.add(row.name)


def _find(turn: Turn, name: str) -> ScheduleRow:
    row = timing.schedule(turn.unit, name)
    if row is None:
        known = [one.name for one in timing.schedules(turn.unit)]
        raise NotFound(f"there is no schedule {name!r}{nearest(name, known)}")
    return row


def _effective(row: ScheduleRow) -> View:
    return {**row.declared, **row.by_hand}


def _recurrence(row: ScheduleRow) -> Recurrence:
    settings = _effective(row)
    return _known_recurrence(settings["cron"], settings["zone"])


@functools.lru_cache(1_000)
def _known_recurrence(cron: str, zone: str) -> Recurrence:
    return Recurrence(cron, zone)


def _filled(turn: Turn, settings: View) -> View:
    """Settings with the workflow's full name, which stays unique."""
    if "workflow" not in settings:
        return settings
    return {**settings, "workflow": find_workflow(turn, settings["workflow"])[0]}


def _sealed(turn: Turn, settings: View) -> View:
    """The params as they are kept: secrets are not to be read in the records."""
    _, plan_id = find_workflow(turn, settings["workflow"])
    schema = turn.plan_by_id(plan_id).params_schema
    sealed: View = seal(settings["params"], schema, turn.vault.seal)
    return sealed


def _view(turn: Turn, row: ScheduleRow) -> View:
    settings, recurrence = _effective(row), _recurrence(row)
    first = row.next_at - 1 if row.next_at is not None else turn.wall
    running = timing.unfinished_of_schedule(turn.unit, row.name)
    last_run = row.last["run"] if row.last else None
    return {
        "name": row.name,
        "loom": row.loom,
        **_masked(settings),
        "paused": row.paused and {**row.paused, "at": moment(row.paused["at"])},
        "next_at": None if row.next_at is None else recurrence.text(row.next_at),
        "next_times": [recurrence.text(at) for at in islice(recurrence.after(first), SHOWN)],
        "waiting_at": None if row.waiting_at is None else recurrence.text(row.waiting_at),
        "running": running,
        "last": row.last and {**row.last, "state": _state_of(turn, last_run)},
        "passed_over": row.passed_over,
        "by_hand": _masked(row.by_hand),
        "created_at": moment(row.created_at),
        "created_by": row.created_by,
    }


def _masked(settings: View) -> View:
    return {name: mask(value) if name == "params" else value for name, value in settings.items()}


def _state_of(turn: Turn, number: int | None) -> str | None:
    run = None if number is None else turn.unit.runs.get(number)
    return None if run is None else str(run.state)


def _log(turn: Turn, who: str, what: str, name: str, reason: str, changes: View) -> None:
    # Params as they were given may hold secrets, and the record is for everyone.
    said = {key: value for key, value in changes.items() if key != "params"}
    writing.log_command(turn.unit, turn.now, who, what, None, reason, schedule=name, changes=said)
