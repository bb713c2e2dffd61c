"""What can be said of a schedule, and whether it makes sense: for looms, the service, the command.

A schedule's settings are a JSON object; those that are not given are as in `SETTINGS`.
"""

from __future__ import annotations

import functools
import hashlib
from collections.abc import Mapping
from datetime import datetime
from itertools import islice, pairwise
from typing import Any, Literal

from yarnloom.errors import Problem, nearest
from yarnloom.recurrence import (
    MICRO,
    BadRecurrence,
    Interval,
    Recurrence,
    Times,
    step_problem,
    zone_of,
)
from yarnloom.units import duration_text, micros, seconds
from yarnloom.values import JsonObject

IfBusyText = Literal["wait", "skip", "replace", "start"]
MissedText = Literal["one", "all", "none"]
IF_BUSY = ("wait", "skip", "replace", "start")
MISSED = ("one", "all", "none")

SETTINGS: JsonObject = {
    "workflow": "",
    "params": {},
    "cron": "",
    "every": "",
    "first": "",
    "spread": "",
    "zone": "UTC",
    "if_busy": "wait",
    "missed": "one",
    "priority": 0,
    "share": "",
    "tags": [],
    "note": "",
}
"""All that can be set, and what holds where it is not."""


def problems_of_settings(settings: Mapping[str, Any], known_cron: str = "") -> list[Problem]:
    """Everything that is wrong with settings of themselves, each with its JSON Pointer.

    Args:
        settings: those that are given.
        known_cron: the expression that it has already, which goes on with a remark.
    """
    found = []
    for name in settings.keys() - SETTINGS.keys():
        found.append(Problem(f"/{name}", f"there is no such setting{nearest(name, SETTINGS)}"))
    filled = {**SETTINGS, **settings}
    for name, default in SETTINGS.items():
        value = filled[name]
        if type(value) is not type(default):
            kind = {"str": "text", "dict": "an object", "list": "a list", "int": "a whole number"}
            expected = kind[type(default).__name__]
            found.append(Problem(f"/{name}", f"found {value!r:.60}; expected {expected}"))
    if found:
        return found
    for name, allowed in (("if_busy", IF_BUSY), ("missed", MISSED)):
        if filled[name] not in allowed:
            message = f"found {filled[name]!r:.60}; expected {', '.join(allowed)}"
            found.append(Problem(f"/{name}", message))
    if not -1000 <= filled["priority"] <= 1000:
        message = f"found {filled['priority']}; expected -1000 to 1000"
        found.append(Problem("/priority", message))
    if not filled["workflow"]:
        found.append(Problem("/workflow", "missing; say which workflow it starts"))
    found += _problems_of_times(filled, known_cron)
    if filled["missed"] == "all" and filled["if_busy"] != "start":
        message = (
            "missed='all' starts one run for each time that was missed, so runs of it must be "
            "allowed side by side: if_busy='start'"
        )
        found.append(Problem("/missed", message))
    return found


def _problems_of_times(filled: JsonObject, known_cron: str) -> list[Problem]:
    """Mistakes in the times at which it comes."""
    found = []
    cron, every = filled["cron"], filled["every"]
    if not cron and not every:
        found.append(Problem("/cron", "missing; `30 2 * * *` is half past two each night"))
    if cron and every:
        found.append(Problem("/every", "found cron too; give one of both"))
    if filled["first"] and not every:
        found.append(Problem("/first", "it is the first time of every=; give that too"))
    # Each is tried beside a right one, so that the field with the mistake is named.
    for one, zone in ((cron or "* * * * *", "UTC"), ("* * * * *", filled["zone"])):
        try:
            Recurrence(one, zone)
        except BadRecurrence as error:
            found.append(Problem(f"/{error.field}", str(error)))
    if not found and cron != known_cron and (wrong := step_problem(cron)):
        found.append(Problem("/cron", f"found {cron!r:.80}: {wrong}"))
    for name in ("every", "spread", "first"):
        if filled[name] and (wrong := _wrong_length(filled, name)):
            found.append(Problem(f"/{name}", wrong))
    if not found and filled["spread"]:
        shortest = _shortest_gap(times_of(filled, 0))
        if seconds(filled["spread"]) * MICRO >= shortest:
            gap = duration_text(shortest / MICRO)
            text = f"found {filled['spread']!r}; expected less than {gap}, the shortest gap"
            found.append(Problem("/spread", text))
    return found


def _wrong_length(filled: JsonObject, name: str) -> str:
    """A mistake in an interval, a spread or a first time; empty if nothing."""
    try:
        if name == "first":
            first_of(filled)
            return ""
        length = seconds(filled[name])
    except ValueError as error:
        return str(error)
    whole = length >= 1 and not length % 1
    return "" if whole else f"found {filled[name]!r}; expected whole seconds, at least one"


def _shortest_gap(times: Times) -> int:
    planned = list(islice(times.after(_ANY_TIME), 400))
    return min(
        (after - before for before, after in pairwise(planned)), default=365 * 86_400 * MICRO
    )


_ANY_TIME = 1_767_225_600 * MICRO  # 2026-01-01


def first_of(settings: Mapping[str, Any]) -> int | None:
    """The first time of an interval, in microseconds since 1970 UTC; None if it is not given.

    Raises:
        ValueError: it is no time.
    """
    text = settings["first"]
    if not text:
        return None
    try:
        at = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(
            f"found {text!r:.60}; expected a time, as 2027-03-01T06:00 or with an offset"
        ) from None
    return micros(at if at.tzinfo else at.replace(tzinfo=zone_of(settings["zone"])))


def times_of(settings: Mapping[str, Any], made_at: int) -> Times:
    """The planned times of settings that are right.

    Args:
        settings: all of them.
        made_at: when the schedule was made, the first time of an interval without `first`.
    """
    if settings["every"]:
        first = first_of(settings)
        every = round(seconds(settings["every"]))
        return Interval(every, made_at if first is None else first, settings["zone"])
    return known_recurrence(settings["cron"], settings["zone"])


@functools.lru_cache(1_000)
def known_recurrence(cron: str, zone: str) -> Recurrence:
    """Return the times of an expression that was checked before."""
    return Recurrence(cron, zone)


def spread_of(name: str, settings: Mapping[str, Any], planned: int) -> int:
    """By how many microseconds a planned time is moved: always the same for the same time."""
    if not settings["spread"]:
        return 0
    digest = hashlib.sha256(f"{name} {planned // MICRO}".encode()).digest()
    return int.from_bytes(digest[:8], "big") % round(seconds(settings["spread"])) * MICRO
