"""Rebuilding the memory from the records: at a start, and after a commit that failed."""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.engine.compact import granted_items, relay_steps
from yarnloom.engine.dispatch import kept_files, pool_settings
from yarnloom.engine.operations import (
    attempt_reports,
    list_results,
    pause,
    schedules,
    worker_sessions,
)
from yarnloom.engine.operations.run_end import listeners_of
from yarnloom.engine.parts.items import FILL_DUE
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import TROUBLE
from yarnloom.engine.state.due_times import (
    BACK_OFF_DUE,
    DEADLINE_DUE,
    FILES_DUE,
    RUN_DEADLINE_DUE,
    SCHEDULE_DUE,
    START_BY_DUE,
    START_DUE,
)
from yarnloom.engine.state.last_hour import MINUTE, MINUTES, Recent, Tally
from yarnloom.engine.state.transaction import Transaction
from yarnloom.store import (
    Unit,
    due_records,
    item_records,
    queue_records,
    schedule_records,
    time_weights,
    worker_records,
    workflow_records,
)
from yarnloom.store import run_records as store


def _by_day(time: RunTime, wall: int | None) -> int | None:
    return None if wall is None else wall + time.ahead


NEXT_OF_KIND: dict[str, Callable[[Transaction], int | None]] = {
    BACK_OFF_DUE: lambda transaction: due_records.next_due(transaction.unit),
    DEADLINE_DUE: lambda transaction: due_records.next_step_deadline(transaction.unit),
    RUN_DEADLINE_DUE: lambda transaction: due_records.next_run_deadline(transaction.unit),
    START_DUE: lambda transaction: schedule_records.next_to_open(
        transaction.unit, transaction.time.ahead
    ),
    START_BY_DUE: lambda transaction: _by_day(
        transaction.time, schedule_records.next_to_expire(transaction.unit)
    ),
    SCHEDULE_DUE: lambda transaction: _by_day(
        transaction.time, schedule_records.next_firing(transaction.unit)
    ),
    FILES_DUE: kept_files.next_drop,
}


def rebuild(transaction: Transaction) -> None:
    """Fill an empty memory from the records; what was open then goes on as before."""
    memory, unit = transaction.memory, transaction.unit
    memory.workflows.plans = workflow_records.current_plans(unit)
    memory.workflows.weights = time_weights.newest(unit)
    pool_settings.rebuild(transaction.unit, transaction.memory.pools)
    pause.rebuild(transaction.unit, transaction.memory.queue)
    granted_items.rebuild(transaction)
    for pool, priority, share, contract, count, run in queue_records.ready_by_lane(unit):
        # The plan says what the steps of a contract expect of a worker.
        transaction.plans.of(transaction.unit.run(run))
        memory.queue.lanes.add(pool, priority, share, contract, count)
    for workflow, admission, count in store.runs_by_workflow(unit):
        memory.workflows.counted(admission)[workflow] += count
    memory.workflows.listeners = listeners_of(transaction.unit)
    schedules.rearm(transaction.unit, transaction.time, transaction.due_times)
    set_timers(transaction)
    for each in item_records.unfinished_eaches(unit):
        memory.timers.add(transaction.time.mono, FILL_DUE, str(each))
    list_results.rebuild(transaction)
    for worker_id, name, facts in worker_records.workers_present(unit):
        worker_sessions.remember(
            transaction.unit,
            transaction.time,
            transaction.settings,
            transaction.memory.workers,
            transaction.memory.timers,
            worker_id,
            name,
            facts,
        )
    for worker in memory.workers.values():
        for attempt in worker.in_hand:
            _remember_attempt(transaction, attempt)
    relay_steps.rebuild(
        transaction.unit, transaction.plans, transaction.memory.workers, transaction.memory.relays
    )
    for worker in memory.workers.values():
        for attempt_id, (pool, run) in worker.abandoned.items():
            if pool:
                memory.pools.limiter(pool).in_use[run] += 1
                memory.pools.limiter(pool).unbegun.discard(attempt_id)
    pool_settings.rebuild_begins(
        transaction.unit, transaction.time, transaction.memory.pools, memory.pools.settings
    )
    for number in memory.queue.paused:
        pause.settle(
            transaction.unit, transaction.time, transaction.moves, transaction.unit.run(number)
        )
    transaction.counts.eaches.write(transaction)
    transaction.counts.hours.write(unit)
    transaction.counts.times.write()
    unit.commit()


def _remember_attempt(transaction: Transaction, attempt_id: int) -> None:
    """An attempt that a worker has in hand counts for turns, in its pool, and in time."""
    attempt = transaction.unit.attempts.need(attempt_id)
    step = transaction.unit.steps.need(attempt.step)
    transaction.memory.queue.lanes.started(step.pool, step.share)
    if step.pool:
        transaction.memory.pools.limiter(step.pool).enter(step.run, attempt_id)
    if attempt.begun_at is None:
        transaction.due_times.expect_begin(attempt_id)
    else:
        attempt_reports.watch(transaction, attempt, step)


def set_timers(transaction: Transaction) -> None:
    """Set a timer for each kind of what the store keeps by time."""
    for kind, next_of in NEXT_OF_KIND.items():
        if (at := next_of(transaction)) is not None:
            transaction.due_times.set(kind, at)


def count_last_hour(unit: Unit, now: int) -> Recent:
    """Count what the records say of the last hour, the newest attempts of very many."""
    last_hour = Recent()
    since = now - MINUTES * MINUTE
    found = []
    for ready_at, begun_at, ended_at, outcome in worker_records.recent_attempts(unit, since):
        waited = max(0, begun_at - ready_at) / 1_000_000
        found.append((begun_at, Tally(begun=1, waited=waited, longest=waited)))
        if ended_at is not None:
            found.append((ended_at, Tally(ended=1, failed=outcome in TROUBLE)))
    for at, tally in sorted(found, key=lambda one: one[0]):
        last_hour.add(at, tally)
    return last_hour
