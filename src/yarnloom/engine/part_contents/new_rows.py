"""New rows for parts and steps, each in its place."""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.part_contents.inputs import PreparedStep
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    PART_TABLE,
    Outcome,
    PartState,
    StepEvent,
    StepState,
    next_state,
)
from yarnloom.engine.state.due_times import DueTimes
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.progress import Progress, pace_begins
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.transitions import count_child
from yarnloom.plan import FOLLOW_UPS, Kind, Node
from yarnloom.store import AttemptRow, PartRow, RunRow, StepRow, Unit
from yarnloom.store.runs import sent_step_records

BEHIND_ALL = 0xFFFFFFFE
"""Position of a part's first follow-up: behind all that is in it."""


@dataclass(slots=True)
class NewRows:
    """Makes the rows of parts, steps and attempts."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    progress: Progress
    relays: Relays

    def add_part(
        self,
        run: RunRow,
        node: Node,
        around: PartRow | None,
        item: int = 0,
        value: str | None = None,
        name: str | None = None,
        *,
        id: int | None = None,
    ) -> PartRow:
        """The row of a part that begins; the part around it counts it.

        Args:
            run: its run.
            node: the part in the plan.
            around: the part that it stands in; of a follow-up the one that it follows, or that in
                which the step that it follows stands.
            item: of an item its index.
            value: of an item what it stands for, as JSON text.
            name: of an item its name.
            id: that it was given before; else it gets a new one.
        """
        position = position_of(node)
        # After a mend the row of the time before is there: it begins again, instead of a second
        # one.
        if run.renewed and around is not None:
            row = self.unit.parts.one(
                "parent = ? AND node = ? AND item = ? AND state = 'waiting'",
                *(around.id, node.index, item),
            )
            if row is not None:
                return self.begin_again(row, node)
        part = self.unit.parts.add(
            PartRow(
                id=id or self.unit.new_id("parts"),
                run=run.number,
                parent=around.id if around else None,
                node=node.index,
                rank=_rank(around.rank if around else b"", item if value is not None else position),
                item_part=_inside(around) if around else None,
                item=item,
                name=name,
                value=value,
                total=0 if node.kind is Kind.EACH else len(node.children),
                started_at=self.time.now,
                state=next_state(PART_TABLE, PartState.WAITING, StepEvent.OPEN, node.label),
            )
        )
        pace_begins(self.unit, self.time, part)
        if around and not node.follows:
            count_child(self.unit, around.id, None, part.state)
        return part

    def begin_again(self, part: PartRow, node: Node) -> PartRow:
        """Begin a part that was renewed."""
        part.state = next_state(PART_TABLE, part.state, StepEvent.OPEN, node.label)
        part.ended_at = None
        pace_begins(self.unit, self.time, part)
        self.unit.parts.touch(part)
        if part.parent is not None and not node.follows:
            count_child(self.unit, part.parent, None, part.state)
        return part

    def add_step(
        self,
        run: RunRow,
        node: Node,
        around: PartRow,
        prepared: PreparedStep,
        *,
        id: int | None = None,
    ) -> StepRow:
        """The row of a step that could begin, is skipped or fails at once; it still waits.

        Args:
            run: its run.
            node: the step in the plan.
            around: the part that it stands in.
            prepared: what it begins with, or why it does not.
            id: that it was given before; else it gets a new one.
        """
        deadline = node.rules.deadline
        deadline_at = None if deadline is None else self.time.now + round(deadline * 1_000_000)
        if run.renewed:
            row = self.unit.steps.one(
                "part = ? AND node = ? AND state = 'waiting'", around.id, node.index
            )
            if row is not None:
                self._prepare_again(row, prepared)
                row.deadline_at = deadline_at
                return row
        step = self.unit.steps.add(
            StepRow(
                id=id or self.unit.new_id("steps"),
                run=run.number,
                part=around.id,
                node=node.index,
                rank=_rank(around.rank, node.position),
                item_part=_inside(around),
                contract=self.plans.of(run).contract(node),
                pool=prepared.pool,
                share=run.share or f"run {run.number}",
                input=prepared.given,
                priority=prepared.priority_in(run, node),
                state=StepState.WAITING,
                ready_at=self.time.now,
                deadline_at=deadline_at,
                skip_reason=prepared.skip,
                error=prepared.error,
            )
        )
        if self.relays.lost:
            self._add_lost_attempts(run, step)
        return step

    def _add_lost_attempts(self, run: RunRow, step: StepRow) -> None:
        """Show in a new step the attempts that ran ahead of its turn, on a worker that was lost."""
        for leg in self.relays.lost.pop((step.part, step.node), ()):
            step.attempts += 1
            step.losses += 1
            error = {
                "type": "Lost",
                "message": "its worker was lost before it could report the end",
            }
            self.unit.attempts.add(
                AttemptRow(
                    id=leg.attempt,
                    step=step.id,
                    run=run.number,
                    number=step.attempts,
                    try_=1,
                    worker=leg.worker,
                    code_hash=leg.code_hash,
                    ready_at=leg.begun_at,
                    handed_at=leg.begun_at,
                    pool="",
                    round=run.round,
                    outcome=Outcome.LOST,
                    begun_at=leg.begun_at,
                    ended_at=leg.lost_at,
                    error=json.dumps(error),
                )
            )
            run.attempts += 1
            step.started_at = leg.begun_at if step.started_at is None else step.started_at
            sent_step_records.drop_lost(self.unit, leg.attempt)
        self.unit.runs.touch(run)

    def add_first_attempt(
        self, run: RunRow, step: StepRow, *, id: int, worker: str, code_hash: str, at: int
    ) -> None:
        """The row of a step's first attempt, which a worker has in hand without one until now.

        Args:
            run: its run.
            step: the step.
            id: of the attempt.
            worker: who has it.
            code_hash: of the task, as the worker has it.
            at: when it was handed out, and became ready.
        """
        step.ready_at = at
        self.unit.attempts.add(
            AttemptRow(
                id=id,
                step=step.id,
                run=run.number,
                number=1,
                try_=1,
                worker=worker,
                code_hash=code_hash,
                ready_at=at,
                handed_at=at,
                pool=step.pool,
                round=run.round,
            )
        )
        step.open, step.attempts = id, 1
        run.attempts += 1
        self.unit.runs.touch(run)
        self.due_times.expect_begin(id)

    def _prepare_again(self, step: StepRow, prepared: PreparedStep) -> None:
        """Let a renewed step begin with what it reads now; what it saved is of its old input."""
        if step.input != prepared.given or step.pool != prepared.pool:
            if step.input != prepared.given:
                step.saved = None
                self.progress.step_moved(step)
            self.unit.steps.rewrite(step, input=prepared.given, pool=prepared.pool)
        step.ended_at = None
        step.skip_reason, step.error = prepared.skip, prepared.error
        self.unit.steps.touch(step)

    def add_item_that_waits(
        self, run: RunRow, do: Node, each: PartRow, index: int, value: str, name: str | None
    ) -> None:
        """The row of an item that came into a list between others that have run before."""
        self.unit.parts.add(
            PartRow(
                id=self.unit.new_id("parts"),
                run=run.number,
                parent=each.id,
                node=do.index,
                rank=rank_of(each, index),
                item_part=_inside(each),
                item=index,
                name=name,
                value=value,
                total=len(do.children),
                started_at=self.time.now,
                ended_at=self.time.now,
                state=PartState.WAITING,
            )
        )


def position_of(node: Node) -> int:
    """A node's place in the part around it; follow-ups stand behind all."""
    return BEHIND_ALL + FOLLOW_UPS.index(node.follows) if node.follows else node.position


def rank_of(each: PartRow, index: int) -> bytes:
    """Where an item of an each stands."""
    return _rank(each.rank, index)


def _rank(around: bytes, position: int) -> bytes:
    """Positions from outside in, four bytes each, so that bytes compare as plan order."""
    return around + position.to_bytes(4, "big")


def _inside(around: PartRow) -> int | None:
    """The item that a child of a part stands in."""
    return around.id if around.value is not None else around.item_part
