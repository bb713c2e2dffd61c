"""Schedules: what starts a workflow again and again by the clock.

Each planned time is one start with the key `schedule/NAME/TIME`, made in the transaction in which
the schedule goes on to its next time: neither a crash nor a clock that is set back fires twice.

Decision: `docs/decisions/09-clock-and-schedules.md`.
"""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, datetime
from itertools import islice

from yarnloom.engine.commands import (
    ChangeSchedule,
    ListSchedules,
    MakeSchedule,
    RemoveSchedule,
    Started,
    StartRun,
    StartSchedule,
    Unchecked,
    handles,
)
from yarnloom.engine.operations.cancel import stop
from yarnloom.engine.operations.full_names import find_workflow
from yarnloom.engine.operations.planned_times import SHOWN, known_recurrence
from yarnloom.engine.operations.start import start_or_fail, start_run
from yarnloom.engine.records.settings import LastTime, PauseRecord, ScheduleRecord
from yarnloom.engine.records.unreadable import Unreadable, readable
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import SCHEDULE_DUE, DueTimes
from yarnloom.engine.state.transaction import Transaction
from yarnloom.errors import Conflict, InvalidInput, NotFound, Problem, ValueRefused, nearest
from yarnloom.plan import NAME, NAME_RULE, Plan
from yarnloom.plan.marked_values import has_files, seal
from yarnloom.plan.schedule_settings import SETTINGS, problems_of_settings
from yarnloom.recurrence import Recurrence
from yarnloom.secrets import Vault, mask
from yarnloom.store import Unit, run_records, schedule_records
from yarnloom.store.schedule_records import ScheduleRow
from yarnloom.values import JsonObject, encode

Settings = JsonObject
"""What a schedule starts and when, by name: `plan/schedule_settings.py` has all."""

_OF_A_LOOM = ("loom", "name", "paused")
LATE = 60_000_000
"""Microseconds after which a planned time counts as missed."""
FIRED_AT_ONCE = 20
"""How many schedules fire in one transaction."""
CAUGHT_UP = 100
"""How many missed times are caught up with at most, the newest."""


# By the clock


def fire_due(transaction: Transaction) -> None:
    """Start what has fallen due, and go on to the next times."""
    for row in schedule_records.schedules_due(
        transaction.unit, transaction.time.wall, FIRED_AT_ONCE
    ):
        _fire(transaction, row)
    _set_timer(transaction.unit, transaction.due_times)


def run_ended(transaction: Transaction, name: str) -> None:
    """A run of a schedule has ended: a planned time that waited for it comes now."""
    row = schedule_records.schedule(transaction.unit, name)
    if row is None or row.waiting_at is None or row.paused is not None:
        return
    if not schedule_records.unfinished_of_schedule(transaction.unit, name):
        planned, row.waiting_at = row.waiting_at, None
        _start(transaction, row, planned)
        _keep(transaction.unit, transaction.changes, row)


def rearm(unit: Unit, time: RunTime, due_times: DueTimes) -> None:
    """The clock was set back, perhaps: times that lie ahead once more are not left out.

    Those that were started before are not started again, since their start keys are taken.
    """
    for row in schedule_records.schedules(unit):
        if row.paused is None:
            following = _recurrence(row).next_after(time.wall)
            if following is not None and (row.next_at is None or following < row.next_at):
                row.next_at = following
                schedule_records.keep_schedule(unit, row)
    _set_timer(unit, due_times)


def _fire(transaction: Transaction, row: ScheduleRow) -> None:
    recurrence = _recurrence(row)
    assert row.next_at is not None
    due = []
    for planned in islice(recurrence.before(transaction.time.wall), CAUGHT_UP):
        if planned < row.next_at:
            break
        due.append(planned)
    missed = _effective(row)["missed"]
    if missed == "none":
        taken = [planned for planned in due if planned > transaction.time.wall - LATE]
    else:
        taken = due if missed == "all" else due[:1]
    for planned in due[len(taken) :]:
        _pass_over(row, planned, "it was missed")
    row.next_at = recurrence.next_after(transaction.time.wall)
    for planned in reversed(taken):
        _come(transaction, row, planned)
    _keep(transaction.unit, transaction.changes, row)


def _come(transaction: Transaction, row: ScheduleRow, planned: int) -> None:
    """A planned time has come."""
    if _was_started(transaction, row, planned):
        return  # the clock was set back since
    going = schedule_records.unfinished_of_schedule(transaction.unit, row.name)
    if_busy = _effective(row)["if_busy"]
    if not going or if_busy == "start":
        _start(transaction, row, planned)
    elif if_busy == "skip":
        _pass_over(row, planned, f"run {going[-1]} was still under way")
    else:
        if row.waiting_at is not None:
            _pass_over(row, row.waiting_at, f"run {going[0]} was still under way at the next time")
        row.waiting_at = planned
        if if_busy == "replace":
            for number in going:
                run = transaction.unit.run(number)
                if not run.stop:
                    stop(transaction, run, f"replaced by the next of schedule {row.name}")


