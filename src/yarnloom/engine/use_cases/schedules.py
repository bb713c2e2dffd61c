"""Schedules: what starts a workflow again and again by the clock.

Each planned time is one start with the key `schedule/NAME/TIME`, made in the transaction in which
the schedule goes on to its next time: neither a crash nor a clock that is set back fires twice.

Decision: `docs/decisions/09-clock-and-schedules.md`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
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
from yarnloom.engine.records.settings import LastTime, PauseRecord, ScheduleRecord
from yarnloom.engine.records.unreadable import Unreadable, readable
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.due_times import SCHEDULE_DUE, DueTimes
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.use_cases.cancel import Cancelling
from yarnloom.engine.use_cases.planned_times import SHOWN
from yarnloom.engine.use_cases.start import Starting
from yarnloom.errors import Conflict, InvalidInput, NotFound, Problem, ValueRefused, nearest
from yarnloom.plan import NAME, NAME_RULE, Plan
from yarnloom.plan.marked_values import has_files, seal
from yarnloom.plan.schedule_settings import SETTINGS, problems_of_settings, spread_of, times_of
from yarnloom.recurrence import Times, step_problem, step_remark
from yarnloom.secrets import Vault, mask
from yarnloom.start_keys import OF_SCHEDULE
from yarnloom.store import Unit
from yarnloom.store.runs import run_records, schedule_records
from yarnloom.store.runs.schedule_records import ScheduleRow
from yarnloom.units import seconds
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


@dataclass(slots=True)
class Schedules:
    """Makes and changes schedules, and starts their runs."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    workflows: Workflows
    vault: Vault
    cancelling: Cancelling
    starting: Starting

    # By the clock

    def fire_due(self) -> None:
        """Start what has fallen due, and go on to the next times."""
        for row in schedule_records.schedules_due(self.unit, self.time.wall, FIRED_AT_ONCE):
            self._fire(row)
        self._set_timer()

    def run_ended(self, name: str) -> None:
        """A run of a schedule has ended: a planned time that waited for it comes now."""
        row = schedule_records.schedule(self.unit, name)
        if row is None or row.waiting_at is None or row.paused is not None:
            return
        if not schedule_records.unfinished_of_schedule(self.unit, name):
            planned, row.waiting_at = row.waiting_at, None
            self._start(row, planned)
            self._keep(row)

    def rearm(self) -> None:
        """The clock was set back, perhaps: times that lie ahead once more are not left out.

        Those that were started before are not started again, since their start keys are taken.
        """
        for row in schedule_records.schedules(self.unit):
            if row.paused is None:
                following = _next_firing(row, self.time.wall)
                if following is not None and (row.next_at is None or following < row.next_at):
                    row.next_at = following
                    schedule_records.keep_schedule(self.unit, row)
        self._set_timer()

    def _fire(self, row: ScheduleRow) -> None:
        times = _times(row)
        assert row.next_at is not None
        due = []
        for planned in islice(times.before(self.time.wall), CAUGHT_UP):
            fires_at = _fires_at(row, planned)
            if fires_at < row.next_at:
                break
            if fires_at <= self.time.wall:
                due.append(planned)
        missed = _effective(row)["missed"]
        if missed == "none":
            taken = [one for one in due if _fires_at(row, one) > self.time.wall - LATE]
        else:
            taken = due if missed == "all" else due[:1]
        for planned in due[len(taken) :]:
            _pass_over(row, planned, "it was missed")
        row.next_at = _next_firing(row, self.time.wall)
        for planned in reversed(taken):
            self._come(row, planned)
        self._keep(row)

    def _come(self, row: ScheduleRow, planned: int) -> None:
        """A planned time has come."""
        if self._was_started(row, planned):
            return  # the clock was set back since
        going = schedule_records.unfinished_of_schedule(self.unit, row.name)
        if_busy = _effective(row)["if_busy"]
        if not going or if_busy == "start":
            self._start(row, planned)
        elif if_busy == "skip":
            _pass_over(row, planned, f"run {going[-1]} was still under way")
        else:
            if row.waiting_at is not None:
                _pass_over(
                    row, row.waiting_at, f"run {going[0]} was still under way at the next time"
                )
            row.waiting_at = planned
            if if_busy == "replace":
                for number in going:
                    run = self.unit.run(number)
                    if not run.stop:
                        self.cancelling.stop(run, f"replaced by the next of schedule {row.name}")

    def _start(self, row: ScheduleRow, planned: int) -> None:
        text = _times(row).text(planned)
        key = _key(row, planned)
        run = self.starting.start_or_fail(
            _command(self.vault, row, key, f"schedule {row.name}", text)
        )
        if run is not None:
            result = "failed" if run.state == RunState.FAILED else "started"
            row.last = {"planned_at": text, "result": result, "run": run.number, "why": ""}

    def _was_started(self, row: ScheduleRow, planned: int) -> bool:
        workflow, _ = self.workflows.find(_effective(row)["workflow"])
        return run_records.find_start(self.unit, workflow, _key(row, planned)) is not None

    def _set_timer(self) -> None:
        if (following := schedule_records.next_firing(self.unit)) is not None:
            self.due_times.set_by_day(SCHEDULE_DUE, following)

    # Declared by looms

    def read_schedules(
        self, given: list[JsonObject], plans: list[Plan]
    ) -> dict[str, dict[str, Settings]]:
        """Schedules as looms declare them: by loom, by name.

        Args:
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
            known_row = schedule_records.schedule(self.unit, name)
            known_cron = known_row.declared.get("cron", "") if known_row else ""
            found = _wrong_name(self.unit, name, loom)
            found += problems_of_settings(settings, known_cron)
            found = found or self._problems_of_params(settings, known)
            problems += (Problem(f"/schedules/{place}{each.where}", each.message) for each in found)
            declared[loom][name] = {**SETTINGS, **settings, "paused": paused}
        if problems:
            raise InvalidInput("nothing was published: a schedule is not right", problems=problems)
        return declared

    def declare_schedules(self, loom: str, declared: dict[str, Settings], who: str) -> None:
        """Keep the schedules that a loom declares, and forget those that it does not any more.

        Whether one is paused is said by its first declaration, and from then on by hand.
        """
        known = {row.name: row for row in schedule_records.schedules(self.unit)}
        for name, one in declared.items():
            settings = {key: value for key, value in one.items() if key != "paused"}
            settings["params"] = self._sealed(settings)
            row = known.get(name)
            if row is None:
                row = ScheduleRow(name, loom, self.time.now, who, {})
                if one["paused"]:
                    row.paused = {"by": who, "at": self.time.now, "reason": "declared so"}
            if row.declared != settings:
                row.declared = settings
                self._settle(row)
        for row in known.values():
            if row.loom == loom and row.name not in declared:
                self._drop(row)

    def _problems_of_params(self, settings: Settings, plans: dict[str, Plan]) -> list[Problem]:
        """What is wrong with what a schedule would start."""
        plan = plans.get(settings["workflow"])
        if plan is None:
            try:
                _, plan_id = self.workflows.find(settings["workflow"])
            except (NotFound, InvalidInput) as error:
                return [Problem("/workflow", error.detail)]
            plan = self.plans.by_id(plan_id)
        params = settings.get("params", {})
        try:
            encode(params, "params")
        except ValueRefused as error:
            return [Problem(f"/params{one.where}", one.message) for one in error.problems] or [
                Problem("/params", error.detail)
            ]
        problems = self.settings.verdicts.problems(params, plan.params_schema)
        if not problems and has_files(plan.params_schema):
            message = (
                "a workflow with files among its params cannot be scheduled: a file is kept only "
                "while a run uses it. Let its first step fetch what it needs"
            )
            return [Problem("/workflow", message)]
        return [Problem(f"/params{one.where}", one.message) for one in problems]

    # Made and changed by hand

    @handles(MakeSchedule)
    def make_schedule(self, command: MakeSchedule) -> ScheduleRecord:
        """Make a schedule by hand.

        Raises:
            InvalidInput: something of it is not right; every problem is named.
        """
        name = command.name
        problems = _wrong_name(self.unit, name, None) + self._wrong_settings(command.settings)
        if problems:
            raise InvalidInput("the schedule was not made", problems=problems)
        row = ScheduleRow(name, None, self.time.now, command.who, {})
        row.declared = self._filled({**SETTINGS, **command.settings})
        row.declared["params"] = self._sealed(row.declared)
        if command.paused:
            row.paused = {"by": command.who, "at": self.time.now, "reason": command.reason}
        self._settle(row)
        self._log(command.who, "make_schedule", name, command.reason, command.settings)
        return self._record(row)

    @handles(ChangeSchedule)
    def change_schedule(self, command: ChangeSchedule) -> ScheduleRecord:
        """Change a schedule by hand; what a loom declares holds for the rest.

        Raises:
            NotFound: there is none of that name.
            InvalidInput: something of it is not right then; every problem is named.
        """
        row = _find(self.unit, command.name)
        by_hand = {} if command.as_declared else dict(row.by_hand)
        by_hand |= command.changes
        # One of both says when it comes: the other is given up, unless both are given.
        for given, others in (("every", ("cron",)), ("cron", ("every", "first"))):
            if command.changes.get(given):
                before = _effective(row)
                by_hand |= {
                    other: "" for other in others if before[other] and other not in command.changes
                }
        # Params rest sealed, and are checked as they were given.
        if command.changes or command.as_declared:
            settings = {**row.declared, **by_hand}
            if "params" not in command.changes:
                settings["params"] = self.vault.open(settings["params"])
            if problems := self._wrong_settings(settings, _effective(row)["cron"]):
                raise InvalidInput("the schedule was not changed", problems=problems)
            by_hand |= {"params": self._sealed(settings)} if "params" in by_hand else {}
            row.by_hand = self._filled(by_hand)
        if command.paused is True and row.paused is None:
            row.paused = {"by": command.who, "at": self.time.now, "reason": command.reason}
        resumed = command.paused is False and row.paused is not None
        if resumed:
            row.paused = None
        self._settle(row)
        said = {**command.changes}
        said |= {} if command.paused is None else {"paused": command.paused}
        said |= {"as_declared": True} if command.as_declared else {}
        self._log(command.who, "change_schedule", row.name, command.reason, said)
        if resumed:
            self.run_ended(row.name)  # a time that waited may come now
        return self._record(_find(self.unit, row.name))

    @handles(RemoveSchedule)
    def remove_schedule(self, command: RemoveSchedule) -> None:
        """Remove a schedule; the runs that it started stay.

        Raises:
            NotFound: there is none of that name.
            Conflict: a loom declares it.
        """
        row = _find(self.unit, command.name)
        if row.loom is not None:
            raise Conflict(
                f"loom {row.loom} declares schedule {row.name!r}, so it cannot be removed here; it "
                "can be paused"
            )
        self._drop(row)
        self._log(command.who, "remove_schedule", row.name, command.reason, {})

    @handles(StartSchedule)
    def start_schedule(self, command: StartSchedule) -> Started | Unchecked:
        """Start what a schedule starts, now, whether it is paused or busy.

        Raises:
            NotFound: there is none of that name.
            InvalidInput: its params do not fit its workflow any more.
        """
        row = _find(self.unit, command.name)
        now = _times(row).text(self.time.wall)
        start = _command(self.vault, row, command.key, command.who, now)
        started = self.starting.start_run(start)
        self.changes.schedules.add(row.name)
        return started

    @handles(ListSchedules)
    def list_schedules(self, command: ListSchedules) -> list[ScheduleRecord | Unreadable]:
        """Return every schedule as it is now, or one.

        Raises:
            NotFound: there is none of that name.
        """
        if command.name is not None:
            return [self._record(_find(self.unit, command.name))]
        rows = [{"name": row.name, "row": row} for row in schedule_records.schedules(self.unit)]
        return readable(rows, lambda one: self._record(one["row"]), "name")

    def _wrong_settings(self, settings: Settings, known_cron: str = "") -> list[Problem]:
        problems = problems_of_settings(settings, known_cron)
        return problems or self._problems_of_params(settings, {})

    def _settle(self, row: ScheduleRow) -> None:
        """When it comes next, after a change; a planned time that is behind us is behind us."""
        row.next_at = None if row.paused is not None else _next_firing(row, self.time.wall)
        self._keep(row)
        self._set_timer()

    def _keep(self, row: ScheduleRow) -> None:
        schedule_records.keep_schedule(self.unit, row)
        self.changes.schedules.add(row.name)

    def _drop(self, row: ScheduleRow) -> None:
        schedule_records.drop_schedule(self.unit, row.name)
        self.changes.schedules.add(row.name)

    def _filled(self, settings: Settings) -> Settings:
        """Settings with the workflow's full name, which stays unique."""
        if "workflow" not in settings:
            return settings
        return {**settings, "workflow": self.workflows.find(settings["workflow"])[0]}

    def _sealed(self, settings: Settings) -> JsonObject:
        """The params as they are kept: secrets are not to be read in the records."""
        _, plan_id = self.workflows.find(settings["workflow"])
        schema = self.plans.by_id(plan_id).params_schema
        sealed: JsonObject = seal(settings["params"], schema, self.vault.seal)
        return sealed

    def _record(self, row: ScheduleRow) -> ScheduleRecord:
        settings, times = _effective(row), _times(row)
        remark = step_problem(settings["cron"]) or step_remark(settings["cron"])
        running = schedule_records.unfinished_of_schedule(self.unit, row.name)
        last_run = row.last["run"] if row.last else None
        return ScheduleRecord(
            name=row.name,
            loom=row.loom,
            **_masked(settings),
            paused=PauseRecord(**row.paused) if row.paused else None,
            remarks=[remark] if remark else [],
            next_at=None if row.next_at is None else times.text(row.next_at),
            next_times=[times.text(at) for at in islice(_firings(row, self.time.wall), SHOWN)],
            waiting_at=None if row.waiting_at is None else times.text(row.waiting_at),
            running=running,
            last=LastTime(**row.last, state=_state_of(self.unit, last_run)) if row.last else None,
            passed_over=row.passed_over,
            by_hand=_masked(row.by_hand),
            created_at=row.created_at,
            created_by=row.created_by,
        )

    def _log(self, who: str, what: str, name: str, reason: str, changes: JsonObject) -> None:
        # Params as they were given may hold secrets, and the record is for everyone.
        said = {key: value for key, value in changes.items() if key != "params"}
        run_records.log_command(
            self.unit, self.time.now, who, what, None, reason, schedule=name, changes=said
        )


