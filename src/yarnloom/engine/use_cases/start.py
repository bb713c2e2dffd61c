"""Starting runs, once for each start key: now, later, or many at once.

A run is made, and then opened: at once, when its start time has come, or, of many that were
started together, in its transaction, so that no transaction opens more than a few.
"""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.commands import (
    CheckStarts,
    RerunRun,
    RowsOfParam,
    RowsToCheck,
    Started,
    StartMany,
    StartRun,
    Unchecked,
    handles,
)
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.dispatch.kept_files import (
    checked_rows,
    rows_of,
    rows_to_check,
    unknown_files,
    use_named,
)
from yarnloom.engine.dispatch.pool_settings import refuse_unknown_pools
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import StartedOne
from yarnloom.engine.rules.access_patterns import is_within, outside
from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import Admission, RunEvent, RunState
from yarnloom.engine.state.due_times import RUN_DEADLINE_DUE, START_BY_DUE, START_DUE, DueTimes
from yarnloom.engine.state.plans import Plans, StartTarget, StartTargets, Workflows
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.verdicts import Unjudged
from yarnloom.engine.use_cases.admission import HeldRuns
from yarnloom.errors import InvalidInput, NotFound, Problem, Refused, StartKeyTaken, ValueRefused
from yarnloom.plan import Constant, FromParam, Plan, Source
from yarnloom.plan.marked_values import as_given, has_files, rows_in, seal, with_lists
from yarnloom.plan.schemas import with_defaults
from yarnloom.secrets import Vault, mask
from yarnloom.start_keys import is_chosen
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.runs import run_records as store
from yarnloom.store.runs import schedule_records
from yarnloom.units import iso_time
from yarnloom.values import JsonObject, JsonValue, decode, encode, encode_given, fingerprint

OPENED_AT_ONCE = 50


@dataclass(frozen=True, slots=True)
class PreparedStart:
    """A start that is found to be right, and changed nothing so far.

    Attributes:
        command: the start.
        target: the workflow or task.
        params: with defaults, secrets sealed, as JSON text.
        marked: as they were given, secrets marked.
        hashed: the hash of that.
        share: whom fair turns are counted for; empty for the run itself.
        queue: the value for which the workflow's `at_once` holds; empty for all its runs.
    """

    command: StartRun
    target: StartTarget
    params: str
    marked: JsonValue
    hashed: str
    share: str = ""
    queue: str = ""


