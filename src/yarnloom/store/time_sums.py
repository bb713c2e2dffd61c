"""Where the time of runs went, as sums: added to when attempts end, read for a whole run."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

KINDS = ("ran", "pool", "worker", "back_off", "rest")
"""What time went to: a step ran, or waited for one of these."""

_SLICE = (
    "INSERT INTO time_slices VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " micros = micros + excluded.micros, ended = ended + excluded.ended,"
    " failed = failed + excluded.failed"
)
_SUMS = (
    "INSERT INTO time_sums VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " attempts = attempts + excluded.attempts, begun = begun + excluded.begun,"
    " failed = failed + excluded.failed, longest = max(longest, excluded.longest),"
    + ",".join(f" {kind} = {kind} + excluded.{kind}" for kind in KINDS)
)


def axis_of(unit: Unit, run: int) -> tuple[int, int, int, int, int] | None:
    """How a run's time is divided: `first`, `width`, `low`, `high` and `last`; None if not yet."""
    sql = "SELECT first, width, low, high, last FROM time_axes WHERE run = ?"
    found = unit.execute(sql, (run,))
    return found[0] if found else None


def keep_axis(unit: Unit, run: int, *axis: int) -> None:
    """Keep how a run's time is divided."""
    unit.executemany("INSERT OR REPLACE INTO time_axes VALUES (?, ?, ?, ?, ?, ?)", [(run, *axis)])


def add_slices(unit: Unit, *rows: Sequence[tuple[Any, ...]]) -> None:
    """Add to slices: run, node, kind, slice, microseconds, and how many ended and failed in it."""
    for some in rows:
        if some:
            unit.executemany(_SLICE, some)


def add_sums(unit: Unit, rows: Sequence[tuple[Any, ...]]) -> None:
    """Add to the sums of steps."""
    if rows:
        unit.executemany(_SUMS, rows)


def ran_in(unit: Unit, run: int) -> dict[int, tuple[int, int]]:
    """By node how many attempts of a run have ended that began, and how long they ran."""
    sql = "SELECT node, begun, ran FROM time_sums WHERE run = ? AND begun > 0"
    return {node: (begun, ran) for node, begun, ran in unit.execute(sql, (run,))}


def widen(unit: Unit, run: int, by: int) -> None:
    """Make one slice of each so many that follow each other."""
    rows = unit.execute(
        # Integer division rounds to zero; slices before the first are negative.
        "SELECT node, kind, (slice - ((slice % ?2) + ?2) % ?2) / ?2 AS wide, sum(micros),"
        " sum(ended), sum(failed) FROM time_slices WHERE run = ?1 GROUP BY 1, 2, 3",
        (run, by),
    )
    unit.change("DELETE FROM time_slices WHERE run = ?", (run,))
    add_slices(unit, [(run, *row) for row in rows])


def axis(connection: sqlite3.Connection, run: int) -> Record | None:
    """How a run's time is divided; None if nothing of it has ended."""
    row = connection.execute("SELECT * FROM time_axes WHERE run = ?", (run,)).fetchone()
    return dict(row) if row else None


def slices(connection: sqlite3.Connection, run: int) -> list[tuple[int, str, int, int, int, int]]:
    """The slices of a run: node, kind, slice, microseconds, and how many ended and failed in it."""
    rows = connection.execute(
        "SELECT node, kind, slice, micros, ended, failed FROM time_slices WHERE run = ?", (run,)
    )
    rows.row_factory = None
    return rows.fetchall()


def sums(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The sums of each step of a run's plan of which an attempt has ended."""
    rows = connection.execute("SELECT * FROM time_sums WHERE run = ?", (run,))
    return [dict(row) for row in rows]


def open_attempts(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The attempts of a run that have not ended, with the node of the step and what was before."""
    rows = connection.execute(
        "SELECT s.node, a.ready_at, a.begun_at, a.pool_until, p.outcome, p.ended_at AS slept_from,"
        " p.round = a.round AS same_round FROM steps s CROSS JOIN attempts a ON a.id = s.open"
        " LEFT JOIN attempts p ON p.step = s.id AND p.number = a.number - 1"
        " WHERE s.run = ? AND s.ended_at IS NULL AND s.open IS NOT NULL",
        (run,),
    )
    return [dict(row) for row in rows]
