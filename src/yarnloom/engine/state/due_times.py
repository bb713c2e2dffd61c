"""When something falls due: timers in memory, and the times for which they are set."""

from __future__ import annotations

import heapq
from collections.abc import Collection, Iterator

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.attempts import OpenAttempts, Unbegun
from yarnloom.store import RunRow


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


BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE = "back_off", "deadline", "run_deadline"
FILES_DUE, LIST_JOBS_DUE = "files", "list_jobs"
START_DUE, START_BY_DUE, SCHEDULE_DUE = "start", "start_by", "schedule"
"""Kinds of what falls due and is kept in the store by time."""

TIMEOUT_DUE, QUIET_DUE, UNBEGUN_DUE, GRANT_DUE = "timeout", "quiet", "unbegun", "grant"
"""Kinds of what is kept in memory."""

BEGIN_SECONDS = 5.0
"""Within which an attempt begins that a worker got, where nothing is wrong."""


class DueTimes:
    """Sets timers: in memory is one entry for each kind, of the earliest.

    Args:
        time: of the transaction.
        timers: of the memory.
        attempts: those that workers have in hand.
    """

    __slots__ = ("_attempts", "_time", "_timers")

    def __init__(self, time: RunTime, timers: Timers, attempts: OpenAttempts) -> None:
        self._time = time
        self._timers = timers
        self._attempts = attempts

    def set(self, kind: str, at: int) -> None:
        """Set the timer of a kind: at that time the engine looks into the store for what is due."""
        self._timers.set(kind, self._time.mono_of(at))

    def set_by_day(self, kind: str, wall: int) -> None:
        """Set the timer of a kind for a time of day."""
        self.set(kind, wall + self._time.ahead)

    def set_start(self, run: RunRow) -> None:
        """Set the timer that opens a run when its start time comes."""
        at = (run.start_at or 0) + (0 if run.after_a_while else self._time.ahead)
        self.set(START_DUE, max(at, self._time.now))

    def expect_begin(self, attempt: int) -> None:
        """Look again at an attempt that a worker got, if it does not begin."""
        self._attempts.unbegun[attempt] = Unbegun(self._time.mono)
        self._timers.set(UNBEGUN_DUE, self._time.mono + BEGIN_SECONDS)
