"""The ready steps of each lane in plan order, as far as they are known without the store.

A lane is a pool, a priority, a share and a contract. Where all of its ready steps are known, the
next one is found here, and nothing has to be written and selected before it is handed out.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable

Lane = tuple[str, int, str, str]  # pool, priority, share, contract
Place = tuple[int, bytes, int]  # run, rank, step

MOST_KNOWN = 10_000
"""Of a lane; of one that has more, the next are looked for in the store."""


class Ready:
    """Ready steps by lane."""

    def __init__(self) -> None:
        self._steps: dict[Lane, set[int]] = {}
        self._heaps: dict[Lane, list[Place]] = {}

    def add(self, lane: Lane, place: Place) -> None:
        """Add a ready step."""
        steps = self._steps.setdefault(lane, set())
        if len(steps) < MOST_KNOWN and place[2] not in steps:
            steps.add(place[2])
            heapq.heappush(self._heaps.setdefault(lane, []), place)

    def discard(self, lane: Lane, step: int) -> None:
        """Remove a step."""
        if (steps := self._steps.get(lane)) is not None:
            steps.discard(step)
            if not steps:
                self.forget(lane)

    def forget(self, lane: Lane) -> None:
        """Forget the steps of a lane, so that the store is asked for them."""
        self._steps.pop(lane, None)
        self._heaps.pop(lane, None)

    def learn(self, lane: Lane, places: Iterable[Place]) -> None:
        """Replace the steps of a lane with the whole list from the store."""
        self.forget(lane)
        for place in places:
            self.add(lane, place)

    def first(self, lane: Lane, count: int) -> Place | None:
        """The first step of a lane; None if not all of its steps are known.

        Args:
            lane: the lane.
            count: how many steps it has.
        """
        steps = self._steps.get(lane)
        if steps is None or len(steps) != count:
            return None
        heap = self._heaps[lane]
        while heap[0][2] not in steps:
            heapq.heappop(heap)
        return heap[0]
