"""How often the facts of a run's line are read anew: at most twice a second, and at its end.

The graph comes more often, and every graph has its line. The counts on the line are those of that
graph; what it waits for, and its failures, are read at this pace.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

from yarnloom.service.render.glance import LineFacts

SPACE = 0.5
"""Seconds between two readings of the facts of a run."""

REMEMBERED = 1_000
"""Of how many runs facts are kept."""


@dataclass
class _Known:
    read_at: float
    facts: LineFacts | None = None


class LinePace:
    """When the facts of a run's line are read, and the last ones.

    Args:
        again: called with the number of a run whose newest look had old facts, to look again.
    """

    def __init__(self, again: Callable[[int], object]) -> None:
        self._again = again
        self._known: dict[int, _Known] = {}
        self._later: dict[int, asyncio.TimerHandle] = {}

    def is_due(self, number: int, *, ended: bool) -> bool:
        """Whether this look reads facts; otherwise a later one will, though the run rests."""
        loop = asyncio.get_running_loop()
        known = self._known.get(number)
        wait = known.read_at + SPACE - loop.time() if known and known.facts else 0
        if wait > 0 and not ended:
            if number not in self._later:
                self._later[number] = loop.call_later(wait, self._look_again, number)
            return False
        if later := self._later.pop(number, None):
            later.cancel()
        while len(self._known) >= REMEMBERED:
            del self._known[next(iter(self._known))]
        self._known[number] = _Known(loop.time(), known.facts if known else None)
        return True

    def remember(self, number: int, facts: LineFacts) -> None:
        """Keep the facts that a look has read."""
        if known := self._known.get(number):
            known.facts = facts

    def facts_of(self, number: int) -> LineFacts | None:
        """Return the newest facts of a run; None before the first have been read."""
        known = self._known.get(number)
        return known.facts if known else None

    def _look_again(self, number: int) -> None:
        self._later.pop(number, None)
        self._again(number)