@dataclass(slots=True)
class Starting:
    """Starts runs."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    vault: Vault
    moves: Moves
    pools: Pools
    workflows: Workflows
    compositions: Compositions
    targets: StartTargets
    held_runs: HeldRuns

    @handles(StartRun)
    def start_run(self, command: StartRun) -> Started | Unchecked:
        """Make a run, and what it begins with ready unless its start time is ahead.

        Raises:
            NotFound: there is no such workflow, or task.
            InvalidInput: the params or times do not fit; every problem is named.
            StartKeyTaken: the key belongs to a run with other params.
            NotAllowed: the caller may not start it.
        """
        prepared = self.prepare(command)
        if isinstance(prepared, Unchecked):
            return prepared
        if earlier := store.find_start(self.unit, prepared.target.scope, command.key):
            return self._same_start(prepared, *earlier)
        run = self.add_run(prepared)
        root = None if run.state == RunState.SCHEDULED else self.open_run(run)
        return Started(record_of(self.unit, self.time, self.plans, run, root), created=True)

    def prepare(self, command: StartRun, *, judge: bool = True) -> PreparedStart | Unchecked:
        """Look whether a run could be started, and what it would be started with.

        Args:
            judge: False leaves it to the worker whether the params fit.

        Raises:
            Unjudged: the params are costly to check; their verdict is to be kept first.
            NotFound: there is no such workflow, or task.
            InvalidInput: the params or times do not fit; every problem is named.
        """
        target = self.targets.find(command.target)
        if command.within and not is_within(target.name, command.within):
            raise outside(target.name, command.within)
        plan = self.plans.by_id(target.plan)
        schema = plan.params_schema
        if unclear := [name for name in command.keywords if name in schema.get("properties", {})]:
            raise _unclear(target, unclear)
        files = has_files(schema)
        encode_given(command.params, "params")  # too large or too deep: nothing more is looked at
        given = as_given(command.params, schema) if files else command.params
        marked = seal(given, schema, self.vault.mark)
        # The same start again gets its run, also when that would not be started any more.
        if self._find_start(target, plan, command.key):
            return PreparedStart(command, target, "", marked, fingerprint(marked))
        problems = self.settings.verdicts.problems(command.params, schema) if judge else []
        if files and not problems:
            problems = unknown_files(self.unit, command.params, schema)
        what = f"the params do not fit {target.kind} {target.name!r}"
        if not problems:
            problems, what = _wrong_times(self.time, command), "the run could never begin"
        if problems:
            raise InvalidInput(f"{what}; nothing was started", problems=problems)
        if not plan.pools.keys() <= self.pools.settings.keys():
            refuse_unknown_pools(self.pools, [plan])
        filled = with_defaults(command.params, schema)
        if files:
            if unchecked := rows_to_check(self.unit, filled, schema):
                return Unchecked(tuple(unchecked))
            filled = with_lists(
                filled, schema, lambda one, marked: _list_for(self.unit, one, marked)
            )
        params = encode(seal(filled, schema, self.vault.seal), "params")
        given_params = decode(params)
        share = command.share or _text_of(plan.share, given_params)
        queue = _text_of(plan.per, given_params)
        return PreparedStart(command, target, params, marked, fingerprint(marked), share, queue)

    def _find_start(self, target: StartTarget, plan: Plan, key: str) -> tuple[int, str] | None:
        """The run that a start key made; one whose time is over is free again."""
        earlier = store.find_start(self.unit, target.scope, key)
        if earlier is None or plan.key_for is None or not is_chosen(key):
            return earlier
        run = self.unit.runs.get(earlier[0])
        ended_at = run.ended_at if run else 0
        if ended_at is None or ended_at + round(plan.key_for * 1_000_000) > self.time.now:
            return earlier
        store.free_start(self.unit, target.scope, key)
        return None

    @handles(RowsOfParam)
    def rows_of_param(self, command: RowsOfParam) -> RowsToCheck:
        """Return how a file would be checked that is given as a param.

        Raises:
            NotFound: there is no such workflow or task.
            InvalidInput: the param takes no rows, or the file is not kept here.
        """
        schema = self.plans.by_id(self.targets.find(command.target).plan).params_schema
        given = {command.param: command.value}
        rows = next((one for one in rows_in(given, schema)), None)
        if rows is None:
            text = f"param {command.param!r} of {command.target} takes no rows"
            raise InvalidInput(text, problems=[Problem("/param", text)])
        problems = [
            one._replace(where=one.where.replace(f"/{command.param}", "/value", 1))
            for one in unknown_files(self.unit, given, schema)
        ]
        if problems:
            raise InvalidInput("the file cannot be looked at", problems=problems)
        where, value, marked = rows
        return rows_of(where, value, marked)

    def add_run(self, prepared: PreparedStart) -> RunRow:
        """Make a run, which is then to be opened, now or later."""
        command, target = prepared.command, prepared.target
        at = command.start_at
        if command.start_in is not None:
            at = self.time.now + round(command.start_in * 1_000_000)
        ahead = at is not None and at > (
            self.time.wall if command.start_in is None else self.time.now
        )
        run = self.unit.runs.add(
            RunRow(
                number=self.unit.new_id("runs"),
                plan=target.plan,
                workflow=target.name,
                version=self.plans.by_id(target.plan).version,
                params=prepared.params,
                share=prepared.share,
                queue=prepared.queue,
                tags=json.dumps(command.tags),
                start_key=command.key,
                started_by=command.who,
                created_at=self.time.now,
                start_at=at,
                after_a_while=int(command.start_in is not None),
                task=target.name if target.is_task else None,
                start_by=command.start_by,
                planned_at=command.planned_at,
                schedule=command.schedule,
                after=command.after,
                weights=self.workflows.weights.get(target.name),
                deadline_at=None,
                priority=command.priority,
                state=RunState.SCHEDULED if ahead else RunState.QUEUED,
                admission=Admission.AHEAD,
            )
        )
        scope, hashed = target.scope, prepared.hashed
        store.keep_start(self.unit, scope, command.key, run.number, hashed, self.time.now)
        store.log_command(
            self.unit, self.time.now, command.who, "start", run.number, command.reason
        )
        if run.start_by is not None:
            self.due_times.set_by_day(START_BY_DUE, run.start_by)
        if ahead and at is not None:
            self.due_times.set_start(run)
        use_named(self.unit, run.number, prepared.params)
        self.changes.runs.add(run.number)
        return run

    def open_run(self, run: RunRow) -> PartRow:
        """Begin a run whose time has come, unless it has to wait for others; its root part."""
        if run.state == RunState.SCHEDULED:
            self.moves.run(run, RunEvent.DUE)
        plan = self.plans.of(run)
        busy = self.workflows.is_full(run, plan)
        run.admission = Admission.HELD if busy else Admission.ENTERED
        if plan.deadline is not None:
            run.deadline_at = self.time.now + round(plan.deadline * 1_000_000)
            self.due_times.set(RUN_DEADLINE_DUE, run.deadline_at)
        self.unit.runs.touch(run)
        self.workflows.count_in(run)
        composition = self.compositions.of(run)
        root = composition.root()
        if busy:
            self.held_runs.make_room(run, plan)
        elif run.put_off:
            self.held_runs.go_on(run)
        else:
            composition.enter(root)
        self.changes.runs.add(run.number)
        return root

    def open_due(self) -> None:
        """Begin runs whose start time has come, and of many that were started at once the next."""
        for number in schedule_records.runs_to_open(
            self.unit, self.time.now, self.time.wall, OPENED_AT_ONCE
        ):
            self.open_run(self.unit.run(number))
        if (following := schedule_records.next_to_open(self.unit, self.time.ahead)) is not None:
            self.due_times.set(START_DUE, max(following, self.time.now))

    def start_or_fail(self, command: StartRun) -> RunRow | None:
        """Start what nobody waits for an answer of: what cannot start is a run that has failed.

        Returns:
            The run; None if its start key had made one before.
        """
        try:
            prepared = self._prepare_now(command)
            fault = None
            if isinstance(prepared, Unchecked):
                fault = "the rows among its params were not checked; start it by hand"
        except Refused as error:
            fault = str(error)
        if fault is not None:
            target = self.targets.find(command.target)
            marked = mask(command.params)
            text = _kept_text(marked)
            hashed = fingerprint(marked)
            prepared = PreparedStart(command, target, text, marked, hashed, command.share)
        assert isinstance(prepared, PreparedStart)
        if store.find_start(self.unit, prepared.target.scope, command.key):
            return None
        run = self.add_run(prepared)
        if fault is None:
            self.open_run(run)
        else:
            self.compositions.of(run).refuse("CouldNotStart", fault)
        return run

    def _prepare_now(self, command: StartRun) -> PreparedStart | Unchecked:
        """Prepare a start that nobody can give again; the worker checks what is too costly here."""
        try:
            return self.prepare(command)
        except Unjudged:
            return self.prepare(command, judge=False)

    @handles(CheckStarts)
    def check_starts(self, command: CheckStarts) -> list[PreparedStart | Unchecked]:
        """Look at some of many starts, before any of them changes something.

        Raises:
            InvalidInput: some are not right; every problem of every start is named.
        """
        found: list[PreparedStart | Unchecked] = []
        problems: list[Problem] = []
        for place, start in enumerate(command.starts, command.first):
            try:
                found.append(self.prepare(start))
            except (InvalidInput, NotFound) as error:
                own = error.problems if isinstance(error, InvalidInput) else []
                own = own or [Problem("/target", error.detail)]
                problems += (
                    one._replace(where=f"/starts/{place}{_within_start(one.where)}") for one in own
                )
        if problems:
            raise InvalidInput("some starts are not right; nothing was started", problems=problems)
        return found

    @handles(StartMany)
    def start_many(self, command: StartMany) -> list[StartedOne]:
        """Make many runs in one transaction; they begin in the order of the list, a few at a time.

        Returns:
            For each start its run's number, its key, and whether it made the run.

        Raises:
            StartKeyTaken: a key belongs to a run with other params; nothing was started.
        """
        known: dict[tuple[str, str], tuple[int, str]] = {}
        for place, prepared in enumerate(command.prepared):
            at = (prepared.target.scope, prepared.command.key)
            hashed = prepared.hashed
            earlier = known.get(at) or store.find_start(self.unit, *at)
            if earlier and earlier[1] != hashed:
                first = f"run {earlier[0]}" if earlier[0] else "an earlier one of the list"
                raise StartKeyTaken(
                    f"start {place}: its key {at[1]!r} belongs to {first}, with other params; "
                    "nothing was started. Use another key for another run.",
                    run=earlier[0],
                    first=mask(json.loads(self.unit.run(earlier[0]).params))
                    if earlier[0]
                    else None,
                    given=mask(prepared.marked),
                )
            known[at] = earlier or (0, hashed)
        answer = []
        for prepared in command.prepared:
            at = (prepared.target.scope, prepared.command.key)
            number, hashed = known[at]
            if created := not number:
                number = self.add_run(prepared).number
                known[at] = (number, hashed)
            answer.append(StartedOne(number, at[1], created))
        self.due_times.set(START_DUE, self.time.now)
        return answer

    @handles(RerunRun)
    def rerun(self, command: RerunRun) -> Started | Unchecked:
        """Start the workflow of a run, as it is now, with the run's params and some changed.

        Raises:
            NotFound: there is no such run, or its workflow is not published any more.
            InvalidInput: the params do not fit; every problem is named.
        """
        run = self.unit.run(command.run)
        params = self.vault.open(json.loads(run.params))
        started = self.start_run(
            StartRun(
                target=run.task or run.workflow,
                params={**params, **command.changes},
                key=command.key,
                who=command.who,
                priority=run.priority,
                share=run.share,
                tags=tuple(json.loads(run.tags)),
                planned_at=run.planned_at,
            )
        )
        if isinstance(started, Started) and started.created:
            log = store.log_command
            log(self.unit, self.time.now, command.who, "rerun", run.number, command.reason)
        return started

    def _same_start(self, prepared: PreparedStart, number: int, params_hash: str) -> Started:
        run = self.unit.run(number)
        if params_hash != prepared.hashed:
            raise StartKeyTaken(
                f"the start key {prepared.command.key!r} belongs to run {number}, which was "
                "started with other params. Use another key for another run.",
                run=number,
                first=mask(json.loads(run.params)),
                given=mask(prepared.marked),
            )
        return Started(record_of(self.unit, self.time, self.plans, run), created=False)


def _unclear(target: StartTarget, names: list[str]) -> InvalidInput:
    """Return the error for keywords that may be options or inputs."""
    name = names[0]
    return InvalidInput(
        f"{name!r} is an option of every start and an input of {target.kind} {target.name!r}, too; "
        "nothing was started",
        problems=[
            Problem(
                f"/keywords/{name}",
                f"as an input: start({target.name!r}, {{{name!r}: ...}}); "
                f"as an option: start({target.name!r}, {{...}}, {name}=...)",
            )
            for name in names
        ],
    )


def _within_start(where: str) -> str:
    """Where a problem of a start is, within it."""
    outer = ("/target", "/keywords", "/at", "/start_by")
    return where if where.startswith(outer) else f"/params{where}"


def _wrong_times(time: RunTime, command: StartRun) -> list[Problem]:
    by = command.start_by
    if by is None:
        return []
    if by <= time.wall:
        return [Problem("/start_by", f"found {iso_time(by)}; expected a time ahead")]
    at = command.start_at
    if command.start_in is not None:
        at = time.wall + round(command.start_in * 1_000_000)
    if at is not None and by < at:
        return [Problem("/start_by", f"found {iso_time(by)}, which is before {iso_time(at)}")]
    return []


def _list_for(unit: Unit, value: JsonObject, marked: JsonObject) -> JsonObject:
    found = checked_rows(unit, rows_of("", value, marked))
    assert found is not None, "what is not checked was told before"
    return found


def _kept_text(params: JsonValue) -> str:
    """The params of a run that could not start; none where they cannot be kept."""
    try:
        return encode(params, "params")
    except ValueRefused:
        return "{}"


def _text_of(source: Source | None, params: JsonObject) -> str:
    """What a workflow says of a run, from its params; empty for nothing."""
    value: JsonValue = None
    match source:
        case Constant(value):
            pass
        case FromParam(path):
            value = params
            for key in path:
                value = value.get(key) if isinstance(value, dict) else None
    return "" if value is None else str(value)[:200]
