"""Ended runs and attempts by hour, workflow and step: counters, updated once a transaction."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

HOUR = 3_600_000_000
"""Microseconds."""

_COUNT = (
    "INSERT INTO hours VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " number = number + excluded.number, waited = waited + excluded.waited"
)
_TIME = (
    "INSERT INTO hour_times VALUES (?, ?, ?, ?, ?)"
    " ON CONFLICT DO UPDATE SET number = number + excluded.number"
)


def add(
    unit: Unit,
    counts: Mapping[tuple[str, int, str, str], tuple[int, int]],
    times: Mapping[tuple[str, int, str, int], int],
) -> None:
    """Add ended runs and attempts.

    Args:
        unit: the transaction.
        counts: number and microseconds waited, by workflow, hour, address and outcome.
        times: numbers, by workflow, hour, address and bucket.
    """
    if counts:
        unit.executemany(_COUNT, [(*key, *found) for key, found in counts.items()])
    if times:
        unit.executemany(_TIME, [(*key, number) for key, number in times.items()])


def counts_since(connection: sqlite3.Connection, workflow: str, hour: int) -> list[Record]:
    """Ended runs and attempts since an hour: hour, address, outcome, number, waited."""
    rows = connection.execute(
        "SELECT hour, address, outcome, number, waited FROM hours"
        " WHERE workflow = ? AND hour >= ? ORDER BY hour",
        (workflow, hour),
    )
    return [dict(row) for row in rows]


def times_since(connection: sqlite3.Connection, workflow: str, hour: int) -> list[Record]:
    """Durations since an hour: hour, address, bucket, number, shortest first."""
    rows = connection.execute(
        "SELECT hour, address, bucket, number FROM hour_times"
        " WHERE workflow = ? AND hour >= ? ORDER BY bucket",
        (workflow, hour),
    )
    return [dict(row) for row in rows]
