"""What was handed out and does not begin: the worker is told to give it back, or it is taken.

A worker that lives begins what it gets within milliseconds. After `BEGIN_SECONDS` it is told to
give an attempt back that has not begun; whoever says that it has begun after all keeps it. Where
the worker heard that and says nothing, the attempt is taken from it; a late report is refused.
A worker that is not heard of at all is another matter: its lease decides.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.dispatch.worker_orders import post_drop, post_give_back
from yarnloom.engine.operations.attempt_reports import AttemptReports
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.attempts import OpenAttempts, Unbegun
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import BEGIN_SECONDS, UNBEGUN_DUE
from yarnloom.engine.state.timers import Timers
from yarnloom.engine.state.workers import Workers
from yarnloom.store import Unit
from yarnloom.units import duration_text


@dataclass(slots=True)
class UnbegunAttempts:
    """Asks for attempts back that do not begin."""

    unit: Unit
    time: RunTime
    changes: Changes
    workers: Workers
    attempts: OpenAttempts
    timers: Timers
    attempt_reports: AttemptReports

    def look_at_unbegun(self) -> None:
        """Look at each attempt that should have begun by now."""
        due = self.time.mono - BEGIN_SECONDS
        for attempt_id, unbegun in list(self.attempts.unbegun.items()):
            if unbegun.looked_at <= due:
                unbegun.looked_at = self.time.mono
                self._look_at(attempt_id, unbegun)
        if self.attempts.unbegun:
            following = min(one.looked_at for one in self.attempts.unbegun.values())
            self.timers.set(UNBEGUN_DUE, following + BEGIN_SECONDS)

    def _look_at(self, attempt_id: int, unbegun: Unbegun) -> None:
        attempt = self.unit.attempts.need(attempt_id)
        worker = self.workers.get(attempt.worker)
        if worker is None or not worker.session.registered or worker.messages.posted(attempt_id):
            return  # it has not arrived: the worker is away
        self.changes.runs.add(attempt.run)
        if unbegun.order is None:
            unbegun.order = post_give_back(worker, attempt_id)
        elif unbegun.order not in worker.messages.unacknowledged and not unbegun.heard:
            unbegun.heard = True  # what it sent before it heard of that may still be on its way
        elif unbegun.heard:
            spent = duration_text(round((self.time.now - attempt.handed_at) / 1_000_000))
            self.attempt_reports.take_from(
                attempt, f"worker {worker.name} did not begin it within {spent}"
            )
            post_drop(worker, attempt_id)
