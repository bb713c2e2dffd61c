"""Attempts that have ended: whatever they held is free again."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import Outcome
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.workers import Workers
from yarnloom.store import AttemptRow, StepRow


@dataclass(slots=True)
class Release:
    """Takes attempts from workers."""

    time: RunTime
    changes: Changes
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    attempts: OpenAttempts

    def release(self, step: StepRow, attempt: AttemptRow) -> None:
        """Release an attempt that has ended: its worker, its lane and its pool have room again."""
        worker = self.workers.get(attempt.worker)
        if worker:
            worker.release(attempt.id)
            worker.last, worker.last_at = attempt.id, self.time.now
            if not worker.in_hand:
                worker.idle_since = self.time.now
            self.changes.workers = True
        self.queue.lanes.ended(step.pool, step.share)
        self.attempts.timeouts.pop(attempt.id, None)
        self.attempts.unbegun.pop(attempt.id, None)
        if attempt.abandoned and worker:
            worker.abandoned[attempt.id] = (step.pool, step.run)
        else:
            self.pool_places.leave(
                step.pool, step.run, [attempt.id], never_began=never_began(attempt)
            )


def never_began(attempt: AttemptRow) -> bool:
    """Whether a worker gave an attempt back before it began."""
    return attempt.outcome == Outcome.HANDED_BACK and attempt.begun_at is None