def _key(row: ScheduleRow, planned: int) -> str:
    at = f"{datetime.fromtimestamp(planned // 1_000_000, UTC):%Y-%m-%dT%H:%M:%SZ}"
    return f"{OF_SCHEDULE}{row.name}/{at}"


def _pass_over(row: ScheduleRow, planned: int, why: str) -> None:
    row.passed_over += 1
    text = _times(row).text(planned)
    row.last = {"planned_at": text, "result": "passed_over", "run": None, "why": why}


def _command(vault: Vault, row: ScheduleRow, key: str, who: str, planned_at: str) -> StartRun:
    settings = _effective(row)
    return StartRun(
        target=settings["workflow"],
        params=vault.open(settings["params"]),
        key=key,
        who=who,
        priority=settings["priority"],
        share=settings["share"],
        tags=tuple(settings["tags"]),
        planned_at=planned_at,
        schedule=row.name,
    )


def _wrong_name(unit: Unit, name: str, loom: str | None) -> list[Problem]:
    if not NAME.match(name):
        return [Problem("/name", f"found {name!r:.60}; a name has {NAME_RULE}")]
    row = schedule_records.schedule(unit, name)
    if row is None or (loom is not None and row.loom == loom):
        return []
    whose = f"is of loom {row.loom}" if row.loom else "was made by hand"
    return [Problem("/name", f"there is a schedule {name!r} that {whose}; choose another name")]


