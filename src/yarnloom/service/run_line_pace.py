"""When the line of a run goes out with its graph: at most twice a second, and at its end.

It is made of that very graph, so that a page with both does not contradict itself.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable

SPACE = 0.5
"""Seconds between two lines of a run; graphs come more often."""

REMEMBERED = 1_000


class Glances:
    """Which look at a run is to have its line.

    Args:
        again: called with the number of a run whose newest look had none, to look again.
    """

    def __init__(self, again: Callable[[int], object]) -> None:
        self._again = again
        self._told: dict[int, float] = {}
        self._later: dict[int, asyncio.TimerHandle] = {}

    def is_due(self, number: int, *, ended: bool) -> bool:
        """Whether this look is to have it; otherwise a later one will, though nothing changes."""
        loop = asyncio.get_running_loop()
        wait = self._told.get(number, -SPACE) + SPACE - loop.time()
        if wait > 0 and not ended:
            if number not in self._later:
                self._later[number] = loop.call_later(wait, self._look_again, number)
            return False
        if later := self._later.pop(number, None):
            later.cancel()
        while len(self._told) >= REMEMBERED:
            del self._told[next(iter(self._told))]
        self._told[number] = loop.time()
        return True

    def _look_again(self, number: int) -> None:
        self._later.pop(number, None)
        self._again(number)
