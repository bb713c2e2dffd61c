"""What the weaving of a run has still to look at, and why something does not begin."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.rules.states import SkipReason, StepState
from yarnloom.engine.state.transaction import Ended
from yarnloom.plan import Node
from yarnloom.store import PartRow


@dataclass(frozen=True, slots=True)
class Bar:
    """Why nothing more begins somewhere, and what becomes of what has not."""

    state: StepState
    reason: SkipReason | None


STOPPED = Bar(StepState.SKIPPED, SkipReason.STOPPED)
CANCELLED = Bar(StepState.CANCELLED, None)
NOT_REACHED = Bar(StepState.SKIPPED, SkipReason.NOT_REACHED)


@dataclass(frozen=True, slots=True)
class Branches:
    """The branches of a parallel from a position on are to begin, as far as they wait for none."""

    part: PartRow
    position: int = 0


@dataclass(frozen=True, slots=True)
class Freed:
    """A branch of a parallel is to begin that has waited for others."""

    part: PartRow
    branch: Node


@dataclass(frozen=True, slots=True)
class Items:
    """Items of an each are to be made, until so many are under way."""

    part: PartRow
    size: int


@dataclass(frozen=True, slots=True)
class News:
    """A child of a part was decided, or settled, or both."""

    part: PartRow
    child: Node
    ended: Ended
    settled: bool


WorkItem = News | Branches | Freed | Items
"""What a run has on its work queue."""
