"""Where the time of each run goes: sums by step of the plan and slice of time.

Added to when attempts end, once a transaction. A run has at most so many slices: when it lasts
longer, two become one. So no page scans attempts, and the tables do not grow with them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field

from yarnloom.store import Unit
from yarnloom.store import time_sums as store

FAILED = frozenset({"failed", "refused", "lost"})
"""Outcomes that count as failures."""

FINEST = 64
"""Microseconds of the first slices of a run."""

SLICES = 1_024
"""How many slices a run has at most; at least half as many once it had more."""

RUNS_REMEMBERED = 200


@dataclass(slots=True)
class Axis:
    """How a run's time is divided.

    Attributes:
        first: when slice 0 begins, in microseconds since 1970 UTC; slices before it are negative.
        width: of a slice, in microseconds.
        low: the first slice with anything in it.
        high: the last one.
        last: when the last attempt ended.
    """

    first: int
    width: int = FINEST
    low: int = 0
    high: int = 0
    last: int = 0


@dataclass(slots=True)
class EndedTry:
    """An attempt that has ended; times in microseconds since 1970 UTC.

    Attributes:
        ready_at: since when its step could have begun.
        begun_at: None if it never began.
        ended_at: its end.
        failed: whether that counts as a failure.
        pool_until: until when its pool let nothing begin; None: it did.
        slept: how its step slept before: `back_off` or `rest`; None: it did not.
        slept_from: since when.
    """

    ready_at: int
    begun_at: int | None
    ended_at: int
    failed: bool = False
    pool_until: int | None = None
    slept: str | None = None
    slept_from: int = 0


@dataclass(slots=True)
class _Sums:
    """What is added to the sums of a step."""

    attempts: int = 0
    begun: int = 0
    failed: int = 0
    longest: int = 0
    micros: dict[str, int] = field(default_factory=lambda: defaultdict(int))


class TimeSums:
    """What the transactions add, until it is written.

    Args:
        unit: the store.
    """

    def __init__(self, unit: Unit) -> None:
        self._unit = unit
        self._axes: dict[int, Axis] = {}
        self._touched: set[int] = set()
        self._slices: dict[tuple[int, int, str, int], int] = defaultdict(int)
        self._ends: dict[tuple[int, int, int], tuple[int, int]] = {}
        self._sums: dict[tuple[int, int], _Sums] = defaultdict(_Sums)

    def end(self, run: int, node: int, tried: EndedTry) -> None:
        """An attempt of a step ended."""
        self.done(run, node, [(tried.ready_at, tried.begun_at, tried.ended_at)], tried)

    def done(
        self,
        run: int,
        node: int,
        attempts: Sequence[tuple[int, int | None, int]],
        tried: EndedTry | None = None,
    ) -> None:
        """Attempts of a step ended well, or one did as `tried` says.

        Args:
            run: the run's number.
            node: of the step in the plan.
            attempts: of each when it was ready, began and ended.
            tried: more about the only one of them.
        """
        axis = self._axis(run, attempts[0][0])
        ran = worker = begun = longest = failed = 0
        for ready_at, begun_at, ended_at in attempts:
            begin = ended_at if begun_at is None else begun_at
            free = ready_at
            if tried is not None:
                free = self._slept_and_pooled(run, node, axis, tried, begin)
            if begin > free:
                worker += begin - free
                self._cover(run, node, "worker", axis, free, begin)
            if begun_at is None:
                continue
            took = ended_at - begun_at
            begun += 1
            ran += took
            longest = max(longest, took)
            failed += tried is not None and tried.failed
            last = self._cover(run, node, "ran", axis, begun_at, ended_at)
            number, bad = self._ends.get((run, node, last), (0, 0))
            self._ends[run, node, last] = number + 1, bad + (tried is not None and tried.failed)
        sums = self._sums[run, node]
        sums.attempts += len(attempts)
        sums.begun += begun
        sums.failed += failed
        sums.longest = max(sums.longest, longest)
        sums.micros["ran"] += ran
        sums.micros["worker"] += worker
        axis.last = max(axis.last, attempts[-1][2])

    def _slept_and_pooled(
        self, run: int, node: int, axis: Axis, tried: EndedTry, begin: int
    ) -> int:
        """Add waits that are not for a worker; from when on that was waited for."""
        micros = self._sums[run, node].micros
        if tried.slept is not None and tried.ready_at > tried.slept_from:
            micros[tried.slept] += tried.ready_at - tried.slept_from
            self._cover(run, node, tried.slept, axis, tried.slept_from, tried.ready_at)
        if tried.pool_until is None:
            return tried.ready_at
        until = min(tried.pool_until, begin)
        if until > tried.ready_at:
            micros["pool"] += until - tried.ready_at
            self._cover(run, node, "pool", axis, tried.ready_at, until)
        return until

    def _cover(self, run: int, node: int, kind: str, axis: Axis, begin: int, end: int) -> int:
        """Something lasted from one moment to another; the slice in which it ended."""
        width, slices = axis.width, self._slices
        low, high = (begin - axis.first) // width, (end - axis.first) // width
        axis.low = min(axis.low, low)
        axis.high = max(axis.high, high)
        if low == high:
            slices[run, node, kind, low] += end - begin
            return high
        if high - low > 2 * SLICES:  # it is far longer than all before it
            self._widen(run, axis)
            return self._cover(run, node, kind, axis, begin, end)
        slices[run, node, kind, low] += axis.first + (low + 1) * width - begin
        for between in range(low + 1, high):
            slices[run, node, kind, between] += width
        slices[run, node, kind, high] += end - axis.first - high * width
        return high

    def _axis(self, run: int, first: int) -> Axis:
        self._touched.add(run)
        axis = self._axes.get(run)
        if axis is None:
            known = store.axis_of(self._unit, run)
            axis = Axis(*known) if known else Axis(first)
            while len(self._axes) >= RUNS_REMEMBERED + len(self._touched):
                del self._axes[next(sums for sums in self._axes if sums not in self._touched)]
            self._axes[run] = axis
        return axis

    def _widen(self, run: int, axis: Axis) -> None:
        """Make the slices of a run so wide that there are few enough."""
        by = 1
        while (axis.high // by) - (axis.low // by) >= SLICES:
            by *= 2
        slices = {key: micros for key, micros in self._slices.items() if key[0] == run}
        ends = {key: numbers for key, numbers in self._ends.items() if key[0] == run}
        for key in slices:
            del self._slices[key]
        for (_, node, kind, at), micros in slices.items():
            self._slices[run, node, kind, at // by] += micros
        for end in ends:
            del self._ends[end]
        for (_, node, at), (number, failed) in ends.items():
            before = self._ends.get((run, node, at // by), (0, 0))
            self._ends[run, node, at // by] = before[0] + number, before[1] + failed
        store.widen(self._unit, run, by)
        axis.width *= by
        axis.low, axis.high = axis.low // by, axis.high // by

    def ran_in(self, run: int) -> dict[int, tuple[int, int]]:
        """By node how many attempts of a run have ended that began, and how long they ran."""
        ran = store.ran_in(self._unit, run)
        for (number, node), more in self._sums.items():
            if number == run and more.begun:
                before = ran.get(node, (0, 0))
                ran[node] = before[0] + more.begun, before[1] + more.micros["ran"]
        return ran

    def write(self) -> None:
        """Write what was added."""
        for run in self._touched:
            axis = self._axes[run]
            if axis.high - axis.low >= SLICES:
                self._widen(run, axis)
            store.keep_axis(self._unit, run, axis.first, axis.width, axis.low, axis.high, axis.last)
        store.add_slices(
            self._unit,
            [(*key, micros, 0, 0) for key, micros in self._slices.items() if micros],
            [(run, node, "ran", at, 0, *found) for (run, node, at), found in self._ends.items()],
        )
        store.add_sums(
            self._unit,
            [
                (
                    *(*key, sums.attempts, sums.begun, sums.failed, sums.longest),
                    *(sums.micros.get(kind, 0) for kind in store.KINDS),
                )
                for key, sums in self._sums.items()
            ],
        )
        self._clear()

    def forget(self) -> None:
        """Nothing was added after all."""
        self._clear()
        self._axes.clear()

    def _clear(self) -> None:
        self._touched.clear()
        self._slices.clear()
        self._ends.clear()
        self._sums.clear()
