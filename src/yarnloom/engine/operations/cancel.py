"""Telling runs to stop: by hand, for another run, or because their deadline has passed."""

from __future__ import annotations

import json

from yarnloom.engine.commands import CancelRun, handles
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.operations.pause import release
from yarnloom.engine.queries.run_in_transaction import record_of
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.states import RunEvent, StopReason
from yarnloom.engine.state.due_times import RUN_DEADLINE_DUE, START_BY_DUE
from yarnloom.engine.state.transaction import Transaction
from yarnloom.store import RunRow, due_records, schedule_records
from yarnloom.store import run_records as store
from yarnloom.units import duration_text, iso_time

EXPIRED_AT_ONCE = 100
DEADLINE = "DeadlinePassed"


@handles(CancelRun)
def cancel_run(transaction: Transaction, command: CancelRun) -> RunRecord:
    """Cancel what has not begun, and tell what runs to stop.

    A run of which nothing is in a worker's hand and that has no `on_end` has ended when this
    returns. Follow-ups still run; a second cancel stops them too, and ends the grace of what runs.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: the run has ended.
    """
    run = transaction.unit.run(command.run)
    reason = f": {command.reason}" if command.reason else ""
    transaction.moves.run(run, RunEvent.CANCEL)
    store.log_command(
        transaction.unit, transaction.time.now, command.who, "cancel", run.number, command.reason
    )
    _stop(
        transaction, run, f"cancelled by {command.who}{reason}", StopReason.CANCEL, now=command.now
    )
    return record_of(transaction.unit, transaction.time, transaction.plans, run)


def stop(transaction: Transaction, run: RunRow, why: str) -> None:
    """Cancel a run for another's sake."""
    transaction.moves.run(run, RunEvent.CANCEL)
    store.log_command(transaction.unit, transaction.time.now, "service", "cancel", run.number, why)
    _stop(transaction, run, why, StopReason.CANCEL)


def stop_late_runs(transaction: Transaction) -> None:
    """Stop runs whose deadline has passed: like a cancel, but they end failed."""
    for number in due_records.runs_past_deadline(transaction.unit, transaction.time.now):
        run = transaction.unit.run(number)
        root = transaction.unit.parts.one("run = ? AND parent IS NULL", number)
        if root is not None and root.outcome is not None:
            run.deadline_at = None  # its plan has ended in time; follow-ups have no deadline
            transaction.unit.runs.touch(run)
            continue
        limit = duration_text(transaction.plans.of(run).deadline or 0.0)
        transaction.moves.run(run, RunEvent.CANCEL)
        why = f"the run's deadline of {limit} has passed"
        store.log_command(
            transaction.unit, transaction.time.now, "service", "deadline", run.number, why
        )
        _stop(transaction, run, why, StopReason.DEADLINE)
    if (following := due_records.next_run_deadline(transaction.unit)) is not None:
        transaction.due_times.set(RUN_DEADLINE_DUE, following)


def stop_late_starts(transaction: Transaction) -> None:
    """Cancel runs that have not begun by the time by which they were to."""
    for number in schedule_records.runs_to_expire(
        transaction.unit, transaction.time.wall, EXPIRED_AT_ONCE
    ):
        run = transaction.unit.run(number)
        transaction.moves.run(run, RunEvent.CANCEL)
        why = f"expired: it had not begun by {iso_time(run.start_by)}"
        store.log_command(
            transaction.unit, transaction.time.now, "service", "expire", run.number, why
        )
        _stop(transaction, run, why, StopReason.CANCEL, "Expired")
    if (following := schedule_records.next_to_expire(transaction.unit)) is not None:
        transaction.due_times.set_by_day(START_BY_DUE, following)


def _stop(
    transaction: Transaction,
    run: RunRow,
    message: str,
    why: StopReason,
    kind: str = "Cancelled",
    *,
    now: bool = False,
) -> None:
    release(
        transaction.unit,
        transaction.memory.workers,
        transaction.memory.queue,
        transaction.changes,
        transaction.moves,
        run,
    )
    run.cancels += 1
    if run.stop is None:
        run.stop = why
        error: StepError = {"type": kind, "message": message}
        if why is StopReason.DEADLINE:
            step = str(run.number)
            error = {
                "step": step,
                "task": None,
                "attempts": 0,
                "type": DEADLINE,
                "message": message,
            }
        run.error = json.dumps(error, ensure_ascii=False)
    transaction.unit.runs.touch(run)
    # A second cancel ends the grace, and a deadline cuts it.
    without_grace = now or run.cancels > 1 or why is StopReason.DEADLINE
    Composition(transaction, run, without_grace=without_grace).cancel(why)
