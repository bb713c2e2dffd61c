"""Queries that only the engine can answer."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from yarnloom.engine.commands.command import Command


@dataclass(frozen=True, slots=True)
class Unfold(Command):
    """Give rows to some items in batches that a mend of a run may change; whether more are left.

    Attributes:
        every: all items of the run, also those that are done later.
    """

    run: int
    every: bool = False


@dataclass(frozen=True, slots=True)
class Why(Command):
    """What a run, or a part of it, waits for.

    Attributes:
        rank: where it stands; empty for all of the run.
        item: the row of the item that it stands in; None if it stands in none.
        waiters: attempts in which a task waits for another run, and for which.
        order: whether it is told who comes before, for which all that waits is looked at.
    """

    is_query = True

    run: int
    rank: bytes = b""
    item: int | None = None
    waiters: Mapping[int, int] = field(default_factory=dict)
    order: bool = True


@dataclass(frozen=True, slots=True)
class ListQuiet(Command):
    """Return the runs of which something runs that says nothing of its progress for too long."""

    is_query = True


@dataclass(frozen=True, slots=True)
class Recently(Command):
    """The last hour by minute: what began and ended, or with a pool how full that was."""

    is_query = True

    pool: str | None = None


@dataclass(frozen=True, slots=True)
class PoolQueue(Command):
    """Return who waits for a pool, in which order and why."""

    is_query = True

    name: str


@dataclass(frozen=True, slots=True)
class RunsInPool(Command):
    """Return the runs with items that have no rows and use a pool, or wait for it."""

    is_query = True

    name: str
