"""What ended by hour, and what happened within the last one.

Decision: `docs/decisions/10-looking-back.md`.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from itertools import accumulate
from typing import TypeVar

from yarnloom.engine.records.settings import LevelRecord, MinuteRecord
from yarnloom.engine.records.workflows import DayWent, OverTime, StepWent, Went
from yarnloom.engine.rules.fair_queue import Lanes
from yarnloom.engine.rules.limits import Pools, base_of
from yarnloom.plan import Plan
from yarnloom.store import Connection, Row, Unit
from yarnloom.store.runs import counter_records

RUN = ""
"""The address under which whole runs are counted."""

FAILED = frozenset({"failed", "refused", "lost"})
"""Outcomes that count as failures."""

_TIMED = frozenset({"done", "failed"})
DAY = 24


class Hours:
    """The runs and attempts that ended in a transaction, until they are written."""

    def __init__(self) -> None:
        self._counts: dict[tuple[str, int, str, str], tuple[int, int]] = {}
        self._times: dict[tuple[str, int, str, int], int] = defaultdict(int)

    def end(
        self, workflow: str, now: int, address: str, outcome: str, waited: int, took: int | None
    ) -> None:
        """An attempt or a run ended.

        Args:
            workflow: its full name.
            now: in microseconds since 1970 UTC.
            address: of the step, without the keys of items; `RUN` for a run.
            outcome: how it ended.
            waited: microseconds until it began.
            took: microseconds from its begin; None if it never began.
        """
        hour = now // counter_records.HOUR
        key = (workflow, hour, address, outcome)
        number, sum_waited = self._counts.get(key, (0, 0))
        self._counts[key] = number + 1, sum_waited + max(0, waited)
        if took is not None and outcome in _TIMED:
            self._times[workflow, hour, address, counter_records.bucket_of(took)] += 1

    def end_all(
        self, workflow: str, address: str, outcome: str, ended: Iterable[tuple[int, int, int]]
    ) -> None:
        """Attempts of a step ended: of each when, how long it waited, and how long it took."""
        last, key, number, waits = -1, ("", 0, "", ""), 0, 0
        times = self._times
        for at, waited, took in ended:
            hour = at // counter_records.HOUR
            if hour != last:
                self._add(key, number, waits)
                last, key, number, waits = hour, (workflow, hour, address, outcome), 0, 0
            number += 1
            waits += waited
            times[workflow, hour, address, counter_records.bucket_of(took)] += 1
        self._add(key, number, waits)

    def _add(self, key: tuple[str, int, str, str], number: int, waited: int) -> None:
        if number:
            before, sum_waited = self._counts.get(key, (0, 0))
            self._counts[key] = before + number, sum_waited + waited

    def write(self, unit: Unit) -> None:
        """Write it."""
        counter_records.add(unit, self._counts, self._times)
        self.forget()

    def forget(self) -> None:
        """Nothing ended after all."""
        self._counts.clear()
        self._times.clear()


def over_days(connection: Connection, plan: Plan, now: int, days: int) -> OverTime:
    """Return how a workflow's runs and steps went over the last days.

    Args:
        connection: a reader's.
        plan: its newest.
        now: in microseconds since 1970 UTC.
        days: how many, today among them.
    """
    first = (now // counter_records.HOUR // DAY - days + 1) * DAY
    counts = counter_records.counts_since(connection, plan.workflow, first)
    times = counter_records.times_since(connection, plan.workflow, first)
    known = [plan.address(node) for node in plan.nodes if node.task]
    found = dict.fromkeys(row["address"] for row in counts if row["address"] != RUN)
    addresses = [*known, *(one for one in found if one not in known)]
    by_day = [first + DAY * at for at in range(days)]
    return OverTime(
        plan.workflow,
        [
            DayWent(**asdict(_summary(counts, times, RUN, day)), day=_day_text(day))
            for day in by_day
        ],
        [
            StepWent(**asdict(_summary(counts, times, address)), address=address)
            for address in addresses
            if address in found
        ],
    )


def _day_text(hour: int) -> str:
    return datetime.fromtimestamp(hour * 3600, UTC).date().isoformat()


def _summary(
    counts: Iterable[Row], times: Iterable[Row], address: str, day: int | None = None
) -> Went:
    """Return how many ended how, and how long they took; of one day, or of all."""

    def of(row: Row) -> bool:
        return row["address"] == address and (day is None or day <= row["hour"] < day + DAY)

    ended: dict[str, int] = defaultdict(int)
    waited = 0
    for row in filter(of, counts):
        ended[row["outcome"]] += row["number"]
        waited += row["waited"]
    buckets = [(row["bucket"], row["number"]) for row in filter(of, times)]
    total = sum(ended.values())
    failed = sum(ended[one] for one in ended if one in FAILED)
    return Went(
        ended=total,
        outcomes=dict(ended),
        failure_rate=round(failed / total, 4) if total else None,
        median=_quantile(buckets, 0.5),
        p95=_quantile(buckets, 0.95),
        waited=waited / total / 1_000_000 if total else None,
    )


def _quantile(buckets: Sequence[tuple[int, int]], share: float) -> float | None:
    """The duration below which a share of them is, in seconds, within five percent."""
    total = sum(number for _, number in buckets)
    up_to = accumulate(number for _, number in buckets)
    for (bucket, _), passed in zip(buckets, up_to, strict=True):
        if passed >= share * total:
            return counter_records.seconds_of(bucket + 0.5)
    return None


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
            in_use = sum(limiter.used for limiter in pools.limiters(name).values())
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
