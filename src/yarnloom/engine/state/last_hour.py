"""What happened of late, by minute: how much was done, how long it waited, how full pools were.

Kept in memory for an hour, and changed only when a commit has succeeded. A pool is looked at when
something in it changed, at most once a second, so that an idle service looks at nothing.

Decision: `docs/decisions/10-looking-back.md`.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field
from typing import TypeVar

from yarnloom.engine.records.settings import LevelRecord, MinuteRecord
from yarnloom.engine.rules.fair_queue import Lanes
from yarnloom.engine.rules.limits import Pools, base_of

T = TypeVar("T")

MINUTE = 60_000_000
MINUTES = 60
SAMPLE = 1.0


@dataclass(slots=True)
class Tally:
    """What happened in one transaction, or in one minute.

    Attributes:
        begun: attempts that began.
        waited: how long these had been ready before, together, in seconds.
        longest: how long the one that had waited the longest had.
        ended: attempts that ended.
        failed: those of them that failed or were lost.
    """

    begun: int = 0
    waited: float = 0.0
    longest: float = 0.0
    ended: int = 0
    failed: int = 0

    def begin(self, waited: float) -> None:
        """An attempt began that had waited for so many seconds."""
        self.begun += 1
        self.waited += waited
        self.longest = max(self.longest, waited)

    def end(self, *, failed: bool) -> None:
        """An attempt ended."""
        self.ended += 1
        self.failed += failed

    def all_done(self, waited: list[float]) -> None:
        """Attempts began that had waited for so many seconds, and are done."""
        self.begun += len(waited)
        self.waited += sum(waited)
        self.longest = max(self.longest, *waited)
        self.ended += len(waited)

    def add(self, other: Tally) -> None:
        """Take in what another counted."""
        self.begun += other.begun
        self.waited += other.waited
        self.longest = max(self.longest, other.longest)
        self.ended += other.ended
        self.failed += other.failed


@dataclass(slots=True)
class Level:
    """How full a pool was in one minute.

    Attributes:
        in_use: at most.
        waiting: at most.
        limit: at its end; None for any number.
        last_in_use: at its end.
        last_waiting: at its end.
    """

    in_use: int = 0
    waiting: int = 0
    limit: int | None = None
    last_in_use: int = 0
    last_waiting: int = 0

    def next(self) -> Level:
        """The next minute, as long as nothing changes in it."""
        in_use, waiting = self.last_in_use, self.last_waiting
        return Level(in_use, waiting, self.limit, in_use, waiting)


@dataclass(slots=True)
class Recent:
    """The last hour, by minute; minutes in which nothing happened are not kept."""

    _tallies: deque[tuple[int, Tally]] = field(default_factory=deque)
    _levels: dict[str, deque[tuple[int, Level]]] = field(default_factory=dict)
    _sampled: dict[str, float] = field(default_factory=dict)

    def add(self, now: int, tally: Tally) -> None:
        """Take in what happened in a transaction."""
        if tally.begun or tally.ended:
            _at(self._tallies, now // MINUTE, Tally).add(tally)

    def sample(
        self, names: Iterable[str], pools: Pools, lanes: Lanes, now: int, mono: float
    ) -> None:
        """Note how full pools are; those that were noted within the last second are left out."""
        never = float("-inf")
        due = [name for name in names if mono - self._sampled.get(name, never) >= SAMPLE]
        if due:
            self.look(due, pools, lanes, now, mono)

    def look(self, names: Iterable[str], pools: Pools, lanes: Lanes, now: int, mono: float) -> None:
        """Note how full pools are now."""
        waiting = _waiting_by_pool(lanes)
        for name in names:
            self._sampled[name] = mono
            settings = pools.settings.get(name)
            if settings is None:
                self._levels.pop(name, None)
                continue
            in_use = sum(limiter.in_use.total() for limiter in pools.limiters(name).values())
            kept = self._levels.setdefault(name, deque())
            before = kept[-1][1] if kept else Level()
            level = _at(kept, now // MINUTE, before.next)
            level.last_in_use, level.last_waiting = in_use, waiting.get(name, 0)
            level.in_use = max(level.in_use, in_use)
            level.waiting = max(level.waiting, level.last_waiting)
            level.limit = settings.limit

    def minutes(self, now: int) -> list[MinuteRecord]:
        """Return every minute of the last hour, oldest first, the present one last."""
        known = dict(self._tallies)
        return [
            MinuteRecord(minute * MINUTE, **asdict(known.get(minute) or Tally()))
            for minute in _last(now)
        ]

    def levels(self, name: str, now: int) -> list[LevelRecord]:
        """Return how full a pool was in every minute since it was first looked at.

        A minute without a change is as the one before.
        """
        known = dict(self._levels.get(name, ()))
        found, before = [], None
        for minute in [*(one for one in known if one < _last(now)[0]), *_last(now)]:
            level = known.get(minute)
            if level is None and before is not None:
                level = before.next()
            if level is not None and minute >= _last(now)[0]:
                at = minute * MINUTE
                found.append(LevelRecord(at, level.in_use, level.waiting, level.limit))
            before = level
        return found


def _waiting_by_pool(lanes: Lanes) -> dict[str, int]:
    """By pool how many steps are ready in it."""
    found: dict[str, int] = {}
    for pool in lanes.pools_with_ready():
        found[base_of(pool)] = found.get(base_of(pool), 0) + lanes.waiting_in(pool)
    return found


def _last(now: int) -> range:
    minute = now // MINUTE
    return range(minute - MINUTES + 1, minute + 1)


def _at(kept: deque[tuple[int, T]], minute: int, make: Callable[[], T]) -> T:
    """The entry of a minute; a clock that was set back adds to the newest."""
    if not kept or kept[-1][0] < minute:
        kept.append((minute, make()))
        while len(kept) > MINUTES + 1:
            kept.popleft()
    return kept[-1][1]
