"""Runs in the process of a test: the real engine and store, with this process as the worker."""

from __future__ import annotations

import contextlib
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

from pydantic import BaseModel

from yarnloom.engine import Engine, EngineSettings, Moment, Results
from yarnloom.engine.commands import (
    BeginEffect,
    Command,
    EndEffect,
    EndListJob,
    KeepFile,
    KeepRows,
    ListJob,
    ListPools,
    Poll,
    Publish,
    Register,
    Report,
    Reported,
    ReportItem,
    RowsToCheck,
    StartRun,
    Tick,
    Unchecked,
    Unfold,
    Why,
)
from yarnloom.engine.queries import either_form, item_pages, run_graph
from yarnloom.engine.queries.part_records import step_standing
from yarnloom.engine.queries.runs import Look, run_record, under_way_of
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.records.workers import BegunEffect
from yarnloom.engine.rules.states import RUN_ENDED
from yarnloom.errors import InvalidInput, Problem, RunCannotEnd
from yarnloom.media_types import media_type_of
from yarnloom.plain_values import plain_values
from yarnloom.plan import read_plan
from yarnloom.protocol.run_answers import AttemptList, RunAnswer
from yarnloom.protocol.setting_answers import PoolAnswer
from yarnloom.protocol.workflow_answers import FileReference
from yarnloom.sdk.attempt_channel import OwnLine
from yarnloom.sdk.loom import Loom
from yarnloom.sdk.task import DeclaredTask
from yarnloom.service.render.answers import show
from yarnloom.service.render.parts import graph_json, items_json, standing_json, step_json
from yarnloom.service.render.reasons import why_json
from yarnloom.side_process.long_lists import CheckedRows, check_rows, do_list_job
from yarnloom.store import Connection, Database, FileFolder, Kept
from yarnloom.store.runs import run_lists
from yarnloom.store.workers import workflow_records
from yarnloom.testing.alarm import Alarm
from yarnloom.values import JsonObject, JsonValue
from yarnloom.worker.child.call_task import Called, call_task

WORKER = "inline"


class ManualClock:
    """A clock that moves only when it is told to.

    Args:
        now: microseconds since 1970 UTC to begin with.
    """

    def __init__(self, now: int = 1_800_000_000_000_000) -> None:
        self.now = now
        self.mono = 0.0

    def __call__(self) -> Moment:
        """The present."""
        return Moment(self.now, self.mono)

    def advance(self, seconds: float) -> None:
        """Let time pass."""
        self.now += round(seconds * 1_000_000)
        self.mono += seconds


