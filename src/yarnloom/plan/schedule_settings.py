"""What can be said of a schedule, and whether it makes sense: for looms, the service, the command.

A schedule's settings are a JSON object; those that are not given are as in `SETTINGS`.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from yarnloom.errors import Problem, nearest
from yarnloom.recurrence import BadRecurrence, Recurrence
from yarnloom.values import JsonObject

IfBusyText = Literal["wait", "skip", "replace", "start"]
MissedText = Literal["one", "all", "none"]
IF_BUSY = ("wait", "skip", "replace", "start")
MISSED = ("one", "all", "none")

SETTINGS: JsonObject = {
    "workflow": "",
    "params": {},
    "cron": "",
    "zone": "UTC",
    "if_busy": "wait",
    "missed": "one",
    "priority": 0,
    "share": "",
    "tags": [],
    "note": "",
}
"""All that can be set, and what holds where it is not."""


def problems_of_settings(settings: Mapping[str, Any]) -> list[Problem]:
    """Everything that is wrong with settings of themselves, each with its JSON Pointer."""
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
    if not filled["cron"]:
        found.append(Problem("/cron", "missing; `30 2 * * *` is half past two each night"))
    # Each is tried beside a right one, so that the field with the mistake is named.
    for cron, zone in ((filled["cron"] or "* * * * *", "UTC"), ("* * * * *", filled["zone"])):
        try:
            Recurrence(cron, zone)
        except BadRecurrence as error:
            found.append(Problem(f"/{error.field}", str(error)))
    if filled["missed"] == "all" and filled["if_busy"] != "start":
        message = (
            "missed='all' starts one run for each time that was missed, so runs of it must be "
            "allowed side by side: if_busy='start'"
        )
        found.append(Problem("/missed", message))
    return found
