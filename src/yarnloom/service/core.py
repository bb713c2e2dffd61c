"""A running service without its HTTP side: what all routes share."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable
from time import monotonic
from typing import TYPE_CHECKING, Any, TypeVar

from yarnloom.engine.commands import (
    Command,
    ListPools,
    ListSchedules,
    ListWorkers,
    MendRun,
    StillRunning,
    Unfold,
)
from yarnloom.engine.queries import run_graph
from yarnloom.engine.records.workers import WorkerRecord
from yarnloom.engine.results import Results
from yarnloom.engine.state.verdicts import Unjudged, Verdicts
from yarnloom.errors import Busy, Gone, NotFound, WorkerUnknown
from yarnloom.protocol.overview_answers import GlanceAnswer
from yarnloom.protocol.setting_answers import PoolAnswer, ScheduleAnswer
from yarnloom.protocol.worker_answers import WorkerAnswer
from yarnloom.service.access.gate import Gate
from yarnloom.service.group_commit import SLOW_FLUSH, Writer, system_clock
from yarnloom.service.holders import Holders
from yarnloom.service.http.link_tokens import Links
from yarnloom.service.processes.check_processes import CheckProcesses
from yarnloom.service.processes.list_job_processes import ListJobProcesses
from yarnloom.service.processes.uploads import Uploads
from yarnloom.service.readers import Readers
from yarnloom.service.render import glance
from yarnloom.service.render.answers import show
from yarnloom.service.render.parts import graph_json
from yarnloom.service.render.runs import run_json
from yarnloom.service.render.workers import without_tasks, worker_answer
from yarnloom.service.runs.events import WORKERS, Hub, Subject
from yarnloom.service.runs.glance_pace import LinePace
from yarnloom.service.runs.log_buffer import Logs
from yarnloom.service.runs.printed_lines import AttemptLines
from yarnloom.service.runs.run_notices import RunNotices
from yarnloom.service.runs.run_reader import RunReader
from yarnloom.service.runs.run_starts import RunStarts, RunWaits
from yarnloom.service.settings import ServiceSettings
from yarnloom.service.starting_looms import StartingLooms
from yarnloom.service.worker_polls import WorkerPolls
from yarnloom.store import Database, LogFile
from yarnloom.store.runs import step_queries
from yarnloom.values import JsonObject

if TYPE_CHECKING:
    from yarnloom.engine.engine import Engine


log = logging.getLogger("yarnloom.service")


class Health:
    """What is wrong with the ground that the service stands on.

    Attributes:
        fault: why nothing can be stored; None while all is well.
        damage: what was found damaged in the records.
    """

    def __init__(self) -> None:
        self.fault: str | None = None
        self.damage: str | None = None

    def note_damage(self, faults: list[str]) -> None:
        """Take in what is damaged in the records, found while the service serves."""
        if faults:
            self.damage = f"the records are damaged: {faults[0]}; restore them from a copy"
            log.error("%s", self.damage)

    def note(self, fault: str | None) -> None:
        """Take in whether something could be stored just now."""
        if fault and not self.fault:
            log.error("nothing can be stored, so nothing is accepted: %s", fault)
        if self.fault and not fault:
            log.warning("changes can be stored again")
        self.fault = fault


T = TypeVar("T")
GROUND_SECONDS = 1.0
ANSWER_SECONDS = 0.005
ANSWERED_WITHIN = 3.0
"""How long a command waits for a worker that is asked for steps that it may have begun."""


IN_HAND_SHOWN = 20


class Core:
    """A running service without its HTTP side.

    Args:
        settings: how it runs.
        database: its data folder, opened.
        log_file: of the same folder.
        engine: of the same folder.
        verdicts: where the engine looks up checks of values that another process made.
        looms: the looms that are published at the start; empty for none.
        release: of their code.
    """

    def __init__(
        self,
        settings: ServiceSettings,
        database: Database,
        log_file: LogFile,
        engine: Engine,
        verdicts: Verdicts,
        looms: str = "",
        release: float = 0.0,
    ) -> None:
        self.settings = settings
        self.database = database
        self.logs = Logs(log_file)
        self.links = Links(database.folder)
        self.gate = Gate(database, self.submit, settings.lease)
        self.address = settings.public_url
        self.closing = False
        self.health = Health()
        self.looms = StartingLooms(looms)
        self.holders = Holders(release)
        self.closed = asyncio.Event()
        self.started_at = system_clock().now
        slow = settings.commit == "auto" and database.flush_time() > SLOW_FLUSH
        self.verdicts = verdicts
        self.writer = Writer(
            engine, system_clock, self._on_results, threaded=slow or settings.commit == "thread"
        )
        self.checker = CheckProcesses()
        self.uploads = Uploads(database, self.writer)
        self.beside = ListJobProcesses(database, self.writer, self.uploads.placing)
        self._tasks: set[asyncio.Task[None]] = set()
        self._readers = Readers(database)
        waiters: dict[int, int] = {}
        self.runs = RunReader(
            database, self._readers, self.writer, self.submit, self.logs, self.now, waiters
        )
        self.waits = RunWaits(waiters, self.runs)
        self.starts = RunStarts(self.submit, self.beside, self.waits, lambda: self.closing)
        self.polls = WorkerPolls(self.writer, self.submit)
        self.lines = AttemptLines(self.writer, self._readers, self.runs, self.logs)
        self.hub = Hub(f"/services/{database.id}", self.look, self.now)
        self.notices: RunNotices | None = None
        self._lines = LinePace(lambda number: self.hub.changed({("run", number)}))
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
        if isinstance(command, MendRun):
            while await self.writer.submit(Unfold(command.run)):
                pass  # a piece at a time, so that others are served between
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
        if self.looms.pending:
            return "its looms are not published yet"
        if self.looms.names and not self.writer.takes_work:
            return "no worker takes work yet"
        return None

    def now(self) -> int:
        """The time that runs live by, in microseconds since 1970 UTC."""
        return system_clock().now + self.writer.ahead

    def sign_in_address(self, who: str, path: str = "/") -> str:
        """Return an address that opens a page of the console and signs its browser in, once.

        Args:
            who: who asks for it, which the session is called by.
            path: the page.
        """
        code = self.gate.sign_ins.make(who.partition(":")[2] or who)
        return f"{self.address}{path}#sign-in={code}"

    def need_worker(self, worker: str) -> None:
        """Let only registered workers go on.

        Raises:
            WorkerUnknown: it is none.
        """
        if not self.writer.knows_worker(worker):
            raise WorkerUnknown(f"worker {worker!r:.110} is not registered here; register again")

    @property
    def commits(self) -> int:
        """How many commits there were: what a worker that is answered now has seen."""
        return self.database.past.commits

    def _look_at_ground(self) -> None:
        """Once a second: whether the database is where it was, and which workers have ended."""
        self.polls.lose_ended(self.writer.processes())
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
        return await self._readers.read(ask, *args)

    async def in_thread(self, ask: Callable[..., T], *args: Any) -> T:
        """Do something short with the disk, on a reader's thread."""
        return await self._readers.in_thread(ask, *args)

    async def workers(self) -> list[WorkerAnswer]:
        """Return the workers as they are now, with the addresses of what each runs."""
        workers: list[WorkerRecord] = await self.submit(ListWorkers())
        wanted = [one for worker in workers for one in worker.in_hand[:IN_HAND_SHOWN]]
        wanted += [worker.last.id for worker in workers if worker.last]
        rows = await self.read(step_queries.in_hand, wanted) if wanted else []
        plans = {plan: await self.runs.plan(plan) for plan in {row["plan"] for row in rows}}
        named = await self.read(run_graph.attempts_in_hand, rows, plans) if rows else []
        by_id = {row["id"]: attempt for row, attempt in zip(rows, named, strict=True)}
        return [worker_answer(worker, by_id) for worker in workers]

    async def look(self, subject: Subject, closely: bool) -> JsonObject | None:
        """What a watcher sees of a subject: a run's graph only when it watches that run."""
        kind, name = subject
        try:
            if kind == "pool":
                (pool,) = await self.submit(ListPools(str(name)))
                return {"pool": show(PoolAnswer, pool)}
            if kind == "schedule":
                (schedule,) = await self.submit(ListSchedules(str(name)))
                return {"schedule": show(ScheduleAnswer, schedule)}
            if kind == "workers":
                workers = await self.workers()
                return {"workers": [without_tasks(worker) for worker in workers]}
            number = int(name)
            run = await self.runs.run(number)
            shown = {"run": run_json(run)}
            if not closely:
                return shown
            graph = await self.runs.graph(number)
            shown["graph"] = graph_json(graph)
            if self._lines.is_due(number, ended=run.ended_at is not None):
                self._lines.remember(number, await self.runs.line_facts(run))
            if facts := self._lines.facts_of(number):
                shown["glance"] = show(GlanceAnswer, glance.glance(run, graph.part, *facts))
            return shown
        except (NotFound, Gone, Busy):
            return None

    def _on_results(self, results: Results) -> None:
        self.health.note(results.fault)
        changes = results.changes
        self.polls.answer(results.messages, changes.gone)
        self.waits.note_ended(changes.ended)
        if self.notices is not None:
            self.notices.note(changes.runs, changes.ended)
        for list_job in results.list_jobs:
            self.beside.do(list_job)
        if changes.dropped:
            dropping = asyncio.ensure_future(self.uploads.drop(changes.dropped))
            self._tasks.add(dropping)
            dropping.add_done_callback(self._tasks.discard)
        changed: set[Subject] = {("run", number) for number in changes.runs}
        changed |= {("pool", name) for name in changes.pools}
        changed |= {("schedule", name) for name in changes.schedules}
        self.hub.changed(changed | ({WORKERS} if changes.workers else set()), changes.ended)

    # The end

    def close_gates(self) -> None:
        """Answer everything that is held open, and take nothing new."""
        self.closing = True
        if self.notices is not None:
            self.notices.close()
        self.looms.close()
        self.holders.close()
        self.closed.set()
        self.hub.close()
        self.logs.close_gates()
        self.beside.close()
        self.checker.close()
        self.polls.close()
        self.waits.close()

    def close(self) -> None:
        """Close the store."""
        self._ground.cancel()
        self.writer.close()
        self._readers.close()
        self.logs.close()
        self.database.close()
