"""Pools: make, change, remove, list."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class MakePool(Command):
    """Make a pool; the answer is the pool.

    Attributes:
        changes: `limit`, `rate` (as JSON) and `note`, as far as they are given.
    """

    name: str
    changes: JsonObject
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ChangePool(Command):
    """Change a pool; the answer is the pool.

    Attributes:
        changes: as of `MakePool`.
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
class RemovePool(Command):
    """Remove a pool that nothing names."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListPools(Command):
    """The pools as they are now, or one of them; the answer is a list."""

    is_query = True

    name: str | None = None
