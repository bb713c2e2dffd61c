"""What all routes share: the writer, the readers, the hub, the logs and the open asks."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import random
from collections import OrderedDict, deque
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from time import monotonic, time_ns
from typing import Any, TypeVar

from yarnloom.engine import ABOUT_ROWS, MOST_WORK, Engine, Results, Settings, Unjudged, Verdicts
from yarnloom.engine.commands import (
    Ask,
    CheckStarts,
    CloseAsk,
    Command,
    InHand,
    ListPools,
    ListQuiet,
    ListSchedules,
    ListWorkers,
    LoseWorker,
    RerunRun,
    Started,
    StartMany,
    StartRun,
    StartSchedule,
    StillRunning,
    Unchecked,
    Unfold,
    Why,
)
from yarnloom.engine.queries import (
    failure_kinds,
    obstacles,
    rows_needed,
    run_graph,
    run_line,
)
from yarnloom.engine.queries.run_views import Look, Open, run_views, under_way_of
from yarnloom.engine.rules.states import RUN_ENDED, RunState
from yarnloom.engine.state import time_shares
from yarnloom.engine.state.time_shares import UNKNOWN, Paces
from yarnloom.errors import Busy, CannotStore, Gone, InvalidInput, NotFound, Problem, WorkerUnknown
from yarnloom.plan import Plan, read_plan
from yarnloom.process_identity import has_ended
from yarnloom.protocol.worker_bodies import (
    LogBody,
)
from yarnloom.service.check_processes import Checker
from yarnloom.service.events import WORKERS, Hub, Subject
from yarnloom.service.group_commit import SLOW_FLUSH, Writer, system_clock
from yarnloom.service.health import Health
from yarnloom.service.link_tokens import Links
from yarnloom.service.list_job_processes import Beside, Check
from yarnloom.service.log_buffer import Logs
from yarnloom.service.run_line_pace import Glances
from yarnloom.service.settings import ServiceSettings
from yarnloom.service.uploads import Uploads
from yarnloom.store import (
    AttemptKey,
    Database,
    LogFile,
    Printed,
    Printer,
    run_lists,
    run_queries,
    step_queries,
    time_weights,
    workflow_queries,
)
from yarnloom.tabular.check_file import ERRORS_TOLD
from yarnloom.units import (
    iso_time,
)

log = logging.getLogger("yarnloom.service")

T = TypeVar("T")
View = dict[str, Any]

LONGEST_WAIT = 25.0
GROUND_SECONDS = 1.0
ANSWER_SECONDS = 0.005
ANSWERED_WITHIN = 3.0
"""How long a command waits for a worker that is asked for steps that it may have begun."""

PAUSES_TO_END = (0.02, 0.1, 0.5, 2.0)
"""Between looks whether a process ends that closed its connection."""
LOOKED_AT_ONCE = 20
ASKED_WHY = 30
REASONS_SHOWN = 3
IN_HAND_SHOWN = 20
PRINTERS_REMEMBERED = 2_000
PACES_REMEMBERED = 300
"""Each new run can have others, with a number for each node of its plan: kilobytes."""

UNDER_WAY_REMEMBERED = 10_000
"""Runs whose wait begins without a look into the records, since they were just started."""

CAME_REMEMBERED = 1_000
"""Workers that registered: one that was started early may have before anybody waits for it."""

ASKS_AGAIN_WITHIN = 2.0
STUCK = frozenset(
    ("paused", "pool_paused", "pool_halted", "no_worker", "quiet", "itself", *obstacles.FLAWS)
)
"""Reasons for which a run waits that time alone does not take away."""


@dataclass(slots=True)
class Loaded:
    """Whether what `serve --load` names is there to be started.

    Attributes:
        wanted: whether anything is named.
        published: whether it was published.
    """

    wanted: bool = False
    published: bool = False


class Core:
    """A running service without its HTTP side.

    Args:
        settings: how it runs.
        database: its data folder, opened.
        log_file: of the same folder.
    """

    def __init__(self, settings: ServiceSettings, database: Database, log_file: LogFile) -> None:
        self.settings = settings
        self.database = database
        self.logs = Logs(log_file)
        self.links = Links(database)
        self.closing = False
        self.health = Health()
        self.loaded = Loaded()
        self.started_at = system_clock().now
        slow = settings.commit == "auto" and database.flush_time() > SLOW_FLUSH
        self.verdicts = Verdicts(MOST_WORK)
        told = Settings(
            lease=settings.lease, keep_files=settings.keep_files, verdicts=self.verdicts
        )
        engine = Engine(database, system_clock(), told)
        self.writer = Writer(
            engine,
            system_clock,
            self._on_results,
            threaded=slow or settings.commit == "thread",
        )
        self.checker = Checker()
        self.uploads = Uploads(database, self.writer)
        self.beside = Beside(database, self.writer, self.uploads.placing)
        self._beside: set[asyncio.Task[None]] = set()
        self.hub = Hub(f"/services/{database.id}", self.look, self.now)
        self._glances = Glances(lambda number: self.hub.changed({("run", number)}))
        self._readers = ThreadPoolExecutor(3, thread_name_prefix="yarnloom-reader")
        self._plans: dict[int, Plan] = {}
        self._known_paces: dict[tuple[int, int], Paces] = {}
        self._asks: dict[str, asyncio.Future[list[View]]] = {}
        self._waiting: dict[int, set[asyncio.Future[None]]] = {}
        self._under_way: set[int] = set()  # runs of which this is known without a look
        self._waiters: dict[int, int] = {}
        self._printers: OrderedDict[int, Printer] = OrderedDict()
        self._registrations: dict[str, asyncio.Future[None]] = {}
        self._came: deque[str] = deque(maxlen=CAME_REMEMBERED)
        if database.past.missing:
            log.error("%s", database.past.missing)
        self._look_at_ground()
        self._looking: asyncio.Task[None] | None = None
        if not database.looked_through:
            self._looking = asyncio.ensure_future(self._look_for_damage())

    async def submit(self, command: Command) -> Any:
        """Give a command to the engine; its answer, once that is durable.

        A value that is costly to check is checked in another process, and the command given again.
        """
        if isinstance(command, ABOUT_ROWS):
            await self.unfold(command.run)
        until = monotonic() + ANSWERED_WITHIN
        while True:
            if self.closing:
                raise Busy("the service is stopping; try again when it is back")
            try:
                found = await self.writer.submit(command)
            except Unjudged as question:
                self.verdicts.keep(question.key, await self.checker.problems(question))
                continue
            if not isinstance(found, StillRunning):
                return found
            if monotonic() >= until:
                raise Busy(
                    f"a worker was asked for steps of run {found.run} that it may have begun, and "
                    "has not answered; nothing was changed, try again"
                )
            await asyncio.sleep(ANSWER_SECONDS)

    def not_ready(self) -> str | None:
        """Return why the service cannot do what it is for; None if it can."""
        if self.closing:
            return "the service is stopping"
        if fault := self.database.taken_away() or self.health.fault:
            return f"nothing can be stored: {fault}"
        if self.health.damage:
            return self.health.damage
        if self.loaded.wanted and not self.loaded.published:
            return "its looms are not published yet"
        if self.loaded.wanted and not self.writer.takes_work:
            return "no worker takes work yet"
        return None

    def now(self) -> int:
        """The time that runs live by, in microseconds since 1970 UTC."""
        return system_clock().now + self.writer.ahead

    @property
    def commits(self) -> int:
        """How many commits there were: what a worker that is answered now has seen."""
        return self.database.past.commits

    def _look_at_ground(self) -> None:
        """Once a second: whether the database is where it was, and which workers have ended."""
        self._lose_ended(self.writer.processes())
        if taken := self.database.taken_away():
            self.health.note(taken)
        else:
            self.database.past.note()
        self._ground = asyncio.get_running_loop().call_later(GROUND_SECONDS, self._look_at_ground)

    async def _look_for_damage(self) -> None:
        """Look through the rest of a large database, beside what the service does."""
        try:
            faults = await asyncio.to_thread(self.database.look_for_damage)
        except Exception as error:
            faults = [str(error)]
        self.health.note_damage(faults)

    async def read(self, ask: Callable[..., T], *args: Any) -> T:
        """Ask the store, on a reader's connection."""
        loop = asyncio.get_running_loop()
        return await loop.run_in_executor(
            self._readers, lambda: self.database.read(lambda connection: ask(connection, *args))
        )

    async def aside(self, ask: Callable[..., T], *args: Any) -> T:
        """Do something short with the disk, on a reader's thread."""
        return await asyncio.get_running_loop().run_in_executor(self._readers, ask, *args)

    # Runs

    async def start(
        self, command: StartRun | RerunRun | StartSchedule, seconds: float
    ) -> Started | View:
        """Start a run, once the rows among its params are checked.

        Returns:
            What was started; or how far the check is, if it takes longer than some seconds: then
            nothing was started, and the same command is to be given again.

        Raises:
            InvalidInput: the params do not fit, or rows have errors; nothing was started.
        """
        until = asyncio.get_running_loop().time() + seconds
        while True:
            started: Started | Unchecked = await self.submit(command)
            if isinstance(started, Started):
                if started.run["state"] not in RUN_ENDED:
                    if len(self._under_way) >= UNDER_WAY_REMEMBERED:
                        self._under_way.clear()
                    self._under_way.add(started.run["number"])
                return started
            if going := await self._check([started], until):
                return going

    async def _check(self, unchecked: list[Unchecked], until: float) -> View | None:
        """Check rows; how far that is, if it takes longer than until then."""
        checks = [self.beside.check(rows) for one in unchecked for rows in one.rows]
        tasks = [check.task for check in checks if check.task is not None]
        left = until - asyncio.get_running_loop().time()
        _, going = await asyncio.wait(tasks, timeout=max(0.0, left))
        if wrong := [check for check in checks if check.problems]:
            raise refused_rows(wrong)
        if going or self.closing:
            return {"checking": [_progress_of(check) for check in checks]}
        for task in tasks:
            task.result()  # raises what broke
        return None

    async def start_many(self, starts: list[StartRun], seconds: float) -> View:
        """Start many runs in one transaction: all, or none.

        They are looked at some at a time, so that others are served meanwhile. Returns and raises
        as `start` does.
        """
        until = asyncio.get_running_loop().time() + seconds
        while True:
            prepared: list[Any] = []
            for first in range(0, len(starts), LOOKED_AT_ONCE):
                some = tuple(starts[first : first + LOOKED_AT_ONCE])
                prepared += await self.submit(CheckStarts(some, first))
            unchecked = [one for one in prepared if isinstance(one, Unchecked)]
            if not unchecked:
                runs = await self.submit(StartMany(tuple(prepared)))
                return {"runs": runs, "created": sum(one["created"] for one in runs)}
            if going := await self._check(unchecked, until):
                return going

    async def run(self, number: int) -> View:
        """A run as the API shows it.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return await self.show(number)

    async def show(self, number: int, *, plain: bool = False) -> View:
        """The same; `plain` tells nothing of what its parts are called."""
        if self.writer.threaded:  # the disk is slow
            found = await self.read(_run_or_trace, number)
        else:
            found = self.database.read_at_once(lambda one: _run_or_trace(one, number))
        row, given_out, under_way = found
        if row is None:
            raise _no_run(number, given_out)
        return (await self._shown([row], under_way, plain=plain))[0]

    async def list_runs(self, wanted: run_lists.RunFilter) -> tuple[list[View], int | None]:
        """A page of runs, and where the next one begins."""
        rows, following, under_way = await self.read(_page_of_runs, wanted)
        return await self._shown(rows, under_way), following

    async def _shown(
        self, rows: list[View], under_way: Mapping[int, Open], *, plain: bool = False
    ) -> list[View]:
        """Runs as the API shows them, from their rows and what is under way in them."""
        plans = {row["plan"]: await self.plan(row["plan"]) for row in rows}
        paces = {row["number"]: await self._paces(row) for row in rows}
        look = Look(
            self.now(),
            plans.__getitem__,
            lambda row: paces[row["number"]],
            plain,
        )
        return run_views(rows, under_way, look)

    async def _paces(self, row: View) -> Paces:
        """What was known of the pace of a run's plan when it started; it never changes."""
        if row["weights"] is None or row["state"] != RunState.RUNNING:
            return UNKNOWN
        key = row["weights"], row["plan"]
        if key not in self._known_paces:
            while len(self._known_paces) >= PACES_REMEMBERED:
                del self._known_paces[next(iter(self._known_paces))]
            known = await self.read(lambda one: time_weights.times_of(one.execute, row["weights"]))
            self._known_paces[key] = time_shares.paces(await self.plan(row["plan"]), *known)
        return self._known_paces[key]

    async def run_row(self, number: int) -> View:
        """A run's row; raises as `run` does."""
        row, given_out, _ = await self.read(_run_or_trace, number)
        if row is None:
            raise _no_run(number, given_out)
        return row

    async def plan(self, plan_id: int) -> Plan:
        """A plan by id."""
        if plan_id not in self._plans:
            self._plans[plan_id] = read_plan(
                await self.read(workflow_queries.plan_document, plan_id)
            )
        return self._plans[plan_id]

    async def graph(self, number: int, address: str = "") -> View:
        """A run's parts with their states as they are now, or those of an item of an each."""
        return await self.look_into(number, run_graph.graph, address)

    async def look_into(self, number: int, ask: Callable[..., View], *args: Any) -> View:
        """What one of the questions of `looking` answers about a run."""
        row = await self.run_row(number)
        plan = await self.plan(row["plan"])

        def look(connection: Any) -> View | list[rows_needed.Span]:
            spans = rows_needed.needs(connection, plan, number, ask, *args)
            return spans or ask(connection, plan, number, *args)

        while isinstance(found := await self.read(look), list):
            for span in found:
                await self.unfold(number, *span)
        return found

    async def unfold(self, number: int, first: int = 0, last: int | None = None) -> None:
        """Give rows to items of a run that are done: some at a time, so that others are served."""
        while await self.submit(Unfold(number, first, last)):
            pass

    async def why(self, number: int, address: str) -> View:
        """What a run, or a part of it, waits for; of what runs also how long it has been silent."""
        place = await self.look_into(number, run_graph.place_of, address)
        why: View = await self.submit(
            Why(number, place["rank"], place["item"], dict(self._waiters))
        )
        for entry in why["waits"]:
            attempt = entry.pop("attempt", None)
            if attempt is not None:
                entry["last_line_at"] = await self._last_line_at(attempt)
        return why

    async def glance(self, number: int) -> View:
        """A run on one line, and its pieces."""
        return await self._glance_of(await self.run(number), await self.graph(number))

    async def _glance_of(self, run: View, graph: View) -> View:
        failures = await self.look_into(run["number"], failure_kinds.failures)
        why = None if run["ended_at"] else await self.why(run["number"], "")
        return run_line.glance(run, graph, why, failures)

    async def _last_line_at(self, attempt: int) -> str | None:
        key = await self.log_key(attempt)
        with contextlib.suppress(CannotStore):
            return iso_time(await self.logs.written_at(key)) if key else None
        return None

    async def log_key(self, attempt: int) -> AttemptKey | None:
        """Return the key of an attempt's lines; None where there is no such attempt."""
        keys: dict[int, AttemptKey] = await self.read(step_queries.log_keys, [attempt])
        return keys.get(attempt)

    def registration(self, worker: str) -> asyncio.Future[None]:
        """Return a future that is done when a worker of this id registers."""
        future = self._registrations.setdefault(worker, asyncio.get_running_loop().create_future())
        if worker in self._came:
            self._registrations.pop(worker)
            _settle(future, None)
        return future

    def note_registered(self, worker: str) -> None:
        """A worker has registered."""
        self._came.append(worker)
        if registration := self._registrations.pop(worker, None):
            _settle(registration, None)

    async def stuck(self) -> tuple[list[View], int]:
        """Runs that do not go on by themselves, each with why, and how many were asked."""
        found = []
        numbers = await self.read(run_lists.still, ASKED_WHY)
        numbers += [one for one in await self.submit(ListQuiet()) if one not in numbers]
        for number in numbers[: 2 * ASKED_WHY]:
            ask = Why(number, waiters=dict(self._waiters), order=False)
            why: View = await self.submit(ask)
            said = [*why["reasons"], *(one for wait in why["waits"] for one in wait["reasons"])]
            reasons = [one["text"] for one in said if one["kind"] in STUCK]
            if reasons:
                row = await self.run_row(number)
                found.append(
                    {
                        "run": number,
                        "workflow": why["workflow"],
                        "state": why["state"],
                        "since": iso_time(row["created_at"]),
                        "reasons": list(dict.fromkeys(reasons))[:REASONS_SHOWN],
                    }
                )
        return found, len(numbers)

    async def workers(self) -> list[View]:
        """The workers as they are now, with the addresses of what each runs."""
        workers: list[View] = await self.submit(ListWorkers())
        wanted = [one for worker in workers for one in worker["in_hand"][:IN_HAND_SHOWN]]
        wanted += [worker["last"]["id"] for worker in workers if worker["last"]]
        rows = await self.read(step_queries.in_hand, wanted) if wanted else []
        plans = {plan: await self.plan(plan) for plan in {row["plan"] for row in rows}}
        named = await self.read(run_graph.addresses_of, rows, plans) if rows else []
        by_id = {row["id"]: facts for row, facts in zip(rows, named, strict=True)}
        return [
            {
                **worker,
                "runs": [by_id[one] for one in worker["in_hand"] if one in by_id],
                "last": worker["last"]
                and {**worker["last"], **by_id.get(worker["last"]["id"], {})},
            }
            for worker in workers
        ]

    async def look(self, subject: Subject, closely: bool) -> View | None:
        """What a watcher sees of a subject: a run's graph only when it watches that run."""
        kind, name = subject
        try:
            if kind == "pool":
                return {"pool": (await self.submit(ListPools(str(name))))[0]}
            if kind == "schedule":
                return {"schedule": (await self.submit(ListSchedules(str(name))))[0]}
            if kind == "workers":
                workers = await self.workers()
                short = [{k: v for k, v in one.items() if k != "tasks"} for one in workers]
                return {"workers": short}
            number = int(name)
            run = await self.run(number)
            if not closely:
                return {"run": run}
            view = {"run": run, "graph": await self.graph(number)}
            if self._glances.is_due(number, ended=run["ended_at"] is not None):
                view["glance"] = await self._glance_of(run, view["graph"])
            return view
        except (NotFound, Gone, Busy):
            return None

    async def wait_for_end(self, number: int, seconds: float, attempt: int | None = None) -> View:
        """The run, as soon as it has ended, or after some seconds as it is then.

        Args:
            number: the run's.
            seconds: how long at most.
            attempt: that of a task that waits so.
        """
        if attempt is None:
            return await self._wait_for_end(number, seconds)
        self._waiters[attempt] = number
        try:
            return await self._wait_for_end(number, seconds)
        finally:
            # It may ask again in a moment.
            loop = asyncio.get_running_loop()
            loop.call_later(ASKS_AGAIN_WITHIN, self._waiters.pop, attempt, None)

    async def _wait_for_end(self, number: int, seconds: float) -> View:
        loop = asyncio.get_running_loop()
        until = loop.time() + min(seconds, LONGEST_WAIT)
        while True:
            woken: asyncio.Future[None] = loop.create_future()
            self._waiting.setdefault(number, set()).add(woken)
            try:
                if number not in self._under_way:
                    run = await self.run(number)
                    if run["state"] in RUN_ENDED or loop.time() >= until or self.closing:
                        return run
                late = loop.call_at(until, _settle, woken, None)
                await woken
                late.cancel()
            finally:
                self._waiting[number].discard(woken)
                if not self._waiting[number]:
                    del self._waiting[number]
            self._under_way.discard(number)  # as the records say, if it only took too long

    # Workers

    async def ask(self, command: Ask, closed: asyncio.Future[None]) -> list[View]:
        """Hold a worker's open request until there is something for it.

        Args:
            command: the request.
            closed: done when the worker closes its connection.
        """
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[list[View]] = loop.create_future()
        if before := self._asks.get(command.worker):
            _settle(before, [])  # one open request a worker: the newer one takes its place
        self._asks[command.worker] = answer
        try:
            await self.submit(command)
            waited: list[asyncio.Future[Any]] = [answer, closed]
            await asyncio.wait(
                waited,
                timeout=LONGEST_WAIT * random.uniform(0.8, 1.0),
                return_when=asyncio.FIRST_COMPLETED,
            )
            if closed.done() and not self.closing:
                self._watching_end(command.worker)
            if not answer.done() and not self.closing:
                await self.submit(CloseAsk(command.worker))
            return answer.result() if answer.done() else []
        finally:
            if self._asks.get(command.worker) is answer:
                del self._asks[command.worker]

    def _watching_end(self, worker: str) -> None:
        """A worker closed its connection: if its process ends with that, it is lost at once."""
        looking = asyncio.ensure_future(self._lose_if_ended(worker))
        self._beside.add(looking)
        looking.add_done_callback(self._beside.discard)

    async def _lose_if_ended(self, worker: str) -> None:
        for pause in PAUSES_TO_END:
            self._lose_ended({worker: self.writer.processes().get(worker, {})})
            await asyncio.sleep(pause)

    def _lose_ended(self, processes: Mapping[str, View]) -> None:
        """Give up workers whose process on this machine is gone."""
        for worker, process in processes.items():
            if has_ended(process):
                why = f"its process {process['pid']} on this machine has ended"
                self.writer.submit_soon(LoseWorker(worker, why))

    async def keep_lines(self, worker: str, logs: list[LogBody]) -> None:
        """Keep lines of attempts that a worker has in hand, and of no others."""
        at = time_ns() // 1_000
        own = await self.writer.in_hand(InHand(worker, tuple([one.attempt for one in logs])))
        with_rows = [one for one, printer in own.items() if printer is None]
        if unknown := [one for one in with_rows if one not in self._printers]:
            while len(self._printers) > PRINTERS_REMEMBERED:
                self._printers.popitem(last=False)
            await self._find_printers(unknown)
        batch = []
        for one in logs:
            attempt = one.attempt
            if attempt in own and (printer := own[attempt] or self._printers.get(attempt)):
                batch.append(Printed(printer, one.first, one.lines, at))
        await self.logs.append(batch)

    async def _find_printers(self, attempts: list[int]) -> None:
        keys = await self.read(step_queries.log_keys, attempts)
        rows = await self.read(step_queries.in_hand, attempts)
        plans = {plan: await self.plan(plan) for plan in {row["plan"] for row in rows}}
        places = await self.read(run_graph.addresses_of, rows, plans)
        for row, known in zip(rows, places, strict=True):
            address = f"{row['run']}/{known['address'].partition('#')[0]}"
            self._printers[row["id"]] = Printer(keys[row["id"]], row["run"], address)

    def _on_results(self, results: Results) -> None:
        self.health.note(results.fault)
        for worker, messages in results.messages.items():
            if answer := self._asks.get(worker):
                _settle(answer, messages)
        for worker in results.changes.gone & self._asks.keys():
            answer = self._asks[worker]
            if not answer.done():
                answer.set_exception(WorkerUnknown(f"worker {worker} was given up; register again"))
        self._under_way -= results.changes.ended
        for run in results.changes.ended & self._waiting.keys():
            for woken in self._waiting[run]:
                _settle(woken, None)
        for chore in results.chores:
            self.beside.do(chore)
        if results.changes.dropped:
            dropping = asyncio.ensure_future(self.uploads.drop(results.changes.dropped))
            self._beside.add(dropping)
            dropping.add_done_callback(self._beside.discard)
        changed: set[Subject] = {("run", number) for number in results.changes.runs}
        changed |= {("pool", name) for name in results.changes.pools}
        changed |= {("schedule", name) for name in results.changes.schedules}
        self.hub.changed(
            changed | ({WORKERS} if results.changes.workers else set()), results.changes.ended
        )

    # The end

    def close_gates(self) -> None:
        """Answer everything that is held open, and take nothing new."""
        self.closing = True
        self.hub.close()
        self.logs.close_gates()
        self.beside.close()
        self.checker.close()
        for answer in self._asks.values():
            _settle(answer, [])
        for waiting in self._waiting.values():
            for woken in waiting:
                _settle(woken, None)

    def close(self) -> None:
        """Close the store."""
        self._ground.cancel()
        self.writer.close()
        self._readers.shutdown()
        self.logs.close()
        self.database.close()


