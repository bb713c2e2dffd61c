"""Pausing runs and steps, and letting them go on.

A pause writes the run's row. Its steps keep their states and are in no lane meanwhile; only what
runs and stops at a checkpoint becomes `paused`, and what was paused by itself, by hand.

Decision: `docs/decisions/05-pause-and-mend.md`.
"""

from __future__ import annotations

from yarnloom.engine.commands import PauseRun, ResumeRun, handles
from yarnloom.engine.dispatch.worker_orders import post_go_on, post_stop
from yarnloom.engine.queries.run_in_transaction import record_of
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
from yarnloom.engine.state.afterwards import Afterwards
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE, DueTimes
from yarnloom.engine.state.progress import was_paused
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction import Transaction
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.workers import Workers
from yarnloom.errors import Conflict
from yarnloom.store import RunRow, StepRow, Unit, paused_runs
from yarnloom.store import run_records as store


@handles(PauseRun)
def pause_run(transaction: Transaction, command: PauseRun) -> RunRecord:
    """Begin nothing more of a run, and let what runs stop at its next checkpoint.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: it is being cancelled, or has ended.
    """
    run = transaction.unit.run(command.run)
    if run.state in HELD_RUN:
        return record_of(transaction.unit, transaction.time, transaction.plans, run)
    in_hand = paused_runs.is_executed(transaction.unit, run.number)
    queued = run.state == RunState.QUEUED
    transaction.moves.run(run, RunEvent.PAUSE_IN_HAND if queued and in_hand else RunEvent.PAUSE)
    store.log_command(
        transaction.unit, transaction.time.now, command.who, "pause", run.number, command.reason
    )
    if run.state == RunState.PAUSED:
        run.paused_at = transaction.time.now
    transaction.memory.queue.paused.add(run.number)
    for pool, priority, share, contract, count in paused_runs.ready_of_run(
        transaction.unit, run.number
    ):
        transaction.memory.queue.lanes.remove(pool, priority, share, contract, count)
        transaction.memory.queue.ready.forget((pool, priority, share, contract))
    for step in _in_hand(transaction.unit, run):
        if step.stop is None:
            post_stop(
                transaction.unit,
                transaction.memory.workers,
                transaction.changes,
                step,
                StopReason.PAUSE,
            )
    settle(transaction.unit, transaction.time, transaction.moves, run)
    return record_of(transaction.unit, transaction.time, transaction.plans, run)


@handles(ResumeRun)
def resume_run(transaction: Transaction, command: ResumeRun) -> RunRecord:
    """Let a run that is pausing or paused go on; what was due meanwhile is ready.

    Raises:
        NotFound: there is no such run.
        Conflict: it is neither, and does not run.
    """
    run = transaction.unit.run(command.run)
    if run.state == RunState.RUNNING:
        return record_of(transaction.unit, transaction.time, transaction.plans, run)
    if run.state not in HELD_RUN:
        why = f"run {run.number} is {run.state}, so it cannot be resumed"
        raise Conflict(why, state=str(run.state))
    event = RunEvent.RESUME
    ahead = run.admission == Admission.AHEAD
    if (
        ahead
        and run.start_at is not None
        and run.start_at > (transaction.time.now if run.after_a_while else transaction.time.wall)
    ):
        event = RunEvent.RESUME_SCHEDULED
    elif run.started_at is None:
        event = RunEvent.RESUME_QUEUED
    transaction.moves.run(run, event)
    store.log_command(
        transaction.unit, transaction.time.now, command.who, "resume", run.number, command.reason
    )
    _give_time_back(transaction.unit, transaction.time, transaction.due_times, run)
    release(
        transaction.unit,
        transaction.memory.workers,
        transaction.memory.queue,
        transaction.changes,
        transaction.moves,
        run,
    )
    if ahead:
        transaction.due_times.set_start(run)
    if run.admission == Admission.HELD:
        transaction.afterwards.made_room.add(run.workflow)
    return record_of(transaction.unit, transaction.time, transaction.plans, run)


