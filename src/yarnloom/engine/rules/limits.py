"""Pools: how many attempts may run at once, how many may begin in a time, and whether any may.

A pool's settings are one; each value of a pool with `per=` has a limiter of its own, which counts.
A limiter that is closed says why: what decides and what explains call the same function.

Decision: `docs/decisions/04-pools.md`.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum

from yarnloom.plan import Rate
from yarnloom.values import JsonObject

RECENT = 60


class BlockReason(StrEnum):
    """Why nothing of a pool may start."""

    PAUSED = "paused"  # by hand
    HALTED = "halted"  # its limit is 0
    FULL = "full"  # as many run as may
    RATE = "rate"  # as many have begun of late as may


@dataclass(frozen=True, slots=True)
class Declared:
    """What a loom says of a pool."""

    limit: int | None
    rate: Rate | None
    note: str


@dataclass(slots=True)
class PoolLimits:
    """A pool as it is known: what looms say, and what was set by hand, which wins.

    Attributes:
        declared: by loom.
        by_hand: limit, rate and note, as far as they were set by hand.
        paused: who paused it, when and why; None while it is not.
        limit: how many may run at once; None for any number.
        rate: how many may begin in a time; None for any number.
        note: what the limit is for.
        begun: how many began of late, by second of the steady clock.
    """

    declared: dict[str, Declared] = field(default_factory=dict)
    by_hand: JsonObject = field(default_factory=dict)
    paused: JsonObject | None = None
    limit: int | None = None
    rate: Rate | None = None
    note: str = ""
    begun: deque[tuple[int, int]] = field(default_factory=deque)

    def settle(self) -> None:
        """Work out what holds: by hand, else the smallest that is declared."""
        looms = [self.declared[name] for name in sorted(self.declared)]
        self.limit = min((loom.limit for loom in looms if loom.limit is not None), default=None)
        rates = [loom.rate for loom in looms if loom.rate is not None]
        self.rate = min(rates, key=lambda one: (one.count / one.seconds, one.seconds), default=None)
        self.note = next((loom.note for loom in looms if loom.note), "")
        if "limit" in self.by_hand:
            self.limit = self.by_hand["limit"]
        if "rate" in self.by_hand:
            self.rate = self.by_hand["rate"]
        if "note" in self.by_hand:
            self.note = self.by_hand["note"]

    @property
    def rated(self) -> bool:
        """Whether it has a rate, which counts begins, so that nothing is handed out ahead."""
        return self.rate is not None

    def count_begun(self, mono: float) -> None:
        """One more has begun."""
        second = int(mono)
        if self.begun and self.begun[-1][0] == second:
            self.begun[-1] = (second, self.begun[-1][1] + 1)
        else:
            self.begun.append((second, 1))
        self._forget(mono)

    def begun_of_late(self, mono: float) -> int:
        """How many began within the last minute."""
        self._forget(mono)
        return sum(count for _, count in self.begun)

    def _forget(self, mono: float) -> None:
        while self.begun and self.begun[0][0] <= mono - RECENT:
            self.begun.popleft()


@dataclass(frozen=True, slots=True)
class PoolBlocked:
    """That nothing of a pool may start, and why; `until` is a time of the steady clock."""

    why: BlockReason
    until: float | None = None


@dataclass(slots=True)
class Limiter:
    """What counts for one limit: a pool's, or that of one value of a pool with `per=`.

    Attributes:
        settings: the pool's.
        in_use: attempts that were handed out and have not ended, and abandoned ones, by run.
        unbegun: attempts that were handed out and have not begun: each may begin any moment.
        begins: when the others began, as far as the rate counts them still.
        armed: whether it is to be looked at when the rate lets the next begin.
        shut: whether it was closed when it was last looked at.
        opened_at: when it was last found open again, in microseconds since 1970 UTC.
    """

    settings: PoolLimits
    in_use: Counter[int] = field(default_factory=Counter)
    unbegun: set[int] = field(default_factory=set)
    begins: deque[float] = field(default_factory=deque)
    armed: bool = False
    shut: bool = False
    opened_at: int = 0

    def record_use(self, closed: PoolBlocked | None, now: int) -> None:
        """It was looked at, and was closed or open: so it is known how long steps waited for it."""
        if self.shut and closed is None:
            self.opened_at = now
        self.shut = closed is not None

    def closed(self, mono: float) -> PoolBlocked | None:
        """Why nothing of it may start now; None if something may."""
        return next(self.obstacles(mono), None)

    def obstacles(self, mono: float) -> Iterator[PoolBlocked]:
        """Everything because of which nothing of it may start now."""
        settings = self.settings
        if settings.paused is not None:
            yield PoolBlocked(BlockReason.PAUSED)
        if settings.limit == 0:
            yield PoolBlocked(BlockReason.HALTED)
        elif settings.limit is not None and self.in_use.total() >= settings.limit:
            yield PoolBlocked(BlockReason.FULL)
        if settings.rate is not None:
            self._forget(mono)
            if len(self.begins) + len(self.unbegun) >= settings.rate.count:
                first = self.begins[0] + settings.rate.seconds if self.begins else None
                yield PoolBlocked(BlockReason.RATE, first)

    def enter(self, run: int, attempt: int) -> None:
        """An attempt was given to a worker."""
        self.in_use[run] += 1
        self.unbegun.add(attempt)

    def begin(self, attempt: int, at: float) -> None:
        """An attempt began, at a time of the steady clock."""
        self.unbegun.discard(attempt)
        if self.settings.rate is not None:
            self._note_begin(at)

    def end(self, run: int, attempt: int, mono: float) -> None:
        """An attempt ended; one that was never heard to begin may have begun until now."""
        if attempt in self.unbegun:
            self.begin(attempt, mono)
        self.in_use[run] -= 1
        if not self.in_use[run]:
            del self.in_use[run]

    def take_back(self, attempt: int) -> None:
        """An attempt is certain never to have begun: the rate does not count it."""
        self.unbegun.discard(attempt)

    def remember(self, begins: list[float]) -> None:
        """Take in begins from the records: after a start, or when the rate was changed."""
        self.begins = deque(sorted(begins))

    def counts_nothing(self, mono: float) -> bool:
        """Whether nothing is to be remembered of it."""
        if self.settings.rate is None:
            self.begins.clear()
        else:
            self._forget(mono)
        return not self.in_use and not self.begins and not self.unbegun

    @property
    def forgotten_at(self) -> float:
        """When the last begin that is remembered does not count any more."""
        seconds = self.settings.rate.seconds if self.settings.rate else 0.0
        return (self.begins[-1] if self.begins else 0.0) + seconds

    def _note_begin(self, at: float) -> None:
        later = []
        while self.begins and self.begins[-1] > at:
            later.append(self.begins.pop())  # reports do not come in the order of what they tell
        self.begins.append(at)
        self.begins.extend(reversed(later))

    def _forget(self, mono: float) -> None:
        assert self.settings.rate is not None
        while self.begins and self.begins[0] + self.settings.rate.seconds <= mono:
            self.begins.popleft()


def base_of(pool: str) -> str:
    """The pool of a pool with a value: `gauge-link` of `gauge-link[north]`."""
    return pool.partition("[")[0]


class Pools:
    """All pools of the service."""

    def __init__(self) -> None:
        self.settings: dict[str, PoolLimits] = {}
        self._limiters: dict[str, dict[str, Limiter]] = {}

    def need(self, name: str) -> PoolLimits:
        """The settings of a pool; one that is not known limits nothing."""
        return self.settings.get(name) or PoolLimits()

    def limiter(self, pool: str) -> Limiter:
        """The limiter of a pool, or of one of its values."""
        base = base_of(pool)
        limiters = self._limiters.setdefault(base, {})
        found = limiters.get(pool)
        if found is None:
            found = limiters[pool] = Limiter(self.need(base))
        return found

    def limiters(self, name: str) -> dict[str, Limiter]:
        """The limiters of a pool by key, as far as anything is to be remembered of them."""
        return self._limiters.get(name, {})

    @property
    def closed(self) -> frozenset[str]:
        """Pools in which nothing begins until somebody opens them."""
        pools = list(self.settings.items())
        return frozenset(name for name, one in pools if one.paused is not None or one.limit == 0)

    def limit_of(self, name: str) -> float | None:
        """How many of a pool run at once at most; None if that is not limited."""
        return self.need(base_of(name)).limit

    def forget(self, name: str) -> None:
        """A pool was removed."""
        del self.settings[name]
        self._limiters.pop(name, None)

    def rated(self, pool: str) -> bool:
        """Whether a pool has a rate."""
        return bool(pool) and self.need(base_of(pool)).rated

    def tidy(self, pool: str, mono: float) -> None:
        """Forget a limiter that counts nothing."""
        limiters = self._limiters.get(base_of(pool), {})
        if pool in limiters and limiters[pool].counts_nothing(mono) and not limiters[pool].armed:
            del limiters[pool]
