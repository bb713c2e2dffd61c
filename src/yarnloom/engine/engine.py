"""The engine: many commands, one transaction.

Synchronous, without a clock of its own. `execute` takes a batch of commands and the time, and
gives an answer to each; what it answers is durable. A command that is refused changes nothing. A
command that breaks (a bug) is undone alone: the batch is rolled back and done again one by one.

Decision: `docs/decisions/01-one-writer.md`.
"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from yarnloom.engine import commands
from yarnloom.engine.compact import granted_items, relay_steps, segments
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.dispatch.assign import assign_ready_steps
from yarnloom.engine.operations import attempts_in_hand, pause, schedules, worker_sessions
from yarnloom.engine.operations.admission import admit
from yarnloom.engine.operations.progress_samples import ProgressSamples
from yarnloom.engine.operations.run_end import follow
from yarnloom.engine.rebuild import count_last_hour, rebuild, set_timers
from yarnloom.engine.results import Results
from yarnloom.engine.rules.run_clock import Moment, RunTime, Time
from yarnloom.engine.state.afterwards import Afterwards
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import FILES_DUE, SCHEDULE_DUE, DueTimes
from yarnloom.engine.state.each_counts import Flow
from yarnloom.engine.state.hourly_counts import Hours
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.time_sums import TimeSums
from yarnloom.engine.state.transaction import DeferredAnswer, Folder, Statistics, Transaction
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.use_cases import USE_CASES
from yarnloom.errors import CannotStore, Refused
from yarnloom.plan import Plan
from yarnloom.secrets import Vault
from yarnloom.store import Database, Printer, StoreFailed, Unit, schedule_records
from yarnloom.store import run_records as store
from yarnloom.values import JsonObject

STORE_PAUSE = 1.0

OF_THE_SERVICE = (worker_sessions.LEASE_DUE, SCHEDULE_DUE, FILES_DUE)
"""Timers that say nothing of the runs that are under way."""


def run_of(command: commands.Command) -> int | None:
    """Return the run that a command names."""
    return getattr(command, "run", None)


def worker_of(command: commands.Command) -> str:
    """Return the worker that a command names."""
    return str(getattr(command, "worker", ""))


class Engine:
    """The one writer of a data folder.

    Args:
        database: opened and locked.
        moment: the present time, for the workers' first leases.
        settings: leases and limits.
    """

    def __init__(
        self, database: Database, moment: Moment, settings: EngineSettings | None = None
    ) -> None:
        self._database = database
        self._settings = settings or EngineSettings()
        if self._settings.vault is None:
            self._settings = replace(self._settings, vault=Vault(database.folder))
        self._unit = Unit(database.writer, database.past)
        self._plans: dict[int, Plan] = {}
        self._memory = Memory()
        self._stale = self._unwritable = False
        self._broken: Sequence[commands.Command] | None = None
        self._time = Time(moment, database.past.latest)
        self._last_hour = count_last_hour(self._unit, moment.now)
        self._each_counts, self._hours = Flow(self._unit), Hours()
        self._times, self._samples = TimeSums(self._unit), ProgressSamples(moment.now)
        self._rebuild(moment)

    @property
    def takes_work(self) -> bool:
        """Whether a worker is there that takes work: registered, not draining, with a place."""
        return any(
            worker.session.registered
            and not worker.session.draining
            and (worker.offer.places or worker.offer.io_places)
            for worker in list(self._memory.workers.values())
        )

    def processes(self) -> dict[str, JsonObject]:
        """By worker which process it says that it is, as far as workers say it."""
        found = ((one.id, one.facts.get("process")) for one in list(self._memory.workers.values()))
        return {worker: process for worker, process in found if isinstance(process, dict)}

    @property
    def closed_pools(self) -> frozenset[str]:
        """Pools in which nothing begins until somebody opens them."""
        return self._memory.pools.closed

    def knows_worker(self, worker: str) -> bool:
        """Whether a worker is registered; also where that is not known at this moment."""
        known = self._memory.workers.get(worker)
        return self._stale or (known is not None and known.session.registered)

    def has_worker(self, worker: str) -> bool:
        """Whether a worker was here and has not left; also where that is not known now."""
        return self._stale or worker in self._memory.workers

    @property
    def ahead(self) -> int:
        """By how many microseconds the time of runs is ahead of the clock, which was set back."""
        return self._time.ahead

    def next_due_of_runs(self) -> float | None:
        """When something next falls due in a run, on the steady clock; None if nothing will."""
        return self._memory.timers.next_but(OF_THE_SERVICE)

    def stops_in(self, attempt: int, moment: Moment) -> float | None:
        """In how many seconds an attempt that has begun is told to stop; None for never."""
        times = []
        if due := self._memory.attempts.timeouts.get(attempt):
            times.append(due[0] - moment.mono)
        run = self._unit.runs.need(self._unit.attempts.need(attempt).run)
        if run.deadline_at is not None:
            times.append((run.deadline_at - moment.now) / 1_000_000)
        return min(times, default=None)

    def in_hand(self, command: commands.InHand) -> dict[int, Printer | None] | None:
        """Answer a query from memory; None where that takes a transaction."""
        return None if self._stale else attempts_in_hand.in_hand_now(self._memory, command)

    def execute(self, batch: Sequence[commands.Command], moment: Moment) -> Results:
        """Do a batch of commands in one transaction."""
        if fault := self._fault():
            return self._only_read(batch, fault, moment)
        if self._stale and (failed := self._rebuild_after_failure(moment)):
            return self._busy(batch, failed, moment)
        moved = self._time.look(moment, busy=self._memory.workflows.is_busy)
        transaction = self._transaction(moment)
        try:
            self._follow_clock(transaction, moved=moved)
            answers = [self._one(transaction, command) for command in batch]
            pause.settle_all(
                transaction.unit, transaction.time, transaction.afterwards, transaction.moves
            )
            while transaction.afterwards.are_left:
                follow(transaction)
                admit(transaction)
            assign_ready_steps(transaction, granted_items.give, relay_steps.extend)
            worker_sessions.dismiss_idle(transaction)
            self._database.past.latest = transaction.time.now
            self._each_counts.write(transaction)
            self._hours.write(self._unit)
            self._times.write()
            self._samples.take(transaction)
            commit_seconds = self._unit.commit()
            if taken := self._database.taken_away():
                raise StoreFailed(taken)  # what was stored there is nobody's any more
        except StoreFailed as error:
            self._undo()
            return self._busy(batch, error, moment)
        except Exception as error:
            self._undo(batch)
            if len(batch) == 1:
                pause_seconds = STORE_PAUSE if isinstance(batch[0], commands.Tick) else 0.0
                return Results([error], next_due=moment.mono + pause_seconds)
            return self._one_by_one(batch, moment)
        self._time.shift = 0
        self._remember(transaction)
        results = self._results(transaction, batch, answers)
        results.commit_seconds = commit_seconds
        return results

    def _remember(self, transaction: Transaction) -> None:
        """What a transaction did that has succeeded counts for the last hour."""
        self._last_hour.add(transaction.time.now, transaction.counts.tally)
        memory = self._memory
        self._last_hour.sample(
            transaction.changes.pools,
            memory.pools,
            memory.queue.lanes,
            transaction.time.now,
            transaction.time.mono,
        )

    def _one(self, transaction: Transaction, command: commands.Command) -> Any:
        run = run_of(command)
        if (
            run is not None
            and command.reads_ended_steps
            and relay_steps.is_in_the_way(
                transaction.memory.workers, transaction.memory.relays, run
            )
        ):
            return commands.StillRunning(run)
        self._make_plain(transaction, command)
        before = self._unit.changes
        try:
            return USE_CASES[type(command)](transaction, command)
        except Refused as refused:
            if self._unit.changes != before:
                raise  # it had begun to change things: undo all, and do the others again
            return refused

    def _make_plain(self, transaction: Transaction, command: commands.Command) -> None:
        """What a command is about that is not usual has rows before it."""
        known = transaction.memory.grants
        # Mending looks at the step of every item, and items that went as usual have none.
        if isinstance(command, commands.MendRun):
            while segments.unfold(transaction, commands.Unfold(command.run)):
                pass
        if isinstance(command, commands.StepAction) and command.item is not None:
            segments.unfold_item(transaction, command.run, *command.item)
        run = run_of(command)
        if run is not None and command.changes_run:
            relay_steps.call_back(transaction.memory.workers, transaction.memory.relays, run)
        if not known.eaches:
            return
        if isinstance(command, commands.ChangePool | commands.RemovePool):
            for straight in granted_items.withdraw_of_pool(transaction, command.name):
                composition = Composition(transaction, transaction.unit.run(straight.run))
                composition.fill_plainly(transaction.unit.parts.need(straight.each))
            return
        if (attempt := getattr(command, "attempt", None)) is not None:
            granted_items.unfold_attempt(transaction, attempt)
        elif (
            run is not None
            and command.changes_run
            and any(each.run == run for each in known.eaches.values())
        ):
            Composition(transaction, transaction.unit.run(run)).make_plain()

    def _results(
        self, transaction: Transaction, batch: Sequence[commands.Command], answers: list[Any]
    ) -> Results:
        answers = [
            answer.make() if isinstance(answer, DeferredAnswer) else answer for answer in answers
        ]
        results = Results(
            answers,
            changes=transaction.changes,
            list_jobs=self._memory.jobs.new,
            next_due=self._memory.timers.next_at,
        )
        self._memory.jobs.new = []
        for command, answer in zip(batch, answers, strict=True):
            if not isinstance(command, commands.Report):
                continue
            # One that left in the same batch gets nothing more.
            worker = self._memory.workers.get(command.worker)
            if worker is not None and isinstance(answer, commands.Reported):
                answer.messages = worker.take_unsent()
        for worker in self._memory.workers.values():
            worker.messages.committed = worker.messages.serial
            if (
                worker.session.polling
                and worker.messages.unsent
                and (messages := worker.take_unsent())
            ):
                worker.session.polling = False
                results.messages[worker.id] = messages
        return results

    def _transaction(self, moment: Moment) -> Transaction:
        database, memory, unit = self._database, self._memory, self._unit
        time = RunTime(moment.now + self._time.ahead, moment.mono, self._time.ahead)
        plans = Plans(unit, self._plans, memory.workers.contracts)
        due_times = DueTimes(time, memory.timers, memory.attempts)
        changes, afterwards = Changes(), Afterwards()
        progress = Progress(unit, time, plans, memory.attempts, memory.workflows)
        return Transaction(
            unit=unit,
            folder=Folder(database.files, database.id, database.past),
            memory=memory,
            settings=self._settings,
            plans=plans,
            time=time,
            due_times=due_times,
            counts=Statistics(self._last_hour, self._each_counts, self._hours, self._times),
            changes=changes,
            afterwards=afterwards,
            progress=progress,
            moves=Moves(unit, time, progress, memory, due_times, changes, self._hours, afterwards),
            pool_places=PoolPlaces(memory.pools, memory.queue.lanes, time, memory.timers, changes),
        )

    def _rebuild(self, moment: Moment) -> None:
        before, broken = self._memory.workers, self._broken
        self._memory = Memory()
        rebuild(self._transaction(moment))
        if broken is not None:
            changed = {worker_of(command) for command in broken if command.changes_sessions}
            worker_sessions.resume_sessions(self._transaction(moment), before, changed)
        self._stale, self._broken = False, None

    def _one_by_one(self, batch: Sequence[commands.Command], moment: Moment) -> Results:
        total = Results()
        for command in batch:
            total.add(self.execute([command], moment))
        return total

    def _busy(
        self, batch: Sequence[commands.Command], error: StoreFailed, moment: Moment
    ) -> Results:
        busy = CannotStore(f"the change could not be stored: {error}. Nothing changed; try again.")
        fault = str(error)
        return Results([busy] * len(batch), next_due=moment.mono + STORE_PAUSE, fault=fault)

    def _fault(self) -> StoreFailed | None:
        """Why nothing can be stored; after a failure that is tried."""
        if taken := self._database.taken_away():
            return StoreFailed(taken)
        if self._unwritable:
            try:
                self._unit.rollback()
                store.try_to_write(self._unit)
            except StoreFailed as error:
                return error
            self._unwritable = False
        return None

    def _only_read(
        self, batch: Sequence[commands.Command], fault: StoreFailed, moment: Moment
    ) -> Results:
        """Nothing can be stored: queries are answered from what can be read."""
        results = self._busy(batch, fault, moment)
        if not any(command.is_query for command in batch):
            return results
        try:
            if self._stale:
                self._unit.rollback()
                self._rebuild(moment)
            transaction = self._transaction(moment)
            results.answers = [
                self._one(transaction, command) if command.is_query else refused
                for command, refused in zip(batch, results.answers, strict=True)
            ]
            self._unit.rollback()
        except StoreFailed:
            self._stale = True
        return results

    def _undo(self, broken: Sequence[commands.Command] | None = None) -> None:
        """Roll back; the memory is rebuilt before the next command.

        Args:
            broken: the commands of which one broke: workers keep their sessions, unless one of
                these changed them. None where the store failed: workers register again then, as
                after a restart.
        """
        self._stale = self._unwritable = True
        self._broken = broken
        self._plans.clear()
        self._each_counts.forget()
        self._hours.forget()
        self._times.forget()
        self._samples.forget()
        with contextlib.suppress(StoreFailed):
            self._unit.rollback()

    def _rebuild_after_failure(self, moment: Moment) -> StoreFailed | None:
        try:
            self._unit.rollback()
            self._rebuild(moment)
        except StoreFailed as error:
            return error
        return None

    def _follow_clock(self, transaction: Transaction, *, moved: bool) -> None:
        """The clock was set, or the machine slept: durations stay as long as they are."""
        if self._time.shift:
            schedule_records.move_waits(self._unit, self._time.shift)
        if moved or self._time.shift:
            schedules.rearm(transaction.unit, transaction.time, transaction.due_times)
            set_timers(transaction)
