"""Timers: what is looked at when a time has come."""

from __future__ import annotations

import heapq
from collections.abc import Collection, Iterator


class Timers:
    """Everything that waits for a moment, behind one timer.

    An entry without a key is of a kind that is kept elsewhere by time, in the store or in memory:
    it has one timer, for the earliest. Entries are never taken out early: a caller that gets a due
    entry checks whether it still holds.
    """

    def __init__(self) -> None:
        self._heap: list[tuple[float, str, str]] = []
        self._set: dict[str, float] = {}

    def add(self, at: float, kind: str, key: str) -> None:
        """Look at something at a time of the monotonic clock."""
        heapq.heappush(self._heap, (at, kind, key))

    def set(self, kind: str, at: float) -> None:
        """Look at a kind at a time, at the latest."""
        if at < self._set.get(kind, float("inf")):
            self._set[kind] = at
            self.add(at, kind, "")

    def next_but(self, kinds: Collection[str]) -> float | None:
        """Return when the next timer is due that is of none of some kinds."""
        return min(
            (
                at
                for at, kind, key in self._heap
                if kind not in kinds and (key or self._set.get(kind) == at)
            ),
            default=None,
        )

    def take(self, until: float) -> Iterator[tuple[str, str]]:
        """Take what is due, in order: kind and key. Of a kind, only the newest timer counts."""
        while self._heap and self._heap[0][0] <= until:
            at, kind, key = heapq.heappop(self._heap)
            if not key:
                if self._set.get(kind) != at:
                    continue
                del self._set[kind]
            yield kind, key

    def __len__(self) -> int:
        """How many entries there are."""
        return len(self._heap)

    @property
    def next_at(self) -> float | None:
        """When the first entry falls due; None if there is none."""
        return self._heap[0][0] if self._heap else None
