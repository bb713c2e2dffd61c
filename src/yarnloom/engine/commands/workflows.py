"""Publishing workflows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Publish:
    """Make plans the current versions of their workflows, and keep what is said of tasks and pools.

    Attributes:
        pools: all that the looms declare, each with its `loom`; what one declared before and does
            not any more is forgotten. None leaves them as they are.
        schedules: the same for schedules.
    """

    plans: list[dict[str, Any]]
    tasks: list[dict[str, Any]]
    who: str
    pools: list[dict[str, Any]] | None = None
    schedules: list[dict[str, Any]] | None = None