def _start(transaction: Transaction, row: ScheduleRow, planned: int) -> None:
    text = _recurrence(row).text(planned)
    key = _key(row, planned)
    run = start_or_fail(
        transaction, _command(transaction.vault, row, key, f"schedule {row.name}", text)
    )
    if run is not None:
        result = "failed" if run.state == RunState.FAILED else "started"
        row.last = {"planned_at": text, "result": result, "run": run.number, "why": ""}


def _was_started(transaction: Transaction, row: ScheduleRow, planned: int) -> bool:
    workflow, _ = find_workflow(transaction, _effective(row)["workflow"])
    return run_records.find_start(transaction.unit, workflow, _key(row, planned)) is not None


def _key(row: ScheduleRow, planned: int) -> str:
    at = f"{datetime.fromtimestamp(planned // 1_000_000, UTC):%Y-%m-%dT%H:%M:%SZ}"
    return f"schedule/{row.name}/{at}"


def _pass_over(row: ScheduleRow, planned: int, why: str) -> None:
    row.passed_over += 1
    text = _recurrence(row).text(planned)
    row.last = {"planned_at": text, "result": "passed_over", "run": None, "why": why}


def _command(vault: Vault, row: ScheduleRow, key: str, who: str, planned_at: str) -> StartRun:
    settings = _effective(row)
    return StartRun(
        workflow=settings["workflow"],
        params=vault.open(settings["params"]),
        key=key,
        who=who,
        priority=settings["priority"],
        share=settings["share"],
        tags=tuple(settings["tags"]),
        planned_at=planned_at,
        schedule=row.name,
    )


def _set_timer(unit: Unit, due_times: DueTimes) -> None:
    if (following := schedule_records.next_firing(unit)) is not None:
        due_times.set_by_day(SCHEDULE_DUE, following)


# Declared by looms


def read_schedules(
    transaction: Transaction, given: list[JsonObject], plans: list[Plan]
) -> dict[str, dict[str, Settings]]:
    """Schedules as looms declare them: by loom, by name.

    Args:
        transaction: the transaction.
        given: what is published, each with its `loom`, its `name`, and whether it is `paused`.
        plans: the plans that are published with them.

    Raises:
        InvalidInput: one is not right; every problem is named.
    """
    declared: dict[str, dict[str, Settings]] = defaultdict(dict)
    problems: list[Problem] = []
    known = {plan.workflow: plan for plan in plans}
    for place, one in enumerate(given):
        loom, name, paused = str(one.get("loom")), str(one.get("name")), bool(one.get("paused"))
        settings = {key: value for key, value in one.items() if key not in _OF_A_LOOM}
        found = _wrong_name(transaction.unit, name, loom) + problems_of_settings(settings)
        found = found or _problems_of_params(transaction, settings, known)
        problems += (Problem(f"/schedules/{place}{each.where}", each.message) for each in found)
        declared[loom][name] = {**SETTINGS, **settings, "paused": paused}
    if problems:
        raise InvalidInput("nothing was published: a schedule is not right", problems=problems)
    return declared


def declare_schedules(
    transaction: Transaction, loom: str, declared: dict[str, Settings], who: str
) -> None:
    """Keep the schedules that a loom declares, and forget those that it does not any more.

    Whether one is paused is said by its first declaration, and from then on by hand.
    """
    known = {row.name: row for row in schedule_records.schedules(transaction.unit)}
    for name, one in declared.items():
        settings = {key: value for key, value in one.items() if key != "paused"}
        settings["params"] = _sealed(transaction, settings)
        row = known.get(name)
        if row is None:
            row = ScheduleRow(name, loom, transaction.time.now, who, {})
            if one["paused"]:
                row.paused = {"by": who, "at": transaction.time.now, "reason": "declared so"}
        if row.declared != settings:
            row.declared = settings
            _settle(
                transaction.unit, transaction.time, transaction.due_times, transaction.changes, row
            )
    for row in known.values():
        if row.loom == loom and row.name not in declared:
            _drop(transaction.unit, transaction.changes, row)


def _wrong_name(unit: Unit, name: str, loom: str | None) -> list[Problem]:
    if not NAME.match(name):
        return [Problem("/name", f"found {name!r:.60}; a name has {NAME_RULE}")]
    row = schedule_records.schedule(unit, name)
    if row is None or (loom is not None and row.loom == loom):
        return []
    whose = f"is of loom {row.loom}" if row.loom else "was made by hand"
    return [Problem("/name", f"there is a schedule {name!r} that {whose}; choose another name")]


