"""What the rules of composition know of children, and note while a transaction lasts."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.rules.states import PASSED_OVER, StepState


@dataclass(frozen=True, slots=True)
class Ended:
    """How a child of a part stands.

    Attributes:
        state: its state, or what was decided.
        reason: why it was skipped.
        output: its output as JSON text.
        size: of the output in bytes, also where it is too large to be kept as one value.
    """

    state: str
    reason: str | None = None
    output: str | None = None
    size: int = 0

    @property
    def gave(self) -> bool:
        """Whether readers may go on: it is done, or was passed over."""
        return self.state == StepState.DONE or self.passed_over

    @property
    def passed_over(self) -> bool:
        """Whether it was skipped without anything being wrong."""
        return self.state == StepState.SKIPPED and self.reason in PASSED_OVER


@dataclass(slots=True)
class Composing:
    """What the rules of composition note while a transaction lasts.

    Attributes:
        children: how children ended, by part row and node.
        made: how many items were made.
        relayed: by attempt the legs of relays that were reported as done, and have no rows yet.
        left_at: of sequences whose step ended: when.
    """

    children: dict[tuple[int, int], Ended] = field(default_factory=dict)
    made: int = 0
    relayed: dict[int, tuple[ReportItem, str]] = field(default_factory=dict)
    left_at: dict[int, int] = field(default_factory=dict)
