"""The queue of steps that workers can take: counted by lane, the first of each lane known."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.rules.fair_queue import Lanes
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.ready_steps import Ready
from yarnloom.store import StepRow


@dataclass(slots=True)
class StepQueue:
    """Steps that workers can take now.

    Attributes:
        lanes: how many steps of each lane are ready, and which lane is next.
        ready: the steps behind those counts, as far as they are known.
        paused: runs that are pausing or paused: none of their steps is in a lane.
    """

    lanes: Lanes = field(default_factory=Lanes)
    ready: Ready = field(default_factory=Ready)
    paused: set[int] = field(default_factory=set)

    def has(self, step: StepRow) -> bool:
        """Whether a step can be taken: as the index `steps_to_start` says, but for its run."""
        return step.state == StepState.READY and step.open is None and step.run not in self.paused

    def add(self, step: StepRow) -> None:
        """Put a step into its lane."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.lanes.add(*lane)
        self.ready.add(lane, (step.run, step.rank, step.id))

    def remove(self, step: StepRow) -> None:
        """Take a step out of its lane: a worker has it, or nobody can take it."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.lanes.remove(*lane)
        self.ready.discard(lane, step.id)
