"""Schedules: make, change, remove, start now, list."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class MakeSchedule(Command):
    """Make a schedule by hand; the answer is the schedule.

    Attributes:
        settings: as of `engine.scheduling.SETTINGS`.
        paused: whether it is made paused.
    """

    name: str
    settings: JsonObject
    who: str
    reason: str = ""
    paused: bool = False


@dataclass(frozen=True, slots=True)
class ChangeSchedule(Command):
    """Change a schedule; the answer is the schedule.

    Attributes:
        changes: of its settings.
        paused: True pauses it, False lets it go on.
        as_declared: first forget earlier changes by hand.
    """

    name: str
    changes: JsonObject
    who: str
    reason: str = ""
    paused: bool | None = None
    as_declared: bool = False


@dataclass(frozen=True, slots=True)
class RemoveSchedule(Command):
    """Remove a schedule that no loom declares; runs that it started stay."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class StartSchedule(Command):
    """Start what a schedule starts, now; the answer is as to `StartRun`."""

    name: str
    key: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListSchedules(Command):
    """The schedules as they are now, or one of them; the answer is a list."""

    is_query = True

    name: str | None = None
