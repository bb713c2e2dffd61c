"""Pools: how many attempts may run at once, how many may begin in a time, and whether any may.

A pool's settings are one; each value of a pool with `per=` has a limiter of its own, which counts.
A limiter that is closed says why: what decides and what explains call the same function.

Decision: `docs/decisions/04-pools.md`.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache

from yarnloom.plan import Rate
from yarnloom.values import JsonObject

RECENT = 60


class BlockReason(StrEnum):
    """Why nothing of a pool may start."""

    PAUSED = "paused"  # by hand
    HALTED = "halted"  # its limit is 0
    FULL = "full"  # as many run as may
    RATE = "rate"  # as many have begun of late as may
    TOO_HEAVY = "too_heavy"  # the step's weight is above its limit or rate
    RESERVED = "reserved"  # the rest is kept for steps that need more of it, or other pools too


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


PASSING = frozenset({BlockReason.FULL, BlockReason.RATE, BlockReason.RESERVED})
"""What ends by itself, as attempts end and time passes."""


@dataclass(slots=True)
class Limiter:
    """What counts for one limit: a pool's, or that of one value of a pool with `per=`.

    Attributes:
        settings: the pool's.
        in_use: by run the weight of attempts that were handed out and have not ended, and of
            abandoned ones.
        used: the sum of those.
        unbegun: the weight of attempts that were handed out and have not begun: each may begin any
            moment.
        begins: when the others began, with the weight, as far as the rate counts them still.
        counted: the sum of the weights in `unbegun` and `begins`.
        armed: when it is looked at next, since its rate lets something begin; None for never.
        shut: whether it was closed when it was last looked at.
        opened_at: when it was last found open again, in microseconds since 1970 UTC.
    """

    settings: PoolLimits
    in_use: Counter[int] = field(default_factory=Counter)
    used: int = 0
    unbegun: dict[int, int] = field(default_factory=dict)
    begins: deque[tuple[float, int]] = field(default_factory=deque)
    counted: int = 0
    armed: float | None = None
    shut: bool = False
    opened_at: int = 0

    def record_use(self, closed: PoolBlocked | None, now: int) -> None:
        """It was looked at, and was closed or open: so it is known how long steps waited for it."""
        if self.shut and closed is None:
            self.opened_at = now
        self.shut = closed is not None

    def closed(self, mono: float, weight: int = 1, reserved: int = 0) -> PoolBlocked | None:
        """Why an attempt of a weight may not start now; None if it may.

        Args:
            mono: the time.
            weight: the attempt's.
            reserved: the weight that is kept for steps before it.
        """
        return next(self.obstacles(mono, weight, reserved), None)

    def obstacles(self, mono: float, weight: int = 1, reserved: int = 0) -> Iterator[PoolBlocked]:
        """Everything because of which an attempt of a weight may not start now."""
        settings = self.settings
        if settings.paused is not None:
            yield PoolBlocked(BlockReason.PAUSED)
        # Of a limit one reason is enough, since the first hides the others; a rate is apart.
        limit, rate = settings.limit, settings.rate
        if limit == 0:
            yield PoolBlocked(BlockReason.HALTED)
        elif limit is not None and weight > limit:
            yield PoolBlocked(BlockReason.TOO_HEAVY)
        elif limit is not None and self.used + weight > limit:
            yield PoolBlocked(BlockReason.FULL)
        elif limit is not None and self.used + weight + reserved > limit:
            yield PoolBlocked(BlockReason.RESERVED)
        if rate is not None and weight > rate.count:
            yield PoolBlocked(BlockReason.TOO_HEAVY)
        elif rate is not None:
            self._forget(mono)
            if self.counted + weight > rate.count:
                yield PoolBlocked(BlockReason.RATE, self._free_at(weight, rate))
            elif self.counted + weight + reserved > rate.count:
                until = self._free_at(weight + reserved, rate)
                yield PoolBlocked(BlockReason.RESERVED, until)

    def _free_at(self, weight: int, rate: Rate) -> float | None:
        """When so much has left the rate's window; None if that waits for attempts to begin."""
        excess = self.counted + weight - rate.count
        for begun, one in self.begins:
            excess -= one
            if excess <= 0:
                return begun + rate.seconds
        return None

    def enter(self, run: int, attempt: int, weight: int = 1) -> None:
        """An attempt was given to a worker."""
        self.use(run, weight)
        self.unbegun[attempt] = weight
        self.counted += weight

    def use(self, run: int, weight: int) -> None:
        """Count a weight as in use; a negative one as free again."""
        self.used += weight
        self.in_use[run] += weight
        if not self.in_use[run]:
            del self.in_use[run]

    def begin(self, attempt: int, at: float, weight: int = 1) -> None:
        """An attempt began, at a time of the steady clock."""
        self.take_back(attempt)
        if self.settings.rate is not None:
            self._note_begin(at, weight)

    def end(self, run: int, attempt: int, mono: float, weight: int = 1) -> None:
        """An attempt ended; one that was never heard to begin may have begun until now."""
        if attempt in self.unbegun:
            self.begin(attempt, mono, weight)
        self.use(run, -weight)

    def take_back(self, attempt: int) -> None:
        """An attempt is certain never to have begun: the rate does not count it."""
        self.counted -= self.unbegun.pop(attempt, 0)

    def remember(self, begins: list[tuple[float, int]]) -> None:
        """Take in begins from the records: after a start, or when the rate was changed."""
        self.begins = deque(sorted(begins))
        self.counted = sum(self.unbegun.values()) + sum(weight for _, weight in begins)

    def counts_nothing(self, mono: float) -> bool:
        """Whether nothing is to be remembered of it."""
        if self.settings.rate is None:
            self.remember([])
        else:
            self._forget(mono)
        return not self.in_use and not self.begins and not self.unbegun

    @property
    def forgotten_at(self) -> float:
        """When the last begin that is remembered does not count any more."""
        seconds = self.settings.rate.seconds if self.settings.rate else 0.0
        return (self.begins[-1][0] if self.begins else 0.0) + seconds

    def _note_begin(self, at: float, weight: int) -> None:
        later = []
        while self.begins and self.begins[-1][0] > at:
            later.append(self.begins.pop())  # reports do not come in the order of what they tell
        self.begins.append((at, weight))
        self.begins.extend(reversed(later))
        self.counted += weight

    def _forget(self, mono: float) -> None:
        assert self.settings.rate is not None
        while self.begins and self.begins[0][0] + self.settings.rate.seconds <= mono:
            self.counted -= self.begins.popleft()[1]


