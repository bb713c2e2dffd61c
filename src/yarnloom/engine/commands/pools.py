"""Pools: make, change, remove, list."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class MakePool:
    """Make a pool; the answer is the pool.

    Attributes:
        changes: `limit`, `rate` (as JSON) and `note`, as far as they are given.
    """

    name: str
    changes: JsonObject
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ChangePool:
    """Change a pool; the answer is the pool.

    Attributes:
        changes: as of `MakePool`.
        paused: True pauses it, False lets it go on.
        as_declared: first forget what was set by hand before.
    """

    name: str
    changes: JsonObject
    who: str
    reason: str = ""
    paused: bool | None = None
    as_declared: bool = False


@dataclass(frozen=True, slots=True)
class RemovePool:
    """Remove a pool that nothing names."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListPools:
    """The pools as they are now, or one of them; the answer is a list."""

    name: str | None = None
