"""What happens because time has passed: leases, back-offs, deadlines, rates, starts, schedules.

Decision: `docs/decisions/06-deadlines-and-retries.md`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from yarnloom.engine.commands import LoseWorker, Tick, handles
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.dispatch.kept_files import KeptFiles
from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.part_contents.items import FILL_DUE
from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import StepEvent, StopReason
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.due_times import (
    BACK_OFF_DUE,
    DEADLINE_DUE,
    FILES_DUE,
    GRANT_DUE,
    LIST_JOBS_DUE,
    QUIET_DUE,
    RUN_DEADLINE_DUE,
    SCHEDULE_DUE,
    START_BY_DUE,
    START_DUE,
    TIMEOUT_DUE,
    UNBEGUN_DUE,
    DueTimes,
    Timers,
)
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import RATE_DUE
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases.attempt_ends import hears_before, too_long
from yarnloom.engine.use_cases.attempt_reports import AttemptReports
from yarnloom.engine.use_cases.cancel import Cancelling
from yarnloom.engine.use_cases.reports import Reports
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.engine.use_cases.start import Starting
from yarnloom.engine.use_cases.worker_sessions import LEASE_DUE, WorkerSessions
from yarnloom.store import Unit
from yarnloom.store.runs import due_records

AT_ONCE = 500
RESUMABLE_STOPS = (None, StopReason.PAUSE, StopReason.DRAIN)
"""Of a step that is told to stop for these it may still be too late."""


@dataclass(slots=True)
class DueWork:
    """Does all that has fallen due."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    moves: Moves
    workers: Workers
    queue: StepQueue
    pools: Pools
    attempts: OpenAttempts
    timers: Timers
    attempt_reports: AttemptReports
    cancelling: Cancelling
    compositions: Compositions
    kept_files: KeptFiles
    reports: Reports
    schedules: Schedules
    starting: Starting
    worker_orders: WorkerOrders
    worker_sessions: WorkerSessions

    @handles(Tick)
    def tick(self, _: Tick) -> None:
        """Look at everything that has fallen due."""
        due = self.timers
        if due.next_at is not None and self.time.mono - due.next_at > self.settings.lease / 3:
            # The service itself stood still: that a worker was not heard of says nothing about it.
            for worker in self.workers.values():
                worker.session.lease_until = self.time.mono + self.settings.lease
        for kind, key in list(self.timers.take(self.time.mono)):
            _FALLEN_DUE[kind](self, key)

    def _look_at_lease(self, worker_id: str) -> None:
        """Give a worker up that was not heard of."""
        worker = self.workers.get(worker_id)
        if worker is None:
            return
        if worker.session.lease_until > self.time.mono:
            self.timers.add(worker.session.lease_until, LEASE_DUE, worker_id)
        else:
            why = f"not heard of for {self.settings.lease:g} s"
            self.worker_sessions.lose_worker(LoseWorker(worker_id, why))

    def _go_on(self, part_id: str) -> None:
        """Make more items of an each."""
        part = self.unit.parts.get(int(part_id))
        if part is not None:
            self.compositions.of(self.unit.run(part.run)).go_on(part)

    def _look_at_rate(self, pool: str) -> None:
        """A pool's rate may let something begin again."""
        self.pools.limiter(pool).armed = None
        self.queue.lanes.reopen(pool)
        self.pools.tidy(pool, self.time.mono)

    def _look_at_times(self) -> None:
        """Tell attempts to stop that have run as long as they may."""
        timeouts = self.attempts.timeouts
        for attempt_id in [one for one, (at, _why) in timeouts.items() if at <= self.time.mono]:
            _at, why = timeouts.pop(attempt_id)
            attempt = self.unit.attempts.need(attempt_id)
            step = self.unit.steps.need(attempt.step)
            if step.stop in RESUMABLE_STOPS:
                rules = self.plans.of(self.unit.run(step.run)).nodes[step.node].rules
                limit = rules.timeout if why is StopReason.TIMEOUT else rules.deadline
                lead = hears_before(self.workers, attempt, step, limit or 0.0)
                self.worker_orders.post_stop(step, why, raise_in=lead)
        if timeouts:
            self.timers.set(TIMEOUT_DUE, min(timeouts.values())[0])

    def _look_at_quiet(self) -> None:
        """Attempts that say nothing of their progress are stuck; some are stopped for it."""
        following = []
        for attempt_id, heard in list(self.attempts.heard.items()):
            attempt = self.unit.attempts.need(attempt_id)
            step = self.unit.steps.need(attempt.step)
            rules = self.plans.of(self.unit.run(step.run)).nodes[step.node].rules
            at = heard + (rules.quiet_for or 0.0)
            if at > self.time.mono:
                following.append(at)
                continue
            self.changes.runs.add(step.run)
            if rules.if_quiet == "retry" and step.stop in RESUMABLE_STOPS:
                self.worker_orders.post_stop(step, StopReason.QUIET, raise_in=0.0)
            else:
                following.append(self.time.mono + (rules.quiet_for or 0.0))
        if following:
            self.timers.set(QUIET_DUE, min(following))

    def _wake_steps(self) -> None:
        """Steps whose back-off or rest is over are ready."""
        for step_id in due_records.steps_due(self.unit, self.time.now, AT_ONCE):
            self.moves.step(self.unit.steps.need(step_id), StepEvent.DUE)
        if (following := due_records.next_due(self.unit)) is not None:
            self.due_times.set(BACK_OFF_DUE, following)

    def _stop_late_steps(self) -> None:
        """Steps whose deadline has passed fail, or are told to stop where they run."""
        for step_id in due_records.steps_past_deadline(self.unit, self.time.now, AT_ONCE):
            step = self.unit.steps.need(step_id)
            if step.ended_at is not None:
                continue  # because of another
            if step.stop == StopReason.CANCEL:
                self.worker_orders.post_stop(
                    step, StopReason.CANCEL, now=True
                )  # the deadline cuts its grace
            if step.stop not in RESUMABLE_STOPS:
                continue
            run = self.unit.run(step.run)
            limit = self.plans.of(run).nodes[step.node].rules.deadline or 0.0
            if not self.worker_orders.post_stop(step, StopReason.DEADLINE, raise_in=0.0):
                self.compositions.of(run).fail_step(
                    step, too_long(limit, "deadline", "DeadlinePassed")
                )
        if (following := due_records.next_step_deadline(self.unit)) is not None:
            self.due_times.set(DEADLINE_DUE, following)


