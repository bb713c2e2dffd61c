"""Publishing workflows."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class Publish(Command):
    """Make plans the current versions of their workflows, and keep what is said of tasks and pools.

    Attributes:
        pools: all that the looms declare, each with its `loom`; what one declared before and does
            not any more is forgotten. None leaves them as they are.
        schedules: the same for schedules.
    """

    is_large = True

    plans: list[JsonObject]
    tasks: list[JsonObject]
    who: str
    pools: list[JsonObject] | None = None
    schedules: list[JsonObject] | None = None
