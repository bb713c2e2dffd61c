"""Saved filters of the list of runs."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class SaveFilter(Command):
    """Keep a filter of the list of runs by name; the answer is the filter.

    Attributes:
        wanted: the query of the list, by the names of its fields.
    """

    name: str
    wanted: JsonObject
    who: str


@dataclass(frozen=True, slots=True)
class DropFilter(Command):
    """Forget a saved filter."""

    name: str
    who: str
    reason: str = ""