class InlineService:
    """An engine over a data folder, driven by hand.

    Args:
        database: opened; the caller closes it.
        clock: gives the time of each command.
        settings: leases and limits.

    Attributes:
        list_jobs: what is to be done beside the engine; `do_list_jobs` does it.
    """

    def __init__(
        self,
        database: Database,
        clock: ManualClock | None = None,
        settings: EngineSettings | None = None,
    ) -> None:
        self.database = database
        self.clock = clock or ManualClock()
        # Waits without jitter: a test ends the same way every time.
        self._settings = settings or EngineSettings(chance=lambda: 0.5)
        self.list_jobs: list[ListJob] = []
        self.restart()

    def restart(self) -> None:
        """Begin anew from what is stored, as a service that was killed does."""
        self.engine = Engine(self.database, self.clock(), self._settings)
        self.list_jobs.clear()

    def batch(self, *commands: Command) -> Results:
        """Do commands in one transaction; the results may hold refusals."""
        results = self.engine.execute(commands, self.clock())
        self.list_jobs += results.list_jobs
        for sha256 in results.changes.dropped:
            self.database.files.remove(sha256)
        return results

    def do_list_jobs(self) -> Results:
        """Do what the engine wants done beside it, and tell it."""
        list_jobs, self.list_jobs = self.list_jobs, []
        ends = []
        for list_job in list_jobs:
            job = {"do": list_job.kind, "part": list_job.part, **list_job.facts}
            lists, fault = do_list_job(self.database.folder, job)
            ends.append(EndListJob(list_job.part, list_job.serial, lists, fault))
        return self.batch(*ends)

    def keep(self, given: Path | bytes, name: str, media_type: str = "") -> JsonObject:
        """Keep a file; return its reference for params."""
        with self.database.files.incoming() as incoming:
            incoming.write(given if isinstance(given, bytes) else given.read_bytes())
            kept = Kept(*incoming.finish())
        command = KeepFile(kept, name, media_type or media_type_of(name), "test")
        return show(FileReference, self.do(command))

    def do(self, command: Command) -> Any:
        """Do one command; its answer.

        Raises:
            Refused: the engine says no.
        """
        (answer,) = self.batch(command).answers
        if isinstance(answer, BaseException):
            raise answer
        return answer

    def publish(self, loom: Loom) -> None:
        """Publish a loom."""
        self.do(Publish(who="test", **loom.publication()))

    def start(self, workflow: str, params: JsonObject, key: str = "") -> int:
        """Start a run; its number."""
        key = key or f"test-{self.clock.now}-{id(params)}"
        started = self.do(StartRun(workflow, params, key, "test"))
        while isinstance(started, Unchecked):
            for rows in started.rows:
                self._check(rows)
            started = self.do(StartRun(workflow, params, key, "test"))
        number: int = started.run.number
        return number

    def _check(self, rows: RowsToCheck) -> None:
        found = check_rows(self.database.files, rows.source, rows.schema, lambda _: None)
        if not isinstance(found, CheckedRows):
            problems = [Problem(rows.at, str(problem)) for problem in found.problems]
            raise InvalidInput("the rows do not fit; nothing was started", problems=problems)
        self.do(KeepRows(rows, found.kept, found.facts, tuple(found.others)))

    def run(self, number: int) -> JsonObject:
        """A run as the API shows it."""

        def look(connection: Connection) -> RunRecord:
            row = run_lists.run(connection, number)
            assert row is not None
            plan = read_plan(workflow_records.plan_document(connection, row["plan"]))
            look = Look(self.clock.now, lambda _: plan)
            under_way = under_way_of(connection.execute, [row])
            return run_record(row, look, under_way.get(number, {}))

        return show(RunAnswer, self.database.read(look))

    def steps(self, number: int) -> list[JsonObject]:
        """The steps of a run that have begun or ended, in plan order, those of items too."""
        page = self._ask(number, either_form.steps_behind, 0, 1_000_000)
        rows = [
            row.expand().step if isinstance(row, either_form.Unread) else row for _, row in page
        ]
        rows.sort(key=lambda row: row["rank"])
        return [
            {"node": row["node"], "part": row["part"], **standing_json(step_standing(row))}
            for row in rows
        ]

    def unfold(self, number: int) -> None:
        """Give rows to all items of a run that are done."""
        while self.do(Unfold(number, every=True)):
            pass

    def graph(self, number: int, address: str = "", at: int | None = None) -> JsonObject:
        """The parts of a run, or of an item in it, as a tree, each with its state; or as it was."""
        return graph_json(self._ask(number, run_graph.graph, address, at))

    def attempts(self, number: int, cursor: int = 0, limit: int = 1_000) -> JsonObject:
        """A page of the attempts of a run, with their times."""
        return show(AttemptList, self._ask(number, run_graph.attempts, "", cursor, limit))

    def items(self, number: int, address: str, *states: str) -> list[JsonObject]:
        """The items of an each."""
        page = self._ask(number, item_pages.items, address, states, 0, 1_000_000)
        found: list[JsonObject] = items_json(page)["items"]
        return found

    def search(self, number: int, address: str, text: str, first: int = 0) -> JsonObject:
        """A page of the items of an each that have a text in their name or value."""
        return items_json(self._ask(number, item_pages.items, address, (), first, 50, text))

    def why(self, number: int, address: str = "") -> JsonObject:
        """What a run, or a part of it, waits for."""
        place = self._ask(number, run_graph.place_of, address)
        return why_json(self.do(Why(number, place.rank, place.item)))

    def pool(self, name: str) -> JsonObject:
        """A pool as it is now."""
        (pool,) = self.do(ListPools(name))
        return show(PoolAnswer, pool)

    def step(self, number: int, address: str) -> JsonObject:
        """A step with its values and attempts."""
        return step_json(self._ask(number, run_graph.step, address))

    def place(self, number: int, address: str) -> run_graph.StepPlace:
        """Return where a step is, for `StepAction`."""
        found: run_graph.StepPlace = self._ask(number, run_graph.step_place, address)
        return found

    def _ask(self, number: int, ask: Callable[..., Any], *args: Any) -> Any:
        def look(connection: Connection) -> Any:
            row = run_lists.run(connection, number)
            assert row is not None
            plan = read_plan(workflow_records.plan_document(connection, row["plan"]))
            return ask(connection, plan, number, *args)

        return self.database.read(look)

    def work(self, loom: Loom) -> None:
        """Run everything that is ready, and what becomes ready by it, to the end.

        Where nothing but back-offs and rests is left, the clock moves to the end of the next.
        """
        self._register(loom)
        with loom.around.process() as kept:
            self._work(loom, kept)

    def finish(self, loom: Loom, number: int, has: Iterable[str] = ()) -> None:
        """Run everything until a run has ended.

        Where nothing can begin, the clock moves to when something in a run next falls due.

        Args:
            loom: of its tasks.
            number: the run.
            has: what steps can ask for with `only_on`.

        Raises:
            RunCannotEnd: nothing will ever begin again; the message is what `why` says.
        """
        self._register(loom, has)
        with loom.around.process() as kept:
            while self.run(number)["state"] not in RUN_ENDED:
                self._work_until_idle(loom, kept, self.batch(Poll(WORKER)).messages.get(WORKER, []))
                if self.list_jobs:
                    self._work_until_idle(loom, kept, self.do_list_jobs().messages.get(WORKER, []))
                    continue
                if self.run(number)["state"] in RUN_ENDED:
                    return
                due = self.engine.next_due_of_runs()
                if due is None:
                    raise RunCannotEnd(self._why_not(number))
                self.clock.advance(max(0.0, due - self.clock().mono) + 0.001)
                self.batch(Report(WORKER), Tick())

    def _why_not(self, number: int) -> str:
        why = self.why(number)
        waits = [(wait["address"], wait["reasons"]) for wait in why["waits"]] or [
            (str(number), why["reasons"])
        ]
        lines = [
            f"  {address}: {'; '.join(reason['text'] for reason in reasons)}"
            for address, reasons in waits[:20]
        ]
        return "\n".join([f"run {number} of {why['workflow']} cannot end", *lines])

    def _register(self, loom: Loom, has: Iterable[str] = ()) -> None:
        hashes = {name: task.code_hash for name, task in loom.served.items()}
        self.do(Register(WORKER, WORKER, {}, 1, hashes, has=tuple(has)))

    def _work(self, loom: Loom, kept: JsonValue) -> None:
        while True:
            self._work_until_idle(loom, kept, self.batch(Poll(WORKER)).messages.get(WORKER, []))
            if self.list_jobs:
                self._work_until_idle(loom, kept, self.do_list_jobs().messages.get(WORKER, []))
                continue
            due = self.database.read(run_lists.next_due)
            if due is None:
                return
            # A little more, so that rounding never leaves the clock just before the moment.
            self.clock.advance(max(0, due - self.clock.now) / 1_000_000 + 0.001)
            self.do(Tick())

    def _work_until_idle(self, loom: Loom, kept: JsonValue, messages: list[JsonObject]) -> None:
        tasks = loom.served
        while messages:
            work = messages.pop(0)
            if work["kind"] != "work":
                continue  # about an attempt that has ended
            messages += self._call(work, tasks[work["task"]], loom, kept)

    def _call(
        self, work: JsonObject, task: DeclaredTask, loom: Loom, kept: JsonValue
    ) -> list[JsonObject]:
        """Run an attempt, report it, and return the messages that came back."""
        attempt, alarm = work["attempt"], Alarm()
        line = InlineLine(self, attempt, alarm)
        context = task.context_type.for_work(work, line, kept)
        began = time.monotonic()

        def begin() -> None:
            item = ReportItem(attempt, begun_ago=0.0)
            self.do(Report(WORKER, (item,), (work["serial"],)))
            alarm.set(self.engine.stops_in(attempt, self.clock()))

        with alarm:
            called: Called = call_task(task, work["input"], context, begin, loom.around, alarm.run)
        # What it took is time for the engine, too: for its time-out, and its run's deadline.
        self.clock.advance(max(0.001, time.monotonic() - began))
        stops: Reported = self.batch(Tick(), Report(WORKER)).answers[1]
        whys = [message["why"] for message in stops.messages if message.get("attempt") == attempt]
        called = called.told(whys[0] if whys else None)
        item = ReportItem(
            attempt,
            called.outcome,
            called.output,
            cast(StepError | None, called.error),
            after=called.after,
            saved=context.record(done=called.outcome == "done") or None,
        )
        reported: Reported = self.do(Report(WORKER, (item,)))
        return [*stops.messages, *reported.messages]


