"""Samples of how far runs were, for looking back: of each round a bounded number."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


def keep(
    unit: Unit, run: int, at: int, progress: float | None, left: int | None, at_least: int
) -> None:
    """Keep a sample.

    Args:
        unit: the transaction.
        run: the run.
        at: when it was taken, in microseconds since 1970 UTC.
        progress: how far the run was, from 0 to 1; None while that is unknown.
        left: how many microseconds it had left; None where that is unknown.
        at_least: 1 if it was at least that.
    """
    row = (run, at, progress, left, at_least)
    unit.executemany("INSERT OR REPLACE INTO progress_samples VALUES (?, ?, ?, ?, ?)", [row])


def kept_since(unit: Unit, run: int, since: int) -> tuple[int, int]:
    """Return how many samples of a run there are since a time, and when the last was taken."""
    sql = "SELECT count(*), coalesce(max(at), 0) FROM progress_samples WHERE run = ? AND at >= ?"
    count, last = unit.execute(sql, (run, since))[0]
    return count, last


def drop_half(unit: Unit, run: int, since: int) -> None:
    """Drop every second sample of a run since a time."""
    unit.change(
        "DELETE FROM progress_samples WHERE run = ?1 AND at IN (SELECT at FROM (SELECT at,"
        " row_number() OVER (ORDER BY at) AS place FROM progress_samples"
        " WHERE run = ?1 AND at >= ?2) WHERE place % 2 = 0)",
        (run, since),
    )


def newest_by(connection: sqlite3.Connection, run: int, at: int) -> Record | None:
    """The newest sample of a run that was taken by a time; None if there is none."""
    row = connection.execute(
        "SELECT at, progress, left_micros, at_least FROM progress_samples"
        " WHERE run = ? AND at <= ? ORDER BY at DESC LIMIT 1",
        (run, at),
    ).fetchone()
    return dict(row) if row else None