def release(
    unit: Unit, workers: Workers, queue: StepQueue, changes: Changes, moves: Moves, run: RunRow
) -> None:
    """Let everything of a run go on that its pause held: what is ready, what stopped, what runs."""
    if run.number not in queue.paused:
        return
    queue.paused.discard(run.number)
    run.paused_at = None
    unit.runs.touch(run)
    for lane in paused_runs.ready_of_run(unit, run.number):
        queue.lanes.add(*lane)
    for step in unit.steps.select(
        "run = ? AND ended_at IS NULL AND (state = 'paused' OR stop = 'pause')", run.number
    ):
        if step.held is not None:
            continue  # by hand, and not by the run's pause
        if step.state == StepState.PAUSED:
            moves.step(step, StepEvent.RESUME)
        elif step.stop == StopReason.PAUSE:
            post_go_on(unit, workers, changes, step)


def settle(unit: Unit, time: RunTime, moves: Moves, run: RunRow) -> None:
    """A pausing run is paused when nothing executes any of it."""
    if run.state == RunState.PAUSING and not paused_runs.is_executed(unit, run.number):
        moves.run(run, RunEvent.HELD)
        run.paused_at = time.now


def settle_all(unit: Unit, time: RunTime, afterwards: Afterwards, moves: Moves) -> None:
    """The same for every run of which something has ended in this transaction."""
    for number in afterwards.settling:
        settle(unit, time, moves, unit.run(number))


def rebuild(unit: Unit, queue: StepQueue) -> None:
    """Know from the records which runs are pausing or paused."""
    queue.paused = set(paused_runs.runs_held(unit))


# Steps


def hold_step(
    unit: Unit, time: RunTime, workers: Workers, changes: Changes, moves: Moves, step: StepRow
) -> None:
    """Pause one step: at once, or where it runs at its next checkpoint."""
    step.held = step.held or StepState.READY
    unit.steps.touch(step)
    if step.open is None:
        hold_if_asked(unit, time, moves, step)
    elif step.stop is None:
        post_stop(unit, workers, changes, step, StopReason.PAUSE)


def hold_if_asked(unit: Unit, time: RunTime, moves: Moves, step: StepRow) -> None:
    """A step that nobody runs and that was paused by hand is paused."""
    if step.held is None or step.open is not None or step.ended_at is not None:
        return
    if step.state != StepState.PAUSED:
        step.held = step.state
        moves.step(step, StepEvent.HOLD)
    step.held_at = time.now
    unit.steps.touch(step)


def release_step(
    unit: Unit,
    time: RunTime,
    workers: Workers,
    due_times: DueTimes,
    changes: Changes,
    moves: Moves,
    step: StepRow,
) -> None:
    """Let a step go on that was paused by hand."""
    run, before = unit.run(step.run), step.held
    if step.held_at is not None:
        # While its run is paused, the run's resume gives the time back.
        _spare(unit, due_times, step, max(0, (run.paused_at or time.now) - step.held_at))
    step.held = step.held_at = None
    unit.steps.touch(step)
    if step.state != StepState.PAUSED:
        if step.stop == StopReason.PAUSE and run.state not in HELD_RUN:
            post_go_on(unit, workers, changes, step)
        return
    event = StepEvent.RESUME
    if step.due_at is not None and step.due_at > time.now:
        event = StepEvent.REST if before == StepState.RESTING else StepEvent.BACK_OFF
    moves.step(step, event)
    if step.due_at is not None:
        due_times.set(BACK_OFF_DUE, step.due_at)


def _in_hand(unit: Unit, run: RunRow) -> list[StepRow]:
    return unit.steps.select(
        "run = ? AND ended_at IS NULL AND open IS NOT NULL ORDER BY rank", run.number
    )


def _give_time_back(unit: Unit, time: RunTime, due_times: DueTimes, run: RunRow) -> None:
    """Time in which a run was paused counts neither for deadlines nor for a retry's `within`."""
    if run.paused_at is None:
        return
    spent = time.now - run.paused_at
    was_paused(unit, run, spent)
    if run.deadline_at is not None:
        run.deadline_at += spent
        due_times.set(RUN_DEADLINE_DUE, run.deadline_at)
    for step in unit.steps.select("run = ? AND ended_at IS NULL", run.number):
        if step.held_at is not None:
            step.held_at = min(step.held_at + spent, time.now)  # not to be counted twice
        _spare(unit, due_times, step, spent)


def _spare(unit: Unit, due_times: DueTimes, step: StepRow, spent: int) -> None:
    if step.started_at is not None:
        step.paused_micros += spent
    if step.deadline_at is not None:
        step.deadline_at += spent
        due_times.set(DEADLINE_DUE, step.deadline_at)
    unit.steps.touch(step)