def _problems_of_params(
    transaction: Transaction, settings: Settings, plans: dict[str, Plan]
) -> list[Problem]:
    """What is wrong with what a schedule would start."""
    plan = plans.get(settings["workflow"])
    if plan is None:
        try:
            _, plan_id = find_workflow(transaction, settings["workflow"])
        except (NotFound, InvalidInput) as error:
            return [Problem("/workflow", error.message)]
        plan = transaction.plans.by_id(plan_id)
    params = settings.get("params", {})
    try:
        encode(params, "params")
    except ValueRefused as error:
        return [Problem(f"/params{one.where}", one.message) for one in error.problems] or [
            Problem("/params", error.message)
        ]
    problems = transaction.settings.verdicts.problems(params, plan.params_schema)
    if not problems and has_files(plan.params_schema):
        message = (
            "a workflow with files among its params cannot be scheduled: a file is kept only while "
            "a run uses it. Let its first step fetch what it needs"
        )
        return [Problem("/workflow", message)]
    return [Problem(f"/params{one.where}", one.message) for one in problems]


# Made and changed by hand


@handles(MakeSchedule)
def make_schedule(transaction: Transaction, command: MakeSchedule) -> ScheduleRecord:
    """Make a schedule by hand.

    Raises:
        InvalidInput: something of it is not right; every problem is named.
    """
    name = command.name
    problems = _wrong_name(transaction.unit, name, None) + _wrong_settings(
        transaction, command.settings
    )
    if problems:
        raise InvalidInput("the schedule was not made", problems=problems)
    row = ScheduleRow(name, None, transaction.time.now, command.who, {})
    row.declared = _filled(transaction, {**SETTINGS, **command.settings})
    row.declared["params"] = _sealed(transaction, row.declared)
    if command.paused:
        row.paused = {"by": command.who, "at": transaction.time.now, "reason": command.reason}
    _settle(transaction.unit, transaction.time, transaction.due_times, transaction.changes, row)
    _log(
        transaction.unit,
        transaction.time,
        command.who,
        "make_schedule",
        name,
        command.reason,
        command.settings,
    )
    return _record(transaction.unit, transaction.time, row)


@handles(ChangeSchedule)
def change_schedule(transaction: Transaction, command: ChangeSchedule) -> ScheduleRecord:
    """Change a schedule by hand; what a loom declares holds for the rest.

    Raises:
        NotFound: there is none of that name.
        InvalidInput: something of it is not right then; every problem is named.
    """
    row = _find(transaction.unit, command.name)
    by_hand = {} if command.as_declared else dict(row.by_hand)
    by_hand |= command.changes
    # Params rest sealed, and are checked as they were given.
    if command.changes or command.as_declared:
        settings = {**row.declared, **by_hand}
        if "params" not in command.changes:
            settings["params"] = transaction.vault.open(settings["params"])
        if problems := _wrong_settings(transaction, settings):
            raise InvalidInput("the schedule was not changed", problems=problems)
        by_hand |= {"params": _sealed(transaction, settings)} if "params" in by_hand else {}
        row.by_hand = _filled(transaction, by_hand)
    if command.paused is True and row.paused is None:
        row.paused = {"by": command.who, "at": transaction.time.now, "reason": command.reason}
    resumed = command.paused is False and row.paused is not None
    if resumed:
        row.paused = None
    _settle(transaction.unit, transaction.time, transaction.due_times, transaction.changes, row)
    said = {**command.changes}
    said |= {} if command.paused is None else {"paused": command.paused}
    said |= {"as_declared": True} if command.as_declared else {}
    _log(
        transaction.unit,
        transaction.time,
        command.who,
        "change_schedule",
        row.name,
        command.reason,
        said,
    )
    if resumed:
        run_ended(transaction, row.name)  # a time that waited may come now
    return _record(transaction.unit, transaction.time, _find(transaction.unit, row.name))


@handles(RemoveSchedule)
def remove_schedule(unit: Unit, time: RunTime, changes: Changes, command: RemoveSchedule) -> None:
    """Remove a schedule; the runs that it started stay.

    Raises:
        NotFound: there is none of that name.
        Conflict: a loom declares it.
    """
    row = _find(unit, command.name)
    if row.loom is not None:
        raise Conflict(
            f"loom {row.loom} declares schedule {row.name!r}, so it cannot be removed here; it can "
            "be paused"
        )
    _drop(unit, changes, row)
    _log(unit, time, command.who, "remove_schedule", row.name, command.reason, {})


