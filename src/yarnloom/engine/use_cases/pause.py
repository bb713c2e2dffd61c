"""Pausing runs and steps, and letting them go on.

A pause writes the run's row. Its steps keep their states and are in no lane meanwhile; only what
runs and stops at a checkpoint becomes `paused`, and what was paused by itself, by hand.

Decision: `docs/decisions/05-pause-and-mend.md`.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import PauseRun, ResumeRun, handles
from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    HELD_RUN,
    Admission,
    RunEvent,
    RunState,
    StepEvent,
    StepState,
    StopReason,
)
from yarnloom.engine.state.due_times import BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE, DueTimes
from yarnloom.engine.state.plans import Plans, queue_of
from yarnloom.engine.state.progress import was_paused
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Afterwards
from yarnloom.engine.state.transitions import Moves
from yarnloom.errors import Conflict
from yarnloom.store import RunRow, StepRow, Unit
from yarnloom.store.runs import paused_runs
from yarnloom.store.runs import run_records as store


@dataclass(slots=True)
class Pausing:
    """Pauses runs and lets them go on."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    afterwards: Afterwards
    moves: Moves
    queue: StepQueue
    worker_orders: WorkerOrders

    @handles(PauseRun)
    def pause_run(self, command: PauseRun) -> RunRecord:
        """Begin nothing more of a run, and let what runs stop at its next checkpoint.

        Raises:
            NotFound: there is no such run.
            IllegalTransition: it is being cancelled, or has ended.
        """
        run = self.unit.run(command.run)
        if run.state in HELD_RUN:
            return record_of(self.unit, self.time, self.plans, run)
        in_hand = paused_runs.is_executed(self.unit, run.number)
        queued = run.state == RunState.QUEUED
        self.moves.run(run, RunEvent.PAUSE_IN_HAND if queued and in_hand else RunEvent.PAUSE)
        store.log_command(
            self.unit, self.time.now, command.who, "pause", run.number, command.reason
        )
        if run.state == RunState.PAUSED:
            run.paused_at = self.time.now
        self.keep_back(run)
        for step in _in_hand(self.unit, run):
            if step.stop is None:
                self.worker_orders.post_stop(step, StopReason.PAUSE)
        self.settle(run)
        return record_of(self.unit, self.time, self.plans, run)

    def keep_back(self, run: RunRow) -> None:
        """Hand out nothing more of a run."""
        if run.number in self.queue.paused:
            return
        self.queue.paused.add(run.number)
        for pool, priority, share, contract, count in paused_runs.ready_of_run(
            self.unit, run.number
        ):
            self.queue.lanes.remove(pool, priority, share, contract, count)
            self.queue.ready.forget((pool, priority, share, contract))

    @handles(ResumeRun)
    def resume_run(self, command: ResumeRun) -> RunRecord:
        """Let a run that is pausing or paused go on; what was due meanwhile is ready.

        Raises:
            NotFound: there is no such run.
            Conflict: it is neither, and does not run.
        """
        run = self.unit.run(command.run)
        if run.state == RunState.RUNNING:
            return record_of(self.unit, self.time, self.plans, run)
        if run.state not in HELD_RUN:
            why = f"run {run.number} is {run.state}, so it cannot be resumed"
            raise Conflict(why, state=str(run.state))
        event = RunEvent.RESUME
        ahead = run.admission == Admission.AHEAD
        if (
            ahead
            and run.start_at is not None
            and run.start_at > (self.time.now if run.after_a_while else self.time.wall)
        ):
            event = RunEvent.RESUME_SCHEDULED
        elif run.started_at is None:
            event = RunEvent.RESUME_QUEUED
        self.moves.run(run, event)
        store.log_command(
            self.unit, self.time.now, command.who, "resume", run.number, command.reason
        )
        self._give_time_back(run)
        self.release(run)
        if ahead:
            self.due_times.set_start(run)
        if run.admission == Admission.HELD:
            self.afterwards.made_room.add(queue_of(run))
        return record_of(self.unit, self.time, self.plans, run)

    def release(self, run: RunRow) -> None:
        """Let everything go on that the pause of a run held; of one that was put off nothing."""
        if run.number not in self.queue.paused:
            return
        if run.put_off:
            run.paused_at = None
            self.unit.runs.touch(run)
            return
        self.queue.paused.discard(run.number)
        run.paused_at = None
        self.unit.runs.touch(run)
        for lane in paused_runs.ready_of_run(self.unit, run.number):
            self.queue.lanes.add(*lane)
        for step in self.unit.steps.select(
            "run = ? AND ended_at IS NULL AND (state = 'paused' OR stop = 'pause')", run.number
        ):
            if step.held is not None:
                continue  # by hand, and not by the run's pause
            if step.state == StepState.PAUSED:
                self.moves.step(step, StepEvent.RESUME)
            elif step.stop == StopReason.PAUSE:
                self.worker_orders.post_go_on(step)

    def settle(self, run: RunRow) -> None:
        """A pausing run is paused when nothing executes any of it."""
        if run.state == RunState.PAUSING and not paused_runs.is_executed(self.unit, run.number):
            self.moves.run(run, RunEvent.HELD)
            run.paused_at = self.time.now

    def settle_all(self) -> None:
        """The same for every run of which something has ended in this transaction."""
        for number in self.afterwards.settling:
            self.settle(self.unit.run(number))

    def rebuild(self) -> None:
        """Know from the records which runs are pausing or paused."""
        self.queue.paused = set(paused_runs.runs_held(self.unit))

    # Steps

    def hold_step(self, step: StepRow) -> None:
        """Pause one step: at once, or where it runs at its next checkpoint."""
        step.held = step.held or StepState.READY
        self.unit.steps.touch(step)
        if step.open is None:
            self.hold_if_asked(step)
        elif step.stop is None:
            self.worker_orders.post_stop(step, StopReason.PAUSE)

    def hold_if_asked(self, step: StepRow) -> None:
        """A step that nobody runs and that was paused by hand is paused."""
        if step.held is None or step.open is not None or step.ended_at is not None:
            return
        if step.state != StepState.PAUSED:
            step.held = step.state
            self.moves.step(step, StepEvent.HOLD)
        step.held_at = self.time.now
        self.unit.steps.touch(step)

    def release_step(self, step: StepRow) -> None:
        """Let a step go on that was paused by hand."""
        run, before = self.unit.run(step.run), step.held
        if step.held_at is not None:
            # While its run is paused, the run's resume gives the time back.
            self._spare(step, max(0, (run.paused_at or self.time.now) - step.held_at))
        step.held = step.held_at = None
        self.unit.steps.touch(step)
        if step.state != StepState.PAUSED:
            if step.stop == StopReason.PAUSE and run.state not in HELD_RUN:
                self.worker_orders.post_go_on(step)
            return
        event = StepEvent.RESUME
        if step.due_at is not None and step.due_at > self.time.now:
            event = StepEvent.REST if before == StepState.RESTING else StepEvent.BACK_OFF
        self.moves.step(step, event)
        if step.due_at is not None:
            self.due_times.set(BACK_OFF_DUE, step.due_at)

    def _give_time_back(self, run: RunRow) -> None:
        """Move deadlines by the time of a pause, which a retry's `within` does not count either."""
        if run.paused_at is None:
            return
        spent = self.time.now - run.paused_at
        was_paused(self.unit, run, spent)
        if run.deadline_at is not None:
            run.deadline_at += spent
            self.due_times.set(RUN_DEADLINE_DUE, run.deadline_at)
        for step in self.unit.steps.select("run = ? AND ended_at IS NULL", run.number):
            if step.held_at is not None:
                step.held_at = min(step.held_at + spent, self.time.now)  # not to be counted twice
            self._spare(step, spent)

    def _spare(self, step: StepRow, spent: int) -> None:
        if step.started_at is not None:
            step.paused_micros += spent
        if step.deadline_at is not None:
            step.deadline_at += spent
            self.due_times.set(DEADLINE_DUE, step.deadline_at)
        self.unit.steps.touch(step)


def _in_hand(unit: Unit, run: RunRow) -> list[StepRow]:
    return unit.steps.select(
        "run = ? AND ended_at IS NULL AND open IS NOT NULL ORDER BY rank", run.number
    )
