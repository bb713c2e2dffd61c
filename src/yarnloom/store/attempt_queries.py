"""Queries of readers about attempts that stand out: the slowest, and those that failed first."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record

FAILED = "('failed', 'refused', 'lost')"
"""Outcomes of attempts that count as failures."""

_ATTEMPTS = (
    "SELECT a.*, s.node, s.item_part, w.name AS worker_name FROM attempts a"
    " JOIN steps s ON s.id = a.step JOIN workers w ON w.id = a.worker"
    " WHERE a.run = ? AND s.node IN ({}) AND a.begun_at IS NOT NULL"
)


def slowest(
    connection: sqlite3.Connection, run: int, nodes: list[int], now: int, limit: int
) -> list[Record]:
    """Return the attempts of some nodes that ran longest, the longest first."""
    sql = _ATTEMPTS.format(", ".join("?" * len(nodes)))
    order = " ORDER BY coalesce(a.ended_at, ?) - a.begun_at DESC, a.id LIMIT ?"
    rows = connection.execute(sql + order, (run, *nodes, now, limit))
    return [dict(row) for row in rows]


def first_failed(
    connection: sqlite3.Connection, run: int, nodes: list[int], limit: int
) -> list[Record]:
    """Return the attempts of some nodes that failed, as they were handed out."""
    sql = _ATTEMPTS.format(", ".join("?" * len(nodes)))
    more = f" AND a.outcome IN {FAILED} ORDER BY a.id LIMIT ?"
    return [dict(row) for row in connection.execute(sql + more, (run, *nodes, limit))]
