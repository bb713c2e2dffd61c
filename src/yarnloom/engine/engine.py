"""The engine: many commands, one transaction.

Synchronous, without a clock of its own. `execute` takes a batch of commands and the time, and
gives an answer to each; what it answers is durable. A command that is refused changes nothing. A
command that breaks (a bug) is undone alone: the batch is rolled back and done again one by one.

Decision: `docs/decisions/01-one-writer.md`.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import fields, replace
from typing import Any

from yarnloom.engine import commands
from yarnloom.engine.dispatch.assign import Assignment
from yarnloom.engine.rebuild import Rebuild, count_last_hour
from yarnloom.engine.results import Results
from yarnloom.engine.rules.run_clock import Moment, RunTime, Time
from yarnloom.engine.state.due_times import FILES_DUE, SCHEDULE_DUE, DueTimes
from yarnloom.engine.state.each_counts import Flow, TimeSums
from yarnloom.engine.state.hourly_counts import Hours
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings, Folder
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.transaction_notes import Afterwards, Changes, Composing
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.transaction import Transaction, do
from yarnloom.engine.use_cases import attempts_in_hand
from yarnloom.engine.use_cases.admission import HeldRuns
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.engine.use_cases.progress_samples import ProgressSamples, Sampler
from yarnloom.engine.use_cases.rows_before import RowsBefore
from yarnloom.engine.use_cases.run_end import RunEnds
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.engine.use_cases.worker_sessions import LEASE_DUE, WorkerSessions
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.errors import CannotStore, Refused
from yarnloom.plan import Plan
from yarnloom.secrets import Vault
from yarnloom.store import Database, Printer, StoreFailed, Unit
from yarnloom.store.runs import run_records as store
from yarnloom.store.runs import schedule_records
from yarnloom.values import JsonObject

STORE_PAUSE = 1.0

OF_THE_SERVICE = (LEASE_DUE, SCHEDULE_DUE, FILES_DUE)
"""Timers that say nothing of the runs that are under way."""


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
        self._current: Transaction | None = None
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
            # The order counts: ends free places and names, which the next runs and steps take.
            self._follow_clock(transaction, moved=moved)
            answers = [self._one(transaction, command) for command in batch]
            if self._memory.queue.paused:
                transaction.of(Pausing).settle_all()
            afterwards = transaction.of(Afterwards)
            while afterwards.are_left:
                transaction.of(RunEnds).follow()
                if afterwards.made_room:
                    transaction.of(HeldRuns).admit()
            transaction.of(Assignment).assign_ready_steps(
                transaction.of(GrantedItems).give, transaction.of(RelaySteps).extend
            )
            transaction.of(WorkerSessions).dismiss_idle()
            self._database.past.latest = transaction.of(RunTime).now
            self._each_counts.write(transaction.of(Plans))
            self._hours.write(self._unit)
            self._times.write()
            self._samples.take(transaction.of(Sampler), transaction.of(Changes).runs)
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
        time, memory = transaction.of(RunTime), self._memory
        self._last_hour.add(time.now, transaction.of(Statistics).tally)
        self._last_hour.sample(
            transaction.of(Changes).pools, memory.pools, memory.queue.lanes, time.now, time.mono
        )

    def _one(self, transaction: Transaction, command: commands.Command) -> Any:
        rows = transaction.of(RowsBefore)
        if (run := rows.waits_for(command)) is not None:
            return commands.StillRunning(run)
        rows.add(command)
        before = self._unit.changes
        try:
            return do(transaction, command)
        except Refused as refused:
            if self._unit.changes != before:
                raise  # it had begun to change things: undo all, and do the others again
            return refused

    def _results(
        self, transaction: Transaction, batch: Sequence[commands.Command], answers: list[Any]
    ) -> Results:
        answers = [
            answer.make() if isinstance(answer, commands.DeferredAnswer) else answer
            for answer in answers
        ]
        results = Results(
            answers,
            changes=replace(transaction.of(Changes)),
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
        """Begin a transaction."""
        if self._current is None:
            self._current = Transaction(self._aggregates())
        ahead = self._time.ahead
        self._current.begin(moment.now + ahead, moment.mono, ahead)
        return self._current

    def _aggregates(self) -> Iterator[object]:
        database, memory, unit = self._database, self._memory, self._unit
        time = RunTime(0, 0.0)
        plans = Plans(unit, self._plans, memory.workers.contracts)
        due_times = DueTimes(time, memory.timers, memory.attempts)
        changes, afterwards = Changes(), Afterwards()
        progress = Progress(unit, time, plans, memory.attempts, memory.workflows)
        yield from (getattr(memory, aggregate.name) for aggregate in fields(memory))
        yield from (unit, time, plans, due_times, changes, afterwards, progress, Composing())
        yield from (self._settings, self._settings.vault)
        yield Statistics(self._last_hour, self._each_counts, self._hours, self._times)
        yield Folder(database.files, database.id, database.past)
        yield Moves(unit, time, progress, memory, due_times, changes, self._hours, afterwards)
        yield PoolPlaces(memory.pools, memory.queue.lanes, time, memory.timers, changes)

    def _rebuild(self, moment: Moment) -> None:
        before, broken = self._memory.workers, self._broken
        self._memory, self._current = Memory(), None
        self._transaction(moment).of(Rebuild).rebuild()
        if broken is not None:
            changed = {worker_of(command) for command in broken if command.changes_sessions}
            sessions = self._transaction(moment).of(WorkerSessions)
            sessions.resume_sessions(before, changed)
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
            transaction.of(Schedules).rearm()
            transaction.of(Rebuild).set_timers()