@handles(StartSchedule)
def start_schedule(transaction: Transaction, command: StartSchedule) -> Started | Unchecked:
    """Start what a schedule starts, now, whether it is paused or busy.

    Raises:
        NotFound: there is none of that name.
        InvalidInput: its params do not fit its workflow any more.
    """
    row = _find(transaction.unit, command.name)
    now = _recurrence(row).text(transaction.time.wall)
    start = _command(transaction.vault, row, command.key, command.who, now)
    started = start_run(transaction, start)
    transaction.changes.schedules.add(row.name)
    return started


@handles(ListSchedules)
def list_schedules(
    unit: Unit, time: RunTime, command: ListSchedules
) -> list[ScheduleRecord | Unreadable]:
    """Return every schedule as it is now, or one.

    Raises:
        NotFound: there is none of that name.
    """
    if command.name is not None:
        return [_record(unit, time, _find(unit, command.name))]
    rows = [{"name": row.name, "row": row} for row in schedule_records.schedules(unit)]
    return readable(rows, lambda one: _record(unit, time, one["row"]), "name")


def _wrong_settings(transaction: Transaction, settings: Settings) -> list[Problem]:
    problems = problems_of_settings(settings)
    return problems or _problems_of_params(transaction, settings, {})


def _settle(
    unit: Unit, time: RunTime, due_times: DueTimes, changes: Changes, row: ScheduleRow
) -> None:
    """When it comes next, after a change; a planned time that is behind us is behind us."""
    row.next_at = None if row.paused is not None else _recurrence(row).next_after(time.wall)
    _keep(unit, changes, row)
    _set_timer(unit, due_times)


def _keep(unit: Unit, changes: Changes, row: ScheduleRow) -> None:
    schedule_records.keep_schedule(unit, row)
    changes.schedules.add(row.name)


def _drop(unit: Unit, changes: Changes, row: ScheduleRow) -> None:
    schedule_records.drop_schedule(unit, row.name)
    changes.schedules.add(row.name)


def _find(unit: Unit, name: str) -> ScheduleRow:
    row = schedule_records.schedule(unit, name)
    if row is None:
        known = [schedule.name for schedule in schedule_records.schedules(unit)]
        raise NotFound(f"there is no schedule {name!r}{nearest(name, known)}")
    return row


def _effective(row: ScheduleRow) -> Settings:
    return {**row.declared, **row.by_hand}


def _recurrence(row: ScheduleRow) -> Recurrence:
    settings = _effective(row)
    return known_recurrence(settings["cron"], settings["zone"])


def _filled(transaction: Transaction, settings: Settings) -> Settings:
    """Settings with the workflow's full name, which stays unique."""
    if "workflow" not in settings:
        return settings
    return {**settings, "workflow": find_workflow(transaction, settings["workflow"])[0]}


def _sealed(transaction: Transaction, settings: Settings) -> JsonObject:
    """The params as they are kept: secrets are not to be read in the records."""
    _, plan_id = find_workflow(transaction, settings["workflow"])
    schema = transaction.plans.by_id(plan_id).params_schema
    sealed: JsonObject = seal(settings["params"], schema, transaction.vault.seal)
    return sealed


def _record(unit: Unit, time: RunTime, row: ScheduleRow) -> ScheduleRecord:
    settings, recurrence = _effective(row), _recurrence(row)
    first = row.next_at - 1 if row.next_at is not None else time.wall
    running = schedule_records.unfinished_of_schedule(unit, row.name)
    last_run = row.last["run"] if row.last else None
    return ScheduleRecord(
        name=row.name,
        loom=row.loom,
        **_masked(settings),
        paused=PauseRecord(**row.paused) if row.paused else None,
        next_at=None if row.next_at is None else recurrence.text(row.next_at),
        next_times=[recurrence.text(at) for at in islice(recurrence.after(first), SHOWN)],
        waiting_at=None if row.waiting_at is None else recurrence.text(row.waiting_at),
        running=running,
        last=LastTime(**row.last, state=_state_of(unit, last_run)) if row.last else None,
        passed_over=row.passed_over,
        by_hand=_masked(row.by_hand),
        created_at=row.created_at,
        created_by=row.created_by,
    )


def _masked(settings: Settings) -> Settings:
    return {name: mask(value) if name == "params" else value for name, value in settings.items()}


def _state_of(unit: Unit, number: int | None) -> str | None:
    run = None if number is None else unit.runs.get(number)
    return None if run is None else str(run.state)


def _log(
    unit: Unit, time: RunTime, who: str, what: str, name: str, reason: str, changes: JsonObject
) -> None:
    # Params as they were given may hold secrets, and the record is for everyone.
    said = {key: value for key, value in changes.items() if key != "params"}
    run_records.log_command(unit, time.now, who, what, None, reason, schedule=name, changes=said)