_FALLEN_DUE: dict[str, Callable[[DueWork, str], None]] = {
    LEASE_DUE: DueWork._look_at_lease,
    FILL_DUE: DueWork._go_on,
    RATE_DUE: DueWork._look_at_rate,
    TIMEOUT_DUE: lambda work, _: work._look_at_times(),
    QUIET_DUE: lambda work, _: work._look_at_quiet(),
    UNBEGUN_DUE: lambda work, _: work.attempt_reports.look_at_unbegun(),
    GRANT_DUE: lambda work, _: work.reports.look_at_given(),
    BACK_OFF_DUE: lambda work, _: work._wake_steps(),
    DEADLINE_DUE: lambda work, _: work._stop_late_steps(),
    RUN_DEADLINE_DUE: lambda work, _: work.cancelling.stop_late_runs(),
    START_DUE: lambda work, _: work.starting.open_due(),
    START_BY_DUE: lambda work, _: work.cancelling.stop_late_starts(),
    SCHEDULE_DUE: lambda work, _: work.schedules.fire_due(),
    FILES_DUE: lambda work, _: work.kept_files.drop_idle_files(),
    # What was found undone at a start is told with this transaction's results.
    LIST_JOBS_DUE: lambda work, _: None,
}
"""By kind of timer the work that falls due, given the name that the timer was set with."""