class InlineLine(OwnLine):
    """How a context reaches an engine in the same process."""

    def __init__(self, service: InlineService, attempt: int, alarm: Alarm) -> None:
        super().__init__()
        self._service = service
        self._attempt = attempt
        self._alarm = alarm

    def stop_asked(self) -> str | None:
        """Why the attempt is told to stop: its time is over."""
        return "timeout" if self._alarm.has_gone_off else None

    def ask(self, question: JsonObject) -> JsonObject:
        """Ask the engine."""
        if question["kind"] == "fetch_file":
            return {"path": str(self._service.database.files.path(question["sha256"]))}
        if question["kind"] == "save_file":
            path, name = Path(question["path"]), question["name"]
            return self._service.keep(path, name, question["media_type"])
        kinds = {"begin_effect": BeginEffect, "end_effect": EndEffect}
        facts = {name: value for name, value in question.items() if name != "kind"}
        if question["kind"] not in kinds:
            return {}
        command = kinds[question["kind"]](WORKER, self._attempt, **facts)
        answer = self._service.do(command)
        if not isinstance(answer, BegunEffect):
            return {}
        value = {"value": answer.value} if answer.is_done else {}
        return {"now": answer.now, "token": answer.token, **value}


@dataclass(frozen=True, slots=True)
class InlineRun:
    """How a run in the test's process ended.

    Attributes:
        state: `done`, `failed` or `cancelled`.
        output: the run's output, if it is done.
        error: what went wrong, otherwise.
        data: everything the API shows of the run.
        steps: its steps that could begin, in plan order.
        graph: its parts as a tree, each with its state.
        folder: where the files are that it kept, until the run is let go of.
    """

    state: str
    output: JsonValue
    error: JsonObject | None
    data: JsonObject
    steps: list[JsonObject] = field(default_factory=list)
    graph: JsonObject = field(default_factory=dict)
    folder: tempfile.TemporaryDirectory[str] | None = None

    def read(self, file: JsonObject) -> bytes:
        """The bytes of a file in its output."""
        assert self.folder is not None
        return FileFolder(Path(self.folder.name)).path(file["sha256"]).read_bytes()


