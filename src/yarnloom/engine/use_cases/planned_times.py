"""When cron expressions come true."""

from __future__ import annotations

import functools
from itertools import islice

from yarnloom.errors import InvalidInput, Problem
from yarnloom.recurrence import BadRecurrence, Recurrence

SHOWN = 5
"""How many planned times are shown."""


def next_times(cron: str, zone: str, now: int, count: int = SHOWN) -> list[str]:
    """Return the next planned times of an expression, as text.

    Raises:
        InvalidInput: the expression or the zone is not right.
    """
    try:
        recurrence = Recurrence(cron, zone)
    except BadRecurrence as error:
        message = "no times were found"
        raise InvalidInput(message, problems=[Problem(f"/{error.field}", str(error))]) from None
    return [recurrence.text(at) for at in islice(recurrence.after(now), count)]


@functools.lru_cache(1_000)
def known_recurrence(cron: str, zone: str) -> Recurrence:
    """Return the times of an expression that was checked before."""
    return Recurrence(cron, zone)
