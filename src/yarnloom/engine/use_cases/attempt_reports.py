"""What workers tell of one attempt: it begins, saves, ends; and what takes it from its worker.

A worker that lives begins what it gets within milliseconds. After `BEGIN_SECONDS` it is told to
give an attempt back that has not begun; whoever says that it has begun after all keeps it. Where
the worker heard that and says nothing, the attempt is taken from it; a late report is refused.
A worker that is not heard of at all is another matter: its lease decides.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import BeginAttempt, BeginEffect, ReportItem, handles
from yarnloom.engine.dispatch.effects import Effects
from yarnloom.engine.dispatch.worker_orders import never_began, post_drop, post_give_back
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.workers import BegunEffect
from yarnloom.engine.rules.limits import Pools, pools_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    NOT_BEGUN,
    Outcome,
    RunEvent,
    RunState,
    StepEvent,
    StopReason,
)
from yarnloom.engine.state.attempts import OpenAttempts, Unbegun
from yarnloom.engine.state.due_times import (
    BEGIN_SECONDS,
    QUIET_DUE,
    TIMEOUT_DUE,
    UNBEGUN_DUE,
    Timers,
)
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import item_began
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Afterwards, Changes
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases.attempt_ends import CALLED, AttemptEnds, hears_before, micros_of
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.errors import Conflict
from yarnloom.store import AttemptRow, StepRow, Unit
from yarnloom.store.runs import batch_records
from yarnloom.units import duration_text
from yarnloom.values import JsonObject

_FENCED: dict[str, str] = {
    Outcome.LOST: "given up as lost",
    Outcome.HANDED_BACK: "taken back, since it had not begun",
}
"""Outcomes that the service decides itself, after which its worker may still run an attempt."""


NEVER_BEGUN = (Outcome.HANDED_BACK, Outcome.CANCELLED, Outcome.LOST)
"""Outcomes of legs whose turn never came; a process that died may have begun a lost one."""


@dataclass(slots=True)
class AttemptReports:
    """Takes reports of single attempts."""

    unit: Unit
    time: RunTime
    plans: Plans
    counts: Statistics
    afterwards: Afterwards
    moves: Moves
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    pools: Pools
    attempts: OpenAttempts
    timers: Timers
    attempt_ends: AttemptEnds
    effects: Effects
    relay_steps: RelaySteps
    changes: Changes

    def free(self, worker_id: str, attempt_id: int) -> None:
        """The process of an abandoned attempt has ended."""
        worker = self.workers.get(worker_id)
        held = worker.abandoned.pop(attempt_id, None) if worker else None
        if held is not None:
            attempt = self.unit.attempts.need(attempt_id)
            attempt.abandoned = 0
            self.unit.attempts.touch(attempt)
            self.pool_places.leave(*held, [attempt.id], never_began=never_began(attempt))
            self.afterwards.settling.add(attempt.run)

    def save_of(self, worker: str, attempt_id: int, saved: JsonObject) -> None:
        """Keep what a running attempt saved; ignore one that was given up."""
        attempt = self.unit.attempts.get(attempt_id)
        if attempt is not None and attempt.worker == worker and attempt.outcome is None:
            self.attempt_ends.keep_saved(self.unit.steps.need(attempt.step), attempt, saved)

    @handles(BeginAttempt)
    def begin_attempt(self, command: BeginAttempt) -> None:
        """Record that an attempt begins, before it does.

        Raises:
            Conflict: the attempt is not this worker's any more.
        """
        attempt = self.unit.attempts.get(command.attempt)
        if attempt is None or attempt.worker != command.worker or attempt.outcome is not None:
            raise Conflict("the attempt was given up, so it does not begin any more")
        self.record_begin(attempt)

    @handles(BeginEffect)
    def begin_effect(self, command: BeginEffect) -> BegunEffect:
        """Write down that a side effect begins, and with it that its attempt has begun.

        Raises:
            Conflict: the attempt is not this worker's any more.
        """
        answer = self.effects.begin_effect(command)
        self.record_begin(self.unit.attempts.need(command.attempt))
        return answer

    def record_begin(self, attempt: AttemptRow, *, ago: float = 0.0) -> None:
        """Record that an attempt has begun, if that is not known yet."""
        if attempt.begun_at is None:
            self._begin(attempt, ReportItem(attempt.id, begun_ago=ago))

    def lose(self, attempt_id: int, why: str) -> None:
        """Give an attempt up as lost: its worker is gone."""
        attempt = self._taken_away(attempt_id)
        error = StepError(type="Lost", message=why)
        self.attempt_ends.end_attempt(attempt, Outcome.LOST, ReportItem(attempt_id, error=error))

    def take_from(self, attempt: AttemptRow, why: str) -> None:
        """Take an attempt that has not begun from its worker."""
        error = StepError(type=NOT_BEGUN, message=why)
        self._taken_away(attempt.id)
        self.attempt_ends.end_attempt(
            attempt, Outcome.HANDED_BACK, ReportItem(attempt.id, error=error)
        )

    def hand_back(self, attempt_id: int, why: str = "") -> None:
        """A worker that leaves, or is gone, did not run an attempt to its end."""
        error = StepError(type=NOT_BEGUN, message=why) if why else None
        self.attempt_ends.end_attempt(
            self._taken_away(attempt_id), Outcome.HANDED_BACK, ReportItem(attempt_id, error=error)
        )

    def _taken_away(self, attempt_id: int) -> AttemptRow:
        """Return an attempt that its worker lost, after taking the legs behind it, too."""
        attempt = self.unit.attempts.need(attempt_id)
        self.relay_steps.drop_behind(self.unit.steps.need(attempt.step))
        return attempt

    def take_item(self, worker: str, item: ReportItem) -> str | None:
        """Take in one item; why it is refused, or None."""
        attempt = self.unit.attempts.get(item.attempt)
        if attempt is None and batch_records.worker_of(self.unit, item.attempt) == worker:
            return None  # it is done, and said again
        if attempt is None and item.outcome in NEVER_BEGUN:
            return None  # a leg that was given back, and said again
        if attempt is None or attempt.worker != worker:
            return "this worker was never given that attempt"
        # A report is sent again until its answer arrives, so the same end may come twice.
        if attempt.outcome is not None:
            if attempt.outcome in _FENCED and item.outcome != attempt.outcome:
                return (
                    f"the attempt was {_FENCED[attempt.outcome]}; its step may be running elsewhere"
                )
            return None  # said again, because the answer was lost: no news, and no mistake
        called = item.begun_ago is not None or item.outcome in CALLED
        if called and attempt.begun_at is None:
            self._begin(attempt, item)
        # Its begin may have been recorded before, without the process.
        if attempt.begun_at is not None and attempt.pid is None:
            attempt.pid = item.pid
            self.unit.attempts.touch(attempt)
        if item.outcome is not None:
            self.attempt_ends.end_attempt(attempt, Outcome(item.outcome), item)
        return None

    def _begin(self, attempt: AttemptRow, item: ReportItem) -> None:
        step = self.unit.steps.need(attempt.step)
        attempt.begun_at = max(
            attempt.handed_at, self.time.now - micros_of(item.begun_ago or item.ended_ago)
        )
        self.attempts.unbegun.pop(attempt.id, None)
        self.unit.attempts.touch(attempt)
        self.moves.step(step, StepEvent.BEGIN)
        item_began(self.unit, step.item_part, attempt.begun_at)
        self.counts.tally.begin(max(0, attempt.begun_at - attempt.ready_at) / 1_000_000)
        if step.started_at is None:
            step.started_at = attempt.begun_at
            self.unit.steps.touch(step)
        self.watch(attempt, step)
        for pool in pools_in(attempt.pool):
            self.pools.need(pool).count_begun(self.time.mono)
        run = self.unit.run(step.run)
        if run.state == RunState.QUEUED:
            self.moves.run(run, RunEvent.BEGIN)
        if run.started_at is None:
            run.started_at = attempt.begun_at
            self.unit.runs.touch(run)

    def watch(self, attempt: AttemptRow, step: StepRow) -> None:
        """An attempt has begun: its pool's rate counts from then, and its time-out."""
        assert attempt.begun_at is not None
        begun = self.time.mono_of(attempt.begun_at)
        self.pool_places.begin(attempt.pool, attempt.id, begun)
        rules = self.plans.of(self.unit.run(step.run)).nodes[step.node].rules
        ends = []
        if rules.timeout is not None:
            lead = hears_before(self.workers, attempt, step, rules.timeout)
            ends.append((begun + rules.timeout - lead, StopReason.TIMEOUT))
        if rules.deadline is not None and step.deadline_at is not None:
            lead = hears_before(self.workers, attempt, step, rules.deadline)
            ends.append((self.time.mono_of(step.deadline_at) - lead, StopReason.DEADLINE))
        if rules.quiet_for is not None:
            # After a restart of the service it has all that time again: what it said is not known.
            self.attempts.heard[attempt.id] = self.time.mono
            self.timers.set(QUIET_DUE, self.time.mono + rules.quiet_for)
        if ends:
            self.attempts.timeouts[attempt.id] = min(ends)
            self.timers.set(TIMEOUT_DUE, min(ends)[0])

    def look_at_unbegun(self) -> None:
        """Look at each attempt that should have begun by now."""
        due = self.time.mono - BEGIN_SECONDS
        for attempt_id, unbegun in list(self.attempts.unbegun.items()):
            if unbegun.looked_at <= due:
                unbegun.looked_at = self.time.mono
                self._look_at_one(attempt_id, unbegun)
        if self.attempts.unbegun:
            following = min(one.looked_at for one in self.attempts.unbegun.values())
            self.timers.set(UNBEGUN_DUE, following + BEGIN_SECONDS)

    def _look_at_one(self, attempt_id: int, unbegun: Unbegun) -> None:
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
            self.take_from(attempt, f"worker {worker.name} did not begin it within {spent}")
            post_drop(worker, attempt_id)
