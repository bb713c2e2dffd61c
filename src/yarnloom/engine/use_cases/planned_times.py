"""When schedules come, before they are saved."""

from __future__ import annotations

from itertools import islice

from yarnloom.errors import InvalidInput
from yarnloom.plan.schedule_settings import SETTINGS, problems_of_settings, times_of
from yarnloom.values import JsonObject

SHOWN = 5
"""How many planned times are shown."""


def next_times(settings: JsonObject, now: int, count: int = SHOWN) -> list[str]:
    """Return the next planned times of a schedule, as text.

    Args:
        settings: `cron`, or `every` and `first`, and `zone`, as far as they are given.
        now: as the schedule would be made now.
        count: how many.

    Raises:
        InvalidInput: they are not right.
    """
    problems = problems_of_settings({"workflow": "any", **settings})
    if problems:
        raise InvalidInput("no times were found", problems=problems)
    times = times_of({**SETTINGS, **settings}, now)
    return [times.text(at) for at in islice(times.after(now), count)]
