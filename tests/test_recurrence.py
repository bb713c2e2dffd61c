"""Planned times against an independent calculation, which walks through every minute or day."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, timedelta
from itertools import islice
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom.recurrence import MICRO, BadRecurrence, Recurrence

MINUTE = timedelta(minutes=1)
ZONES = ("Europe/Lisbon", "America/New_York", "Australia/Lord_Howe")  # the last one by half an hour
CHANGES = {
    "Europe/Lisbon": ("2026-03-29", "2026-10-25"),
    "America/New_York": ("2026-03-08", "2026-11-01"),
    "Australia/Lord_Howe": ("2026-04-05", "2026-10-04"),
}
MORE_CHANGES = [(zone, day) for zone, days in CHANGES.items() for day in days]


def micros(at: datetime) -> int:
    """As the store has it."""
    return round(at.timestamp()) * MICRO


def numbers(field: str, first: int, last: int) -> set[int]:
    """What a field of an expression means."""
    found: set[int] = set()
    for term in field.split(","):
        span, _, step = term.partition("/")
        low, _, high = span.partition("-")
        begin, end = (first, last) if span == "*" else (int(low), int(high or low))
        end = last if step and span != "*" and not high else end
        found |= set(range(begin, end + 1, int(step or 1)))
    return found


def matches_day(cron: str, day: date) -> bool:
    """Whether an expression means a day: both of its day fields, or with two of them either."""
    _, _, days, months, weekdays = cron.split()
    if day.month not in numbers(months, 1, 12):
        return False
    by_day = day.day in numbers(days, 1, 31)
    by_week = day.isoweekday() % 7 in {number % 7 for number in numbers(weekdays, 0, 7)}
    both = days.startswith("*") or weekdays.startswith("*")
    return (by_day and by_week) if both else (by_day or by_week)


def exists(local: datetime) -> bool:
    """Whether a clock on the wall ever shows it."""
    return local.astimezone(UTC).astimezone(local.tzinfo) == local


def all_times(cron: str, zone: str, begin: datetime, end: datetime) -> list[int]:
    """Every planned time from one moment to another."""
    minute, hour = cron.split()[:2]
    minutes, hours = numbers(minute, 0, 59), numbers(hour, 0, 23)
    found: Iterable[datetime]
    if "*" in (minute[0], hour[0]):
        found = _by_real_minutes(cron, zone, begin, end, minutes, hours)
    else:
        found = _by_local_days(cron, zone, begin, end, minutes, hours)
    return sorted({micros(at) for at in found if begin <= at < end})


def _by_real_minutes(
    cron: str, zone: str, begin: datetime, end: datetime, minutes: set[int], hours: set[int]
) -> Iterator[datetime]:
    at = begin.replace(second=0, microsecond=0)
    while at < end:
        local = at.astimezone(ZoneInfo(zone))
        if local.minute in minutes and local.hour in hours and matches_day(cron, local.date()):
            yield at
        at += MINUTE


def _by_local_days(
    cron: str, zone: str, begin: datetime, end: datetime, minutes: set[int], hours: set[int]
) -> Iterator[datetime]:
    day = begin.date() - timedelta(days=2)
    while day <= end.date() + timedelta(days=2):
        if matches_day(cron, day):
            for hour in hours:
                for minute in minutes:
                    local = datetime(day.year, day.month, day.day, hour, minute)
                    at = local.replace(tzinfo=ZoneInfo(zone))
                    while not exists(at):  # the gap's end
                        local += MINUTE
                        at = local.replace(tzinfo=ZoneInfo(zone))
                    yield at.astimezone(UTC)
        day += timedelta(days=1)


def check(cron: str, zone: str, begin: datetime, end: datetime) -> None:
    """Forwards and backwards the same times come, as by the calculation."""
    expected = all_times(cron, zone, begin, end)
    recurrence = Recurrence(cron, zone)
    first, last = micros(begin) - 1, micros(end) - 1
    forwards = list(islice(recurrence.after(first), len(expected) + 1))
    backwards = list(islice(recurrence.before(last), len(expected) + 1))

    assert [at for at in forwards if at <= last] == expected
    assert [at for at in backwards if at > first] == expected[::-1]


@pytest.mark.parametrize(("zone", "day"), MORE_CHANGES)
@pytest.mark.parametrize(
    "cron",
    [
        "30 1 * * *",
        "0 2 * * *",
        "15 2 * * *",
        "30 2 * * *",
        "59 1-3 * * *",
        "0,30 0-5 * * *",
        "*/20 * * * *",
        "10 * * * *",
        "*/15 2 * * *",
        "30 */2 * * *",
        "45 23 * * *",
        "0 0 * * 0",
        "0 3 29 3 *",
    ],
)
def test_around_changes_of_the_clock(zone: str, day: str, cron: str) -> None:
    """Half a week around each change, forwards and back."""
    middle = datetime.fromisoformat(day).replace(tzinfo=UTC)
    check(cron, zone, middle - timedelta(days=2), middle + timedelta(days=2))


def test_the_gap_s_end_and_the_first_of_two() -> None:
    """Spelled out for one zone."""
    recurrence = Recurrence("30 2 * * *", "Europe/Berlin")
    spring = micros(datetime(2026, 3, 28, 12, tzinfo=UTC))
    autumn = micros(datetime(2026, 10, 24, 12, tzinfo=UTC))

    assert [recurrence.text(at) for at in islice(recurrence.after(spring), 2)] == [
        "2026-03-29T03:00:00+02:00",
        "2026-03-30T02:30:00+02:00",
    ]
    assert [recurrence.text(at) for at in islice(recurrence.after(autumn), 2)] == [
        "2026-10-25T02:30:00+02:00",
        "2026-10-26T02:30:00+01:00",
    ]


@pytest.mark.parametrize("zone", ZONES)
def test_leap_days(zone: str) -> None:
    """One in four years, and by weekday too."""
    begin = datetime(2026, 1, 1, tzinfo=UTC)
    check("0 12 29 2 *", zone, begin, datetime(2033, 1, 1, tzinfo=UTC))
    check("0 12 28,29 2 *", zone, begin, datetime(2029, 1, 1, tzinfo=UTC))
    check("30 0 29 2 2", zone, datetime(2028, 1, 1, tzinfo=UTC), datetime(2028, 4, 1, tzinfo=UTC))


def _field(first: int, last: int) -> st.SearchStrategy[str]:
    number = st.integers(first, last)
    some = st.lists(number, min_size=1, max_size=3, unique=True).map(
        lambda found: ",".join(map(str, sorted(found)))
    )
    span = st.tuples(number, number).map(lambda pair: f"{min(pair)}-{max(pair)}")
    step = st.sampled_from([2, 3, 5, 7]).map(lambda every: f"*/{every}")
    return st.one_of(st.just("*"), some, span, step)


@given(
    cron=st.tuples(_field(0, 59), _field(0, 4), _field(1, 28), st.just("*"), _field(0, 6)).map(
        " ".join
    ),
    change=st.sampled_from(MORE_CHANGES),
    shift=st.integers(-2_000, 2_000),
)
def test_any_expression_around_a_change(cron: str, change: tuple[str, str], shift: int) -> None:
    """Random expressions of the night, begun at random minutes near a change."""
    zone, day = change
    begin = datetime.fromisoformat(day).replace(tzinfo=UTC) + shift * MINUTE
    check(cron, zone, begin, begin + timedelta(hours=30))


@pytest.mark.parametrize(
    ("cron", "zone", "field", "said"),
    [
        ("61 * * * *", "UTC", "cron", "its minute is not right"),
        ("* 24 * * *", "UTC", "cron", "its hour is not right"),
        ("* * *", "UTC", "cron", "expected five fields"),
        ("0 * * * * *", "UTC", "cron", "expected five fields"),
        ("", "UTC", "cron", "expected five fields"),
        ("0 0 31 2 *", "UTC", "cron", "its day-of-month is not right"),
        ("0 0 31 4,6 *", "UTC", "cron", "its day-of-month is not right"),
        ("* * * * *", "Europe/Lisbo", "zone", "did you mean 'Europe/Lisbon'"),
        ("* * * * *", "../../etc/passwd", "zone", "there is no time zone"),
        ("* * * * *", "", "zone", "there is no time zone"),
    ],
)
def test_what_makes_no_sense_is_said(cron: str, zone: str, field: str, said: str) -> None:
    """Which of the two, and what of it."""
    with pytest.raises(BadRecurrence, match=said) as refused:
        Recurrence(cron, zone)

    assert refused.value.field == field


def test_the_end_of_the_calendar_is_no_trap() -> None:
    """Nothing comes after it."""
    end = micros(datetime(9990, 12, 31, 23, tzinfo=UTC))
    assert Recurrence("0 0 1 1 *", "Europe/Lisbon").next_after(end) is None
