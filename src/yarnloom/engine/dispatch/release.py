"""Attempts that have ended: whatever they held is free again."""

from __future__ import annotations

from yarnloom.engine.rules.states import Outcome
from yarnloom.engine.state.transaction import Transaction
from yarnloom.store import AttemptRow, StepRow


def release(transaction: Transaction, step: StepRow, attempt: AttemptRow) -> None:
    """Release an attempt that has ended: its worker, its lane and its pool have room again."""
    worker = transaction.memory.workers.get(attempt.worker)
    if worker:
        worker.release(attempt.id)
        worker.last, worker.last_at = attempt.id, transaction.time.now
        if not worker.in_hand:
            worker.idle_since = transaction.time.now
        transaction.changes.workers = True
    transaction.memory.queue.lanes.ended(step.pool, step.share)
    transaction.memory.attempts.timeouts.pop(attempt.id, None)
    transaction.memory.attempts.unbegun.pop(attempt.id, None)
    if attempt.abandoned and worker:
        worker.abandoned[attempt.id] = (step.pool, step.run)
    else:
        transaction.pool_places.leave(
            step.pool, step.run, [attempt.id], never_began=never_began(attempt)
        )


def never_began(attempt: AttemptRow) -> bool:
    """Whether a worker gave an attempt back before it began."""
    return attempt.outcome == Outcome.HANDED_BACK and attempt.begun_at is None
