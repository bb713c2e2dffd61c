"""Changing a run that has not begun: when it is to begin, its priority, its tags."""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.commands import ChangeRun, handles
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import Admission, RunEvent, RunState
from yarnloom.engine.state.due_times import DueTimes
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.use_cases.start import Starting
from yarnloom.errors import Conflict, InvalidInput, Problem
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import effect_records
from yarnloom.store.runs import run_records as store
from yarnloom.units import iso_time


@dataclass(slots=True)
class RunChanges:
    """Changes the settings of runs."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    moves: Moves
    queue: StepQueue
    starting: Starting

    @handles(ChangeRun)
    def change_run(self, command: ChangeRun) -> RunRecord:
        """Change a run that is scheduled or queued; what is None stays. The answer is the run.

        Raises:
            NotFound: there is no such run.
            Conflict: it has begun, or ended; or it is to be moved, and waits in its queue already.
            InvalidInput: it could never begin.
        """
        run = self.unit.run(command.run)
        if run.state not in (RunState.SCHEDULED, RunState.QUEUED):
            why = f"run {run.number} is {run.state}; only one that has not begun can be changed"
            raise Conflict(why, state=str(run.state))
        at = command.start_at
        if command.start_in is not None:
            at = self.time.now + round(command.start_in * 1_000_000)
        after_a_while = command.start_in is not None
        ahead = at is not None and at > (self.time.now if after_a_while else self.time.wall)
        if at is not None and ahead:
            _refuse_wrong_time(run, at)
        detail = {"priority": command.priority, "tags": command.tags, "start_at": iso_time(at)}
        given = {name: value for name, value in detail.items() if value is not None}
        store.log_command(
            self.unit, self.time.now, command.who, "change", run.number, command.reason, **given
        )
        if command.priority is not None:
            self._prefer(run, command.priority)
        if command.tags is not None:
            self.unit.runs.rewrite(run, tags=json.dumps(command.tags))
        # One in its queue has no planned time: it begins as soon as there is room.
        if at is not None and run.admission == Admission.AHEAD:
            self.unit.runs.rewrite(run, start_at=at, after_a_while=int(after_a_while))
            self._move(run, ahead=ahead)
        self.changes.runs.add(run.number)
        return record_of(self.unit, self.time, self.plans, run)

    def _prefer(self, run: RunRow, priority: int) -> None:
        """Give a run another priority, and its steps that have none of their own."""
        run.priority = priority
        self.unit.runs.touch(run)
        plan = self.plans.of(run)
        for step in self.unit.steps.select("run = ? AND ended_at IS NULL", run.number):
            node, around = plan.nodes[step.node], self.unit.parts.need(step.part)
            address = self.plans.address(run, node, around).partition("/")[2]
            by_hand = (
                effect_records.hand_of(self.unit, run.number, address) if run.step_actions else {}
            )
            if node.rules.priority is not None or "priority" in by_hand:
                continue
            free = self.queue.has(step)
            if free:
                self.queue.remove(step)
            step.priority = priority
            self.unit.steps.touch(step)
            if free:
                self.queue.add(step)

    def _move(self, run: RunRow, *, ahead: bool) -> None:
        """Let a run begin at its start time, or now."""
        if ahead:
            self.moves.run(run, RunEvent.MOVE)
            self.due_times.set_start(run)
        else:
            self.starting.open_run(run)


def _refuse_wrong_time(run: RunRow, at: int) -> None:
    if run.admission != Admission.AHEAD:
        raise Conflict(
            f"run {run.number} is queued: it begins as soon as there is room, and cannot be moved "
            "any more; `pause` holds it",
            state=str(run.state),
        )
    if run.start_by is not None and run.start_by < at:
        text = f"found {iso_time(at)}, which is behind {iso_time(run.start_by)}, its start_by"
        raise InvalidInput("the run could never begin", problems=[Problem("/start_at", text)])
