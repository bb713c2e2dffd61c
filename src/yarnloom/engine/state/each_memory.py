"""Slices of lists, branches that have settled, and the list jobs that eaches wait for."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from yarnloom.engine.commands import ListJob
from yarnloom.values import JsonValue


@dataclass(slots=True)
class Parts:
    """What saves a second look at parts under way.

    Attributes:
        slices: of eaches: the first item of a slice of their list, and the slice.
        passed: of branches of parallels: how many of those that they wait for have settled.
    """

    slices: dict[int, tuple[int, list[JsonValue]]] = field(default_factory=dict)
    passed: dict[tuple[int, int], int] = field(default_factory=dict)

    def forget(self, part: int, branches: Iterable[int]) -> None:
        """Forget a part that is decided."""
        self.slices.pop(part, None)
        for branch in branches:
            self.passed.pop((part, branch), None)


@dataclass(slots=True)
class Jobs:
    """Jobs about long lists, which others do.

    Attributes:
        open: by each that waits for one: the newest.
        new: those of them of which nobody knows yet.
        serial: the number of the newest.
    """

    open: dict[int, ListJob] = field(default_factory=dict)
    new: list[ListJob] = field(default_factory=list)
    serial: int = 0
