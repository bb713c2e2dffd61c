"""What a workflow was like over days: how its runs and steps ended, and how long they took.

Counted by the hour when an attempt or a run ends, once a transaction, so that nothing is scanned.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from itertools import accumulate

from yarnloom.engine.records.workflows import DayWent, OverTime, StepWent, Went
from yarnloom.plan import Plan
from yarnloom.store import Connection, Row, Unit, each_counters
from yarnloom.store import hourly_counters as store

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
        hour = now // store.HOUR
        key = (workflow, hour, address, outcome)
        number, sum_waited = self._counts.get(key, (0, 0))
        self._counts[key] = number + 1, sum_waited + max(0, waited)
        if took is not None and outcome in _TIMED:
            self._times[workflow, hour, address, each_counters.bucket_of(took)] += 1

    def end_all(
        self, workflow: str, address: str, outcome: str, ended: Iterable[tuple[int, int, int]]
    ) -> None:
        """Attempts of a step ended: of each when, how long it waited, and how long it took."""
        last, key, number, waits = -1, ("", 0, "", ""), 0, 0
        times = self._times
        for at, waited, took in ended:
            hour = at // store.HOUR
            if hour != last:
                self._add(key, number, waits)
                last, key, number, waits = hour, (workflow, hour, address, outcome), 0, 0
            number += 1
            waits += waited
            times[workflow, hour, address, each_counters.bucket_of(took)] += 1
        self._add(key, number, waits)

    def _add(self, key: tuple[str, int, str, str], number: int, waited: int) -> None:
        if number:
            before, sum_waited = self._counts.get(key, (0, 0))
            self._counts[key] = before + number, sum_waited + waited

    def write(self, unit: Unit) -> None:
        """Write it."""
        store.add(unit, self._counts, self._times)
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
    first = (now // store.HOUR // DAY - days + 1) * DAY
    counts = store.counts_since(connection, plan.workflow, first)
    times = store.times_since(connection, plan.workflow, first)
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
            return each_counters.seconds_of(bucket + 0.5)
    return None