def _find(unit: Unit, name: str) -> ScheduleRow:
    row = schedule_records.schedule(unit, name)
    if row is None:
        known = [schedule.name for schedule in schedule_records.schedules(unit)]
        raise NotFound(f"there is no schedule {name!r}{nearest(name, known)}")
    return row


def _effective(row: ScheduleRow) -> Settings:
    return {**row.declared, **row.by_hand}


def _times(row: ScheduleRow) -> Times:
    """The planned times of a schedule."""
    return times_of(_effective(row), row.created_at)


def _fires_at(row: ScheduleRow, planned: int) -> int:
    """When a schedule starts what it starts for a planned time."""
    return planned + spread_of(row.name, _effective(row), planned)


def _firings(row: ScheduleRow, at: int) -> Iterator[int]:
    """When it starts something after a time, in order."""
    spread = _effective(row)["spread"]
    longest = round(seconds(spread) * 1_000_000) if spread else 0
    for planned in _times(row).after(at - longest):
        if planned > row.created_at and (fires_at := _fires_at(row, planned)) > at:
            yield fires_at


def _next_firing(row: ScheduleRow, at: int) -> int | None:
    return next(_firings(row, at), None)


def _masked(settings: Settings) -> Settings:
    return {name: mask(value) if name == "params" else value for name, value in settings.items()}


def _state_of(unit: Unit, number: int | None) -> str | None:
    run = None if number is None else unit.runs.get(number)
    return None if run is None else str(run.state)
