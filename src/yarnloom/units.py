"""Durations and sizes as people write them: `"1m 30s"`, `0.5`, `timedelta(hours=2)`, `"500 MB"`."""

from __future__ import annotations

import math
import re
from datetime import UTC, datetime, timedelta
from functools import lru_cache

Duration = float | int | str | timedelta
"""Seconds as a number, text such as `"250ms"`, `"30s"` or `"1h 30m"`, or a timedelta."""

Size = int | str
"""Bytes as a number, or text such as `"500 MB"`."""

_SECONDS = {"ms": 0.001, "s": 1.0, "min": 60.0, "m": 60.0, "h": 3_600.0, "d": 86_400.0}
_BYTES = {"kb": 2**10, "mb": 2**20, "gb": 2**30}
_PIECE = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|min|s|m|h|d)\s*")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(kb|mb|gb)\Z", re.IGNORECASE)
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
LONGEST = 366 * 86_400.0


def micros(at: datetime | None) -> int | None:
    """Microseconds since 1970 UTC."""
    return None if at is None else (at - EPOCH) // timedelta(microseconds=1)


def seconds(value: Duration) -> float:
    """A duration in seconds.

    Raises:
        ValueError: it is none, is negative, or is longer than a year.
    """
    if isinstance(value, timedelta):
        found: float | None = value.total_seconds()
    elif isinstance(value, str):
        found = _seconds_of(value.strip().lower())
    elif isinstance(value, bool) or not isinstance(value, int | float):
        found = None
    else:
        found = float(value) if abs(value) <= LONGEST else None
    if found is None or not math.isfinite(found) or not 0 <= found <= LONGEST:
        raise ValueError(
            f"found {value!r:.60}; expected a duration of at most a year: seconds as a number, or "
            "text as '250ms', '30s', '1h 30m', '2d'"
        )
    return found


def _seconds_of(text: str) -> float | None:
    pieces = _PIECE.findall(text)
    if not pieces or _PIECE.sub("", text):
        return None
    return sum(float(number) * _SECONDS[unit] for number, unit in pieces)


def size(value: Size) -> int:
    """A size in bytes; a kilobyte has 1,024 of them.

    Raises:
        ValueError: it is none.
    """
    if type(value) is int and value > 0:
        return value
    if isinstance(value, str) and (found := _SIZE.match(value.strip())):
        return round(float(found[1]) * _BYTES[found[2].lower()])
    raise ValueError(
        f"found {value!r:.60}; expected a size: bytes as a number, or text as '500 MB', '2 GB'"
    )


def duration_text(value: float) -> str:
    """A duration in words, exactly: "1 h 30 min", "250 ms"."""
    if value < 1:
        return f"{value * 1000:g} ms"
    if value < 60:
        return f"{value:g} s"
    found = []
    for unit in ("d", "h", "min", "s"):
        count, value = divmod(value, _SECONDS[unit])
        if count:
            found.append(f"{count:g} {unit}")
    return " ".join(found)


def seconds_text(seconds: float) -> str:
    """Return a duration with the one or two units that matter: "1.2 s", "3 min 20 s"."""
    seconds = max(0.0, seconds)
    if seconds < 0.001:
        return "<1 ms"
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes} min {rest} s"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if hours < 48 else f"{hours // 24} days"


def whole_millis(at: str) -> int:
    """Return an RFC 3339 time in whole milliseconds, as a browser reads it.

    A duration from one to another is the same wherever it is shown.
    """
    return int(datetime.fromisoformat(at).timestamp() * 1_000)


def took_text(seconds: float) -> str:
    """How long something took, in the one or two units that matter: "36 ms", "5 min 42 s"."""
    if seconds < 0.001:
        return "<1 ms"
    if seconds < 1:
        return f"{round(seconds * 1000)} ms"
    if seconds < 60:
        return f"{seconds:.1f} s" if seconds < 10 else f"{round(seconds)} s"
    minutes = int(seconds // 60)
    if minutes < 60:
        return f"{minutes} min {int(seconds % 60)} s"
    hours = minutes // 60
    return f"{hours} h {minutes % 60} min" if hours < 48 else f"{hours // 24} days"


def size_text(value: int) -> str:
    """A size in words: "500 MB"."""
    for unit in ("gb", "mb"):
        if value >= _BYTES[unit]:
            return f"{value / _BYTES[unit]:.3g} {unit.upper()}"
    if value < 2**10:
        return "1 byte" if value == 1 else f"{value} bytes"
    return f"{value / 2**10:.3g} KB"


MOST_NUMBER = 2**53
"""The largest number of a run, an attempt, a line: every program reads it exactly."""


def whole_number(text: str) -> int | None:
    """Return the number that a text of digits 0 to 9 stands for, up to `MOST_NUMBER`; else None."""
    if not (text.isascii() and text.isdecimal() and len(text) <= 16):
        return None
    return number if (number := int(text)) <= MOST_NUMBER else None


def iso_time(micros: int | None) -> str | None:
    """A time as RFC 3339 text in UTC, to the microsecond."""
    if micros is None:
        return None
    seconds, rest = divmod(micros, 1_000_000)
    return f"{_whole_second(seconds)}.{rest:06d}Z"


@lru_cache(maxsize=1_024)  # times of one answer lie close together
def _whole_second(seconds: int) -> str:
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%dT%H:%M:%S}"
