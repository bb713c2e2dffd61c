"""What happens because time has passed: leases, back-offs, deadlines, rates, starts, schedules.

Decision: `docs/decisions/06-deadlines-and-retries.md`.
"""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.engine.commands import LoseWorker, Tick, handles
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.dispatch.kept_files import drop_idle_files
from yarnloom.engine.dispatch.worker_orders import post_stop
from yarnloom.engine.operations.attempt_ends import hears_before, too_long
from yarnloom.engine.operations.cancel import stop_late_runs, stop_late_starts
from yarnloom.engine.operations.compact_reports import look_at_given
from yarnloom.engine.operations.schedules import fire_due
from yarnloom.engine.operations.start import open_due
from yarnloom.engine.operations.unbegun_attempts import look_at_unbegun
from yarnloom.engine.operations.worker_sessions import LEASE_DUE, lose_worker
from yarnloom.engine.parts.items import FILL_DUE
from yarnloom.engine.rules.states import StepEvent, StopReason
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
)
from yarnloom.engine.state.pool_places import RATE_DUE
from yarnloom.engine.state.transaction import Transaction
from yarnloom.store import due_records

AT_ONCE = 500
RESUMABLE_STOPS = (None, StopReason.PAUSE, StopReason.DRAIN)
"""Of a step that is told to stop for these it may still be too late."""


@handles(Tick)
def tick(transaction: Transaction, _: Tick) -> None:
    """Look at everything that has fallen due."""
    due = transaction.memory.timers
    if (
        due.next_at is not None
        and transaction.time.mono - due.next_at > transaction.settings.lease / 3
    ):
        # The service itself stood still: that a worker was not heard of says nothing about it.
        for worker in transaction.memory.workers.values():
            worker.session.lease_until = transaction.time.mono + transaction.settings.lease
    for kind, key in list(transaction.memory.timers.take(transaction.time.mono)):
        _FALLEN_DUE[kind](transaction, key)


def _look_at_lease(transaction: Transaction, worker_id: str) -> None:
    """Give a worker up that was not heard of."""
    worker = transaction.memory.workers.get(worker_id)
    if worker is None:
        return
    if worker.session.lease_until > transaction.time.mono:
        transaction.memory.timers.add(worker.session.lease_until, LEASE_DUE, worker_id)
    else:
        why = f"not heard of for {transaction.settings.lease:g} s"
        lose_worker(transaction, LoseWorker(worker_id, why))


def _go_on(transaction: Transaction, part_id: str) -> None:
    """Make more items of an each."""
    part = transaction.unit.parts.get(int(part_id))
    if part is not None:
        Composition(transaction, transaction.unit.run(part.run)).go_on(part)


def _look_at_rate(transaction: Transaction, pool: str) -> None:
    """A pool's rate may let something begin again."""
    transaction.memory.pools.limiter(pool).armed = False
    transaction.memory.queue.lanes.reopen(pool)
    transaction.memory.pools.tidy(pool, transaction.time.mono)


def _look_at_times(transaction: Transaction, _: str) -> None:
    """Tell attempts to stop that have run as long as they may."""
    timeouts = transaction.memory.attempts.timeouts
    for attempt_id in [one for one, (at, _why) in timeouts.items() if at <= transaction.time.mono]:
        _at, why = timeouts.pop(attempt_id)
        attempt = transaction.unit.attempts.need(attempt_id)
        step = transaction.unit.steps.need(attempt.step)
        if step.stop in RESUMABLE_STOPS:
            rules = transaction.plans.of(transaction.unit.run(step.run)).nodes[step.node].rules
            limit = rules.timeout if why is StopReason.TIMEOUT else rules.deadline
            lead = hears_before(transaction.memory.workers, attempt, step, limit or 0.0)
            post_stop(
                transaction.unit,
                transaction.memory.workers,
                transaction.changes,
                step,
                why,
                raise_in=lead,
            )
    if timeouts:
        transaction.memory.timers.set(TIMEOUT_DUE, min(timeouts.values())[0])


