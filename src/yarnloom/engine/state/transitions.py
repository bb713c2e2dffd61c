"""Transitions: the one place where a run or a step changes its state, and what is counted then.

`rules/states.py` says which transitions there are.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from yarnloom.engine.rules.limits import pools_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    RUN_ENDED,
    RUN_TABLE,
    STEP_ENDED,
    STEP_TABLE,
    Admission,
    RunEvent,
    StepEvent,
    StepState,
    next_state,
)
from yarnloom.engine.state.due_times import DEADLINE_DUE, DueTimes
from yarnloom.engine.state.hourly_counts import RUN, Hours
from yarnloom.engine.state.plans import queue_of
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.transaction_notes import Afterwards, Changes
from yarnloom.store import PartRow, RunRow, StepRow, Unit

if TYPE_CHECKING:
    from yarnloom.engine.state.memory import Memory

ASLEEP = frozenset({StepState.BACKING_OFF, StepState.RESTING})
KEEPS_DUE = ASLEEP | {StepState.PAUSED}


class Moves:
    """Changes the states of runs and steps, with what is counted by them.

    Args:
        unit: the store's unit of work.
        time: of the transaction.
        progress: keeps up how far everything is.
        memory: the queue, the relays and the workflows in it.
        due_times: sets the timers of deadlines.
        changes: what looks different then.
        hours: counts runs that have ended.
        afterwards: what follows from the end of a run.
    """

    __slots__ = (
        *("_afterwards", "_changes", "_due_times", "_hours", "_progress", "_queue", "_relays"),
        *("_time", "_unit", "_workflows"),
    )

    def __init__(
        self,
        unit: Unit,
        time: RunTime,
        progress: Progress,
        memory: Memory,
        due_times: DueTimes,
        changes: Changes,
        hours: Hours,
        afterwards: Afterwards,
    ) -> None:
        self._unit, self._time, self._progress = unit, time, progress
        self._queue, self._relays, self._workflows = memory.queue, memory.relays, memory.workflows
        self._due_times, self._changes = due_times, changes
        self._hours, self._afterwards = hours, afterwards

    def run(self, run: RunRow, event: RunEvent) -> None:
        """Let something happen to a run."""
        run.state = next_state(RUN_TABLE, run.state, event, f"run {run.number}")
        if event is RunEvent.BEGIN and run.started_at is None and self._workflows.listeners:
            self._afterwards.begun_runs.append(run)
        if run.state in RUN_ENDED:
            before = run.reopened_from  # its first end, which was counted
            run.ended_at, run.reopened_from = before or self._time.now, None
            run.paused_at = None
            self._queue.paused.discard(run.number)
            self._relays.barred.discard(run.number)
            self._changes.ended.add(run.number)
            if before is None:
                self._afterwards.ended_runs.append(run)
                _count(self._hours, run, self._time.now)
            if run.schedule is not None:
                self._afterwards.schedules.add(run.schedule)
            if run.admission != Admission.AHEAD:
                self._workflows.count_out(run)
            if queue_of(run) in self._workflows.held:
                self._afterwards.made_room.add(queue_of(run))
        self._unit.runs.touch(run)
        self._changes.runs.add(run.number)
        if run.schedule is not None:
            self._changes.schedules.add(run.schedule)

    def step(self, step: StepRow, event: StepEvent, *, closing: bool = False) -> None:
        """Let something happen to a step; counters and lanes follow.

        Args:
            closing: its open attempt has ended.
        """
        queue = self._queue
        before, was_free = step.state, queue.has(step)
        after = next_state(STEP_TABLE, before, event, f"step {step.id} of run {step.run}")
        step.state = after
        if closing:
            step.open = step.stop = None
        # Everything derived from the state follows here, so that no use case can forget any of it.
        is_free = queue.has(step)
        if was_free and not is_free:
            queue.remove(step)
        if is_free and not was_free:
            queue.add(step)
        if after == StepState.READY and before != StepState.READY:
            step.ready_at = self._time.now
        if after in STEP_ENDED:
            step.ended_at = self._time.now
        if after not in KEEPS_DUE:
            step.due_at = None
        if step.deadline_at is not None and after not in STEP_ENDED:
            self._due_times.set(DEADLINE_DUE, step.deadline_at)
        self._unit.steps.touch(step)
        self._progress.step_moved(step, event)
        count_child(self._unit, step.part, before, after)
        if (after in ASLEEP) != (before in ASLEEP):
            _count_asleep(self._unit, step.item_part, 1 if after in ASLEEP else -1)
        self._changes.runs.add(step.run)
        if step.pool and (was_free or is_free):
            self._changes.pools |= pools_in(step.pool)


def _count(hours: Hours, run: RunRow, now: int) -> None:
    """Count a run that has ended among those of its hour."""
    took = None if run.started_at is None else now - run.started_at - run.paused_micros
    waited = (run.started_at or now) - run.created_at
    hours.end(run.workflow, now, RUN, str(run.state), waited, took)


def _count_asleep(unit: Unit, item: int | None, more: int) -> None:
    """Something in an item fell asleep or woke: the each around it counts such items."""
    while item is not None:
        each = None
        for key in (item, unit.parts.need(item).parent):
            assert key is not None
            row = unit.parts.need(key)
            was = row.sleeping_children > 0
            row.sleeping_children += more
            unit.parts.touch(row)
            if was == (row.sleeping_children > 0):
                return
            each = row
        assert each is not None
        item = each.item_part


def count_child(unit: Unit, part: int, before: str | None, after: str) -> None:
    """A child of a part went from one state to another; None is waiting."""
    row = unit.parts.need(part)
    if before not in (None, StepState.WAITING):
        setattr(row, str(before), getattr(row, str(before)) - 1)
    if after != StepState.WAITING:
        setattr(row, after, getattr(row, after) + 1)
    unit.parts.touch(row)


def count_children(unit: Unit, part: PartRow, done: int) -> None:
    """So many children of a part are done that were not counted yet."""
    part.done += done
    unit.parts.touch(part)