@contextlib.contextmanager
def inline_service(folder: Path | None = None, **settings: Any) -> Iterator[InlineService]:
    """An engine over a new data folder, which is removed afterwards unless it is given.

    Args:
        folder: the data folder.
        settings: as of the engine's `EngineSettings`.
    """
    with contextlib.ExitStack() as stack:
        folder = folder or Path(stack.enter_context(tempfile.TemporaryDirectory()))
        database = Database(folder)
        stack.callback(database.close)
        # Waits without jitter: a test ends the same way every time.
        yield InlineService(
            database, settings=EngineSettings(**{"chance": lambda: 0.5, **settings})
        )


def run_workflow(
    loom: Loom,
    workflow: str,
    params: Mapping[str, JsonValue] | BaseModel | None = None,
    has: Iterable[str] = (),
    /,
    **named: Any,
) -> InlineRun:
    """Run a workflow to its end, in this process.

    Time-outs, deadlines, rates and `only_on` act as in a service. Where nothing can begin, the
    clock moves to when something next falls due, so that back-offs take no time.

    Args:
        loom: the loom; it is checked first.
        workflow: the workflow's name.
        params: params as a mapping or a model; `named` ones are added. A path becomes a file.
        has: what steps can ask for with `only_on`.

    Raises:
        PlanError: the loom has mistakes.
        InvalidInput: the params do not fit.
        RunCannotEnd: it waits for what will never come; the message is what `why` says.
    """
    folder = tempfile.TemporaryDirectory(prefix="yarnloom-test-")
    # The only worker is this process: it lives as long as the run does.
    with inline_service(Path(folder.name), lease=1e9) as service:
        service.publish(loom)
        fields = dict(params) if isinstance(params, Mapping | BaseModel) else {}
        given = {
            name: service.keep(value, value.name)
            if isinstance(value, Path)
            else plain_values({name: value})[name]
            for name, value in {**fields, **named}.items()
        }
        number = service.start(f"{loom.name}/{workflow}", given)
        service.finish(loom, number, has)
        data = service.run(number)
        steps, graph = service.steps(number), service.graph(number)
        return InlineRun(data["state"], data["output"], data["error"], data, steps, graph, folder)