def _look_at_quiet(transaction: Transaction, _: str) -> None:
    """Attempts that say nothing of their progress are stuck; some are stopped for it."""
    following = []
    for attempt_id, heard in list(transaction.memory.attempts.heard.items()):
        attempt = transaction.unit.attempts.need(attempt_id)
        step = transaction.unit.steps.need(attempt.step)
        rules = transaction.plans.of(transaction.unit.run(step.run)).nodes[step.node].rules
        at = heard + (rules.quiet_for or 0.0)
        if at > transaction.time.mono:
            following.append(at)
            continue
        transaction.changes.runs.add(step.run)
        if rules.if_quiet == "retry" and step.stop in RESUMABLE_STOPS:
            post_stop(
                transaction.unit,
                transaction.memory.workers,
                transaction.changes,
                step,
                StopReason.QUIET,
                raise_in=0.0,
            )
        else:
            following.append(transaction.time.mono + (rules.quiet_for or 0.0))
    if following:
        transaction.memory.timers.set(QUIET_DUE, min(following))


def _wake_steps(transaction: Transaction, _: str) -> None:
    """Steps whose back-off or rest is over are ready."""
    for step_id in due_records.steps_due(transaction.unit, transaction.time.now, AT_ONCE):
        transaction.moves.step(transaction.unit.steps.need(step_id), StepEvent.DUE)
    if (following := due_records.next_due(transaction.unit)) is not None:
        transaction.due_times.set(BACK_OFF_DUE, following)


def _stop_late_steps(transaction: Transaction, _: str) -> None:
    """Steps whose deadline has passed fail, or are told to stop where they run."""
    for step_id in due_records.steps_past_deadline(transaction.unit, transaction.time.now, AT_ONCE):
        step = transaction.unit.steps.need(step_id)
        if step.ended_at is not None:
            continue  # because of another
        if step.stop == StopReason.CANCEL:
            post_stop(
                transaction.unit,
                transaction.memory.workers,
                transaction.changes,
                step,
                StopReason.CANCEL,
                now=True,
            )  # the deadline cuts its grace
        if step.stop not in RESUMABLE_STOPS:
            continue
        run = transaction.unit.run(step.run)
        limit = transaction.plans.of(run).nodes[step.node].rules.deadline or 0.0
        if not post_stop(
            transaction.unit,
            transaction.memory.workers,
            transaction.changes,
            step,
            StopReason.DEADLINE,
            raise_in=0.0,
        ):
            Composition(transaction, run).fail_step(
                step, too_long(limit, "deadline", "DeadlinePassed")
            )
    if (following := due_records.next_step_deadline(transaction.unit)) is not None:
        transaction.due_times.set(DEADLINE_DUE, following)


def _stop_late_runs(transaction: Transaction, _: str) -> None:
    stop_late_runs(transaction)


def _open_runs(transaction: Transaction, _: str) -> None:
    open_due(transaction)


def _stop_late_starts(transaction: Transaction, _: str) -> None:
    stop_late_starts(transaction)


def _fire_schedules(transaction: Transaction, _: str) -> None:
    fire_due(transaction)


def _tell_list_jobs(transaction: Transaction, _: str) -> None:
    """What was found undone at a start is told with this transaction's results."""


_FALLEN_DUE: dict[str, Callable[[Transaction, str], None]] = {
    LEASE_DUE: _look_at_lease,
    FILL_DUE: _go_on,
    RATE_DUE: _look_at_rate,
    TIMEOUT_DUE: _look_at_times,
    QUIET_DUE: _look_at_quiet,
    UNBEGUN_DUE: look_at_unbegun,
    GRANT_DUE: look_at_given,
    BACK_OFF_DUE: _wake_steps,
    DEADLINE_DUE: _stop_late_steps,
    RUN_DEADLINE_DUE: _stop_late_runs,
    START_DUE: _open_runs,
    START_BY_DUE: _stop_late_starts,
    SCHEDULE_DUE: _fire_schedules,
    FILES_DUE: drop_idle_files,
    LIST_JOBS_DUE: _tell_list_jobs,
}
