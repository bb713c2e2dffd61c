"""What the weaving of a run has still to look at, and why something does not begin."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.rules.states import SkipReason, StepState
from yarnloom.engine.state.transaction_notes import Ended
from yarnloom.plan import Node
from yarnloom.store import PartRow


@dataclass(frozen=True, slots=True)
class Blocked:
    """Why nothing more begins somewhere, and what becomes of what has not."""

    state: StepState
    reason: SkipReason | None


STOPPED = Blocked(StepState.SKIPPED, SkipReason.STOPPED)
CANCELLED = Blocked(StepState.CANCELLED, None)
NOT_REACHED = Blocked(StepState.SKIPPED, SkipReason.NOT_REACHED)
NOT_CHOSEN = Blocked(StepState.SKIPPED, SkipReason.NOT_CHOSEN)
GONE = Blocked(StepState.SKIPPED, SkipReason.GONE)


@dataclass(frozen=True, slots=True)
class BeginBranches:
    """The branches of a parallel from a position on are to begin, as far as they wait for none."""

    part: PartRow
    position: int = 0


@dataclass(frozen=True, slots=True)
class BeginFreed:
    """A branch of a parallel is to begin that has waited for others."""

    part: PartRow
    branch: Node


@dataclass(frozen=True, slots=True)
class CreateItems:
    """Items of an each have to be made, until so many are under way."""

    part: PartRow
    size: int


@dataclass(frozen=True, slots=True)
class ChildChanged:
    """A child of a part was decided, or settled, or both."""

    part: PartRow
    child: Node
    ended: Ended
    settled: bool


WorkItem = ChildChanged | BeginBranches | BeginFreed | CreateItems
"""What a run has on its work queue."""