def pool_key(uses: Iterable[tuple[str, int]]) -> str:
    """The pools that a step enters as one text: "oven/2 link[north]"; a weight of 1 is left out."""
    return " ".join(pool if weight == 1 else f"{pool}/{weight}" for pool, weight in uses)


@lru_cache(maxsize=10_000)
def uses_in(key: str) -> tuple[tuple[str, int], ...]:
    """The pools of such a text, each with its value, and the weight; none of an empty one."""
    found = []
    for one in key.split(" ") if key else ():
        pool, _, weight = one.partition("/")
        found.append((pool, int(weight or 1)))
    return tuple(found)


def pools_in(key: str) -> set[str]:
    """The names of the pools of such a text."""
    return {base_of(pool) for pool, _ in uses_in(key)}


def is_single(key: str) -> bool:
    """Whether such a text is at most one place of one pool."""
    return " " not in key and "/" not in key


def first_in(key: str) -> str:
    """The pool that is named first in such a text, with its value; empty for none."""
    return uses_in(key)[0][0] if key else ""


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

    def rated(self, key: str) -> bool:
        """Whether any pool that a step enters has a rate."""
        return any(self.need(base_of(pool)).rated for pool, _ in uses_in(key))

    def tidy(self, pool: str, mono: float) -> None:
        """Forget a limiter that counts nothing."""
        limiters = self._limiters.get(base_of(pool), {})
        if (
            pool in limiters
            and limiters[pool].counts_nothing(mono)
            and limiters[pool].armed is None
        ):
            del limiters[pool]
