"""Pausing runs and steps, and letting them go on.

A pause writes the run's row. Its steps keep their states and are in no lane meanwhile; only what
runs and stops at a checkpoint becomes `paused`, and what was paused by itself, by hand.
"""

from __future__ import annotations

from typing import Any

from yarnloom.engine.commands import PauseRun, ResumeRun
from yarnloom.engine.handing_out import post_go_on, post_stop
from yarnloom.engine.progress import was_paused
from yarnloom.engine.states import (
    Entry,
    RunEvent,
    RunState,
    StepEvent,
    StepState,
    StopReason,
)
from yarnloom.engine.turn import (
    BACK_OFF_DUE,
    DEADLINE_DUE,
    RUN_DEADLINE_DUE,
    Turn,
)
from yarnloom.engine.viewing import present
from yarnloom.errors import Conflict
from yarnloom.store import RunRow, StepRow, holding
from yarnloom.store import writing as store

HELD = (RunState.PAUSING, RunState.PAUSED)


def pause_run(turn: Turn, command: PauseRun) -> dict[str, Any]:
    """Begin nothing more of a run, and let what runs stop at its next checkpoint.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: it is being cancelled, or has ended.
    """
    run = turn.run(command.run)
    if run.state in HELD:
        return present(turn, run)
    in_hand = holding.is_executed(turn.unit, run.number)
    queued = run.state == RunState.QUEUED
    turn.move_run(run, RunEvent.PAUSE_IN_HAND if queued and in_hand else RunEvent.PAUSE)
    store.log_command(turn.unit, turn.now, command.who, "pause", run.number, command.reason)
    if run.state == RunState.PAUSED:
        run.paused_at = turn.now
    turn.memory.paused.add(run.number)
    for pool, priority, share, contract, count in holding.ready_of_run(turn.unit, run.number):
        turn.memory.lanes.remove(pool, priority, share, contract, count)
        turn.memory.ready.forget((pool, priority, share, contract))
    for step in _in_hand(turn, run):
        if step.stop is None:
            post_stop(turn, step, StopReason.PAUSE)
    settle(turn, run)
    return present(turn, run)


def resume_run(turn: Turn, command: ResumeRun) -> dict[str, Any]:
    """Let a run that is pausing or paused go on; what was due meanwhile is ready.

    Raises:
        NotFound: there is no such run.
        Conflict: it is neither, and does not run.
    """
    run = turn.run(command.run)
    if run.state == RunState.RUNNING:
        return present(turn, run)
    if run.state not in HELD:
        why = f"run {run.number} is {run.state}, so it cannot be resumed"
        raise Conflict(why, state=str(run.state))
    event = RunEvent.RESUME
    ahead = run.entered == Entry.AHEAD
    if (
        ahead
        and run.start_at is not None
        and run.start_at > (turn.now if run.after_a_while else turn.wall)
    ):
        event = RunEvent.RESUME_SCHEDULED
    elif run.started_at is None:
        event = RunEvent.RESUME_QUEUED
    turn.move_run(run, event)
    store.log_command(turn.unit, turn.now, command.who, "resume", run.number, command.reason)
    _give_time_back(turn, run)
    release(turn, run)
    if ahead:
        turn.remind_of_start(run)
    if run.entered == Entry.HELD:
        turn.made_room.add(run.workflow)
    return present(turn, run)


def release(turn: Turn, run: RunRow) -> None:
    """Let everything of a run go on that its pause held: what is ready, what stopped, what runs."""
    if run.number not in turn.memory.paused:
        return
    turn.memory.paused.discard(run.number)
    run.paused_at = None
    turn.unit.runs.touch(run)
    for lane in holding.ready_of_run(turn.unit, run.number):
        turn.memory.lanes.add(*lane)
    for step in turn.unit.steps.select(
        "run = ? AND ended_at IS NULL AND (state = 'paused' OR stop = 'pause')", run.number
    ):
        if step.held is not None:
            continue  # by hand, and not by the run's pause
        if step.state == StepState.PAUSED:
            turn.move_step(step, StepEvent.RESUME)
        elif step.stop == StopReason.PAUSE:
            post_go_on(turn, step)


def settle(turn: Turn, run: RunRow) -> None:
    """A pausing run is paused when nothing executes any of it."""
    if run.state == RunState.PAUSING and not holding.is_executed(turn.unit, run.number):
        turn.move_run(run, RunEvent.HELD)
        run.paused_at = turn.now


def settle_all(turn: Turn) -> None:
    """The same for every run of which something has ended in this transaction."""
    for number in turn.settling:
        settle(turn, turn.run(number))


def recall(turn: Turn) -> None:
    """Know from the records which runs are pausing or paused."""
    turn.memory.paused = set(holding.runs_held(turn.unit))


# Steps


def hold_step(turn: Turn, step: StepRow) -> None:
    """Pause one step: at once, or where it runs at its next checkpoint."""
    step.held = step.held or StepState.READY
    turn.unit.steps.touch(step)
    if step.open is None:
        hold_if_asked(turn, step)
    elif step.stop is None:
        post_stop(turn, step, StopReason.PAUSE)


def hold_if_asked(turn: Turn, step: StepRow) -> None:
    """A step that nobody runs and that was paused by hand is paused."""
    if step.held is None or step.open is not None or step.ended_at is not None:
        return
    if step.state != StepState.PAUSED:
        step.held = step.state
        turn.move_step(step, StepEvent.HOLD)
    step.held_at = turn.now
    turn.unit.steps.touch(step)


def release_step(turn: Turn, step: StepRow) -> None:
    """Let a step go on that was paused by hand."""
    run, before = turn.run(step.run), step.held
    if step.held_at is not None:
        # While its run is paused, the run's resume gives the time back.
        _spare(turn, step, max(0, (run.paused_at or turn.now) - step.held_at))
    step.held = step.held_at = None
    turn.unit.steps.touch(step)
    if step.state != StepState.PAUSED:
        if step.stop == StopReason.PAUSE and run.state not in HELD:
            post_go_on(turn, step)
        return
    event = StepEvent.RESUME
    if step.due_at is not None and step.due_at > turn.now:
        event = StepEvent.REST if before == StepState.RESTING else StepEvent.BACK_OFF
    turn.move_step(step, event)
    if step.due_at is not None:
        turn.remind(BACK_OFF_DUE, step.due_at)


def _in_hand(turn: Turn, run: RunRow) -> list[StepRow]:
    return turn.unit.steps.select(
        "run = ? AND ended_at IS NULL AND open IS NOT NULL ORDER BY rank", run.number
    )


def _give_time_back(turn: Turn, run: RunRow) -> None:
    """Time in which a run was paused counts neither for deadlines nor for a retry's `within`."""
    if run.paused_at is None:
        return
    spent = turn.now - run.paused_at
    was_paused(turn, run, spent)
    if run.deadline_at is not None:
        run.deadline_at += spent
        turn.remind(RUN_DEADLINE_DUE, run.deadline_at)
    for step in turn.unit.steps.select("run = ? AND ended_at IS NULL", run.number):
        if step.held_at is not None:
            step.held_at = min(step.held_at + spent, turn.now)  # not to be counted twice
        _spare(turn, step, spent)


def _spare(turn: Turn, step: StepRow, spent: int) -> None:
    if step.started_at is not None:
        step.spared += spent
    if step.deadline_at is not None:
        step.deadline_at += spent
        turn.remind(DEADLINE_DUE, step.deadline_at)
    turn.unit.steps.touch(step)
