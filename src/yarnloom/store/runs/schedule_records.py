"""Statements of the writer about what happens at a time: runs that start later, schedules.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field, fields

from yarnloom.store.select import Columns, Record
from yarnloom.store.unit_of_work import Unit

# Runs

_AHEAD = "admission = -1 AND state <> 'paused' AND ended_at IS NULL"
_EXPIRES = "start_by IS NOT NULL AND started_at IS NULL AND ended_at IS NULL AND stop IS NULL"


def runs_to_open(unit: Unit, now: int, wall: int, limit: int) -> list[int]:
    """Runs whose start time has come and that were not opened yet, the oldest first.

    Args:
        unit: the transaction.
        now: the time that durations follow.
        wall: the time of day.
        limit: how many at most.
    """
    unit.flush()
    found = unit.execute(
        f"SELECT number FROM runs WHERE {_AHEAD} AND coalesce(start_at, 0) <= ?"
        " AND (after_a_while OR coalesce(start_at, 0) <= ?)"
        " ORDER BY coalesce(start_at, 0), number LIMIT ?",
        (now, wall, limit),
    )
    return [number for (number,) in found]


def next_to_open(unit: Unit, ahead: int) -> int | None:
    """When the next run is opened, by the time that durations follow.

    Args:
        unit: the transaction.
        ahead: by how much that is ahead of the time of day.
    """
    least = f"SELECT min(coalesce(start_at, 0)) FROM runs WHERE {_AHEAD}"
    if not ahead:
        return unit.least(least)
    found = (unit.least(f"{least} AND after_a_while"), unit.least(f"{least} AND NOT after_a_while"))
    times = [at + more for at, more in zip(found, (0, ahead), strict=True) if at is not None]
    return min(times, default=None)


def move_waits(unit: Unit, micros: int) -> None:
    """The clock was set forward: what waits for so long, and not for a time of day, still does."""
    unit.reread()
    for table, column, where in _DURATIONS:
        unit.change(f"UPDATE {table} SET {column} = {column} + ? WHERE {where}", (micros,))


_DURATIONS = (
    ("steps", "due_at", "due_at IS NOT NULL"),
    ("steps", "deadline_at", "deadline_at IS NOT NULL AND ended_at IS NULL"),
    ("steps", "paused_micros", "tries > 0 AND ended_at IS NULL"),
    ("runs", "deadline_at", "deadline_at IS NOT NULL AND ended_at IS NULL"),
    ("runs", "start_at", f"after_a_while AND {_AHEAD}"),
)
"""What is kept as a time and was given as a duration."""


def runs_to_expire(unit: Unit, now: int, limit: int) -> list[int]:
    """Runs that have not begun by the time by which they were to; those that are mended may."""
    unit.flush()
    sql = f"SELECT number FROM runs WHERE {_EXPIRES} AND start_by <= ? AND round = 1 LIMIT ?"
    return [number for (number,) in unit.execute(sql, (now, limit))]


def next_to_expire(unit: Unit) -> int | None:
    """When the next run has to have begun."""
    return unit.least(f"SELECT min(start_by) FROM runs WHERE {_EXPIRES} AND round = 1")


# Schedules


@dataclass(slots=True)
class ScheduleRow:
    """A row of `schedules`; what each field means is in `schema.sql`."""

    name: str
    loom: str | None
    created_at: int
    created_by: str
    declared: Record
    by_hand: Record = field(default_factory=dict)
    paused: Record | None = None
    next_at: int | None = None
    waiting_at: int | None = None
    last: Record | None = None
    passed_over: int = 0


_NAMES = [one.name for one in fields(ScheduleRow)]
_JSON = frozenset({"declared", "by_hand", "paused", "last"})
_SELECT = f"SELECT {', '.join(_NAMES)} FROM schedules"


def _row(record: Columns) -> ScheduleRow:
    pairs = zip(_NAMES, record, strict=True)
    return ScheduleRow(
        **{
            name: json.loads(value) if name in _JSON and value is not None else value
            for name, value in pairs
        }
    )


def schedules(unit: Unit) -> list[ScheduleRow]:
    """Every schedule, by name."""
    return [_row(record) for record in unit.execute(f"{_SELECT} ORDER BY name")]


def schedule(unit: Unit, name: str) -> ScheduleRow | None:
    """The schedule of that name."""
    found = unit.execute(f"{_SELECT} WHERE name = ?", (name,))
    return _row(found[0]) if found else None


def schedules_due(unit: Unit, now: int, limit: int) -> list[ScheduleRow]:
    """Schedules whose next time has come, by that time."""
    sql = f"{_SELECT} WHERE next_at IS NOT NULL AND next_at <= ? ORDER BY next_at, name LIMIT ?"
    return [_row(record) for record in unit.execute(sql, (now, limit))]


def next_firing(unit: Unit) -> int | None:
    """When the next schedule falls due."""
    return unit.least("SELECT min(next_at) FROM schedules WHERE next_at IS NOT NULL")


def keep_schedule(unit: Unit, row: ScheduleRow) -> None:
    """Write a schedule, new or changed."""
    values = [
        json.dumps(value) if name in _JSON and value is not None else value
        for name, value in asdict(row).items()
    ]
    places = ", ".join("?" * len(_NAMES))
    unit.change(f"INSERT OR REPLACE INTO schedules ({', '.join(_NAMES)}) VALUES ({places})", values)


def drop_schedule(unit: Unit, name: str) -> None:
    """Forget a schedule; its runs stay."""
    unit.change("DELETE FROM schedules WHERE name = ?", (name,))


def unfinished_of_schedule(unit: Unit, name: str) -> list[int]:
    """Runs that a schedule started and that have not ended, oldest first."""
    unit.flush()
    found = unit.execute(
        "SELECT number FROM runs WHERE schedule = ? AND ended_at IS NULL ORDER BY number", (name,)
    )
    return [number for (number,) in found]


# Tasks that start when runs begin, or end


Told = tuple[str, str, list[str], list[str]]
"""A task, when it starts, and of which states and targets."""


def listeners(unit: Unit) -> list[tuple[str, Told]]:
    """Every one, with its loom."""
    found = unit.execute(
        "SELECT loom, task, at, states, targets FROM listeners ORDER BY loom, task"
    )
    return [
        (loom, (task, at, json.loads(states), json.loads(targets)))
        for loom, task, at, states, targets in found
    ]


def keep_listeners(unit: Unit, loom: str, told: list[Told]) -> None:
    """Write those of a loom, in place of what it had."""
    unit.change("DELETE FROM listeners WHERE loom = ?", (loom,))
    for task, at, states, targets in told:
        unit.change(
            "INSERT INTO listeners VALUES (?, ?, ?, ?, ?)",
            (loom, task, at, json.dumps(states), json.dumps(targets)),
        )
