"""When something happens again and again: a cron expression in a time zone, or an interval.

Times are microseconds since 1970 UTC; those of a cron expression are full minutes. A local time
that does not exist is moved to the end of the gap, one that exists twice is taken the first time;
expressions whose minute or hour begins with `*` follow real time through both.

What an expression means is read by a library; the walk through days and minutes is here, since
that library skips minutes in zones whose clocks are changed by half an hour.

Decision: `docs/decisions/09-clock-and-schedules.md`.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo, available_timezones

from cronsim import CronSim, CronSimError

from yarnloom.errors import nearest

MICRO = 1_000_000
FIELDS = ("minute", "hour", "day-of-month", "month", "day-of-week")
LAST_YEAR = 9990
KNOWN_DAYS = 8
MINUTE, DAY = timedelta(minutes=1), timedelta(days=1)
BLOCK = timedelta(minutes=15)
"""Clocks are changed, and zones differ, by multiples of it."""


class BadRecurrence(ValueError):
    """A cron expression or a time zone that makes no sense.

    Attributes:
        field: `cron` or `zone`.
    """

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field


class Recurrence:
    """A cron expression in a time zone.

    Args:
        cron: five fields: minute, hour, day of month, month, day of week.
        zone: an IANA name, as `Europe/Lisbon`.

    Raises:
        BadRecurrence: one of them is not right, or the expression never comes true.
    """

    def __init__(self, cron: str, zone: str = "UTC") -> None:
        self.cron = " ".join(cron.split())
        self.zone = zone
        self._zone = zone_of(zone)
        if len(self.cron.split()) != len(FIELDS):
            found = f"found {cron!r:.80}; expected five fields: {', '.join(FIELDS)}"
            raise BadRecurrence("cron", f"{found}. `30 2 * * *` is half past two each night")
        try:
            self._spec = CronSim(self.cron, datetime(2024, 1, 1, tzinfo=UTC))
            first = next(self._spec, None)
        except CronSimError as error:
            wrong = str(error).removeprefix("Bad ")
            raise BadRecurrence("cron", f"found {cron!r:.80}: its {wrong} is not right") from None
        if first is None:
            raise BadRecurrence("cron", f"found {cron!r:.80}, which never comes true")
        self._known: dict[date, list[int]] = {}
        self._by_clock = not any(field.startswith("*") for field in self.cron.split()[:2])

    def after(self, at: int) -> Iterator[int]:
        """The planned times after a time, in order."""
        day = self._local(at).date() - DAY
        while day.year < LAST_YEAR:
            for found in self._of_day(day):
                if found > at:
                    yield found
                    at = found  # the end of a gap can come of several local times
            day += DAY

    def before(self, at: int) -> Iterator[int]:
        """The planned times up to and with a time, newest first."""
        at += 1
        day = self._local(at).date() + DAY
        while day.year > 1970:
            for found in reversed(self._of_day(day)):
                if found < at:
                    yield found
                    at = found
            day -= DAY

    def next_after(self, at: int) -> int | None:
        """The first planned time after a time; None if there is none in the calendar."""
        return next(self.after(at), None)

    def text(self, at: int) -> str:
        """A planned time as RFC 3339 text with the zone's offset."""
        return self._local(at).isoformat()

    def _local(self, at: int) -> datetime:
        return datetime.fromtimestamp(at // MICRO, self._zone)

    def _of_day(self, day: date) -> list[int]:
        """The planned times of a local day, in order."""
        if day.month not in self._spec.months or not self._spec.match_day(day):
            return []
        if day not in self._known:
            if len(self._known) > KNOWN_DAYS:
                self._known.clear()
            times = self._by_the_clock(day) if self._by_clock else self._by_real_time(day)
            self._known[day] = sorted({round(found.timestamp()) * MICRO for found in times})
        return self._known[day]

    def _by_the_clock(self, day: date) -> Iterator[datetime]:
        for hour in self._spec.hours:
            for minute in self._spec.minutes:
                yield self._first(datetime.combine(day, time(hour, minute)))

    def _by_real_time(self, day: date) -> Iterator[datetime]:
        at = self._first(datetime.combine(day, time())).astimezone(UTC)
        end = self._first(datetime.combine(day + DAY, time())).astimezone(UTC)
        while at < end:
            block = at.astimezone(self._zone)
            if block.hour in self._spec.hours:
                for minute in self._spec.minutes:
                    if 0 <= minute - block.minute < 15:
                        yield at + (minute - block.minute) * MINUTE
            at += BLOCK

    def _first(self, local: datetime) -> datetime:
        """When a clock on the wall first shows a time, or passes over it."""
        at = local.replace(tzinfo=self._zone)
        while at.astimezone(UTC).astimezone(self._zone) != at:
            at += MINUTE
        return at


class Interval:
    """A time again and again after the same interval, however long what it starts takes.

    Args:
        every: whole seconds.
        first: the first time, in microseconds since 1970 UTC.
        zone: in which times are shown, an IANA name.
    """

    def __init__(self, every: int, first: int, zone: str = "UTC") -> None:
        self.every, self.first = every * MICRO, first // MICRO * MICRO
        self._zone = zone_of(zone)

    def after(self, at: int) -> Iterator[int]:
        """The planned times after a time, in order."""
        planned = self.first
        if at >= self.first:
            planned += ((at - self.first) // self.every + 1) * self.every
        while planned // MICRO < _LAST_SECOND:
            yield planned
            planned += self.every

    def before(self, at: int) -> Iterator[int]:
        """The planned times up to and with a time, newest first."""
        planned = self.first + (at - self.first) // self.every * self.every
        while planned >= self.first:
            yield planned
            planned -= self.every

    def next_after(self, at: int) -> int | None:
        """The first planned time after a time."""
        return next(self.after(at), None)

    def text(self, at: int) -> str:
        """A planned time as RFC 3339 text with the zone's offset."""
        return datetime.fromtimestamp(at // MICRO, self._zone).isoformat()


_LAST_SECOND = int(datetime(LAST_YEAR, 1, 1, tzinfo=UTC).timestamp())

Times = Recurrence | Interval

_RANGES = (60, 24, 31, 12, 7)
_UNITS = ("m", "h", "d", "", "")


def step_problem(cron: str) -> str:
    """Say which step of a cron expression is not below its field's range; empty if none is.

    Such a step comes true once in each hour, day or year, and not after the interval that it names.
    """
    for place, step in _steps(cron):
        if step >= _RANGES[place]:
            unit = _UNITS[place]
            instead = f'; give every="{step}{unit}" instead' if unit else ""
            return (
                f"its {FIELDS[place]} has the step {step}, of a range of {_RANGES[place]}, so it "
                f"comes true only at the first{instead}"
            )
    return ""


def step_remark(cron: str) -> str:
    """Say which step of a cron expression leaves a shorter gap at the end of its range."""
    for place, step in _steps(cron):
        if step < _RANGES[place] and _RANGES[place] % step and _UNITS[place]:
            around = ("hour", "day", "month")[place]
            return (
                f"its {FIELDS[place]} has the step {step}, so that the last gap of each {around} "
                f'is another than the others; every="{step}{_UNITS[place]}" is even'
            )
    return ""


def _steps(cron: str) -> Iterator[tuple[int, int]]:
    """The steps of all fields, each with the field's place."""
    for place, field in enumerate(cron.split()[: len(FIELDS)]):
        for part in field.split(","):
            start, slash, step = part.partition("/")
            if slash and step.isdigit() and int(step) and start == "*":
                yield place, int(step)


@functools.cache
def zone_of(name: str) -> ZoneInfo:
    """A time zone by its IANA name.

    Raises:
        BadRecurrence: there is none of that name.
    """
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        hint = nearest(name, sorted(available_timezones()))
        message = f"there is no time zone {name!r:.60}{hint}"
        raise BadRecurrence("zone", message) from None
