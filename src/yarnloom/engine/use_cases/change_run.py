"""Changing a run: when it begins, as long as it has not, its priority, its tags."""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.commands import ChangeRun, handles
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RUN_ENDED, Admission, RunEvent, RunState
from yarnloom.engine.state.due_times import DueTimes
from yarnloom.engine.state.plans import Plans, Workflows, queue_of
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Afterwards, Changes
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.engine.use_cases.start import Starting
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.errors import Conflict, InvalidInput, Problem
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import effect_records, paused_runs
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
    afterwards: Afterwards
    workflows: Workflows
    granted_items: GrantedItems
    relay_steps: RelaySteps
    pausing: Pausing
    starting: Starting

    @handles(ChangeRun)
    def change_run(self, command: ChangeRun) -> RunRecord:
        """Change a run; what is None stays. The answer is the run.

        Raises:
            NotFound: there is no such run.
            Conflict: it has ended; or it is to be moved, and has begun, or a worker has it in hand.
            InvalidInput: it could never begin.
        """
        run = self.unit.run(command.run)
        at = command.start_at
        moves = at is not None or command.start_in is not None
        waits = run.state in (RunState.SCHEDULED, RunState.QUEUED)
        if run.state in RUN_ENDED or (moves and not waits):
            begun = "has begun, so it cannot be moved any more"
            ended = f"is {run.state}, and cannot be changed any more"
            why = f"run {run.number} {ended if run.state in RUN_ENDED else begun}"
            raise Conflict(why, state=str(run.state))
        if command.start_in is not None:
            at = self.time.now + round(command.start_in * 1_000_000)
        # A time from now is counted in time that nobody sets back.
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
        if at is not None and (ahead or run.admission == Admission.AHEAD):
            self._put_off(run)
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

    def _put_off(self, run: RunRow) -> None:
        """Take a run out of its queue; what is ready of it is kept back.

        Raises:
            Conflict: a worker has some of it in hand, which may begin at any moment.
        """
        if run.admission == Admission.AHEAD:
            return
        entered = run.admission == Admission.ENTERED
        if entered:
            self.granted_items.withdraw_of_run(run.number)
            self.relay_steps.call_back(run.number)
            if paused_runs.is_executed(self.unit, run.number):
                raise Conflict(
                    f"a worker has run {run.number} in hand, so it cannot be moved any more; "
                    "`pause` holds it",
                    state=str(run.state),
                )
            run.put_off = 1
            self.pausing.keep_back(run)
        self.workflows.count_out(run)
        run.admission = Admission.AHEAD
        if entered:
            self.afterwards.made_room.add(queue_of(run))
        self.unit.runs.touch(run)

    def _move(self, run: RunRow, *, ahead: bool) -> None:
        """Let a run begin at its start time, or now."""
        if ahead:
            self.moves.run(run, RunEvent.MOVE)
            self.due_times.set_start(run)
        else:
            self.starting.open_run(run)


def _refuse_wrong_time(run: RunRow, at: int) -> None:
    if run.start_by is not None and run.start_by < at:
        text = f"found {iso_time(at)}, which is behind {iso_time(run.start_by)}, its start_by"
        raise InvalidInput("the run could never begin", problems=[Problem("/start_at", text)])