def refused_rows(checks: list[Check]) -> InvalidInput:
    """The error for files whose rows have errors: the first of each."""
    problems = [
        Problem(check.rows.at, str(one), one.line, one.column or "")
        for check in checks
        for one in check.problems
    ]
    names = ", ".join(check.rows.source.get("name", "the list") for check in checks)
    first = f"; these are the first {len(problems)}" if len(problems) >= ERRORS_TOLD else ""
    text = f"{names}: there are errors{first}. Nothing was started; correct them, and start again"
    return InvalidInput(text, problems=problems)


def _progress_of(check: Check) -> View:
    return {"param": check.rows.at, "file": check.rows.source, **check.progress}


def _settle(future: asyncio.Future[T], value: T) -> None:
    if not future.done():
        future.set_result(value)


def _run_or_trace(connection: Any, number: int) -> tuple[View | None, bool, Mapping[int, Open]]:
    """A run's row, whether there ever was one, and what is under way in it."""
    row = run_queries.run(connection, number)
    if row is None:
        return None, run_queries.was_given_out(connection, number), {}
    return row, True, under_way_of(connection.execute, [row])


def _no_run(number: int, given_out: bool) -> Gone | NotFound:
    if given_out:
        return Gone(f"run {number} was removed")
    return NotFound(f"there is no run {number}; `yarnloom runs` lists what there is")


def _page_of_runs(
    connection: Any, wanted: run_lists.RunFilter
) -> tuple[list[View], int | None, Mapping[int, Open]]:
    rows, following = run_lists.runs(connection, wanted)
    return rows, following, under_way_of(connection.execute, rows)
