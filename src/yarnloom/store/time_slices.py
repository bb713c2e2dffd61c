"""Where the time of a run went: its attempts and waits, counted by slices of time."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import Any

FAILED = "('failed', 'refused', 'lost')"
"""Outcomes of attempts that count as failures."""


def span_of_attempts(
    connection: sqlite3.Connection, run: int, now: int
) -> tuple[int, int, int, set[int]] | None:
    """From when to when attempts of a run were there, how many, and of which nodes; or None."""
    first, last, count = _plain(
        connection,
        "SELECT min(ready_at), max(coalesce(ended_at, ?2)), count(*) FROM ("
        "SELECT ready_at, ended_at FROM attempts WHERE run = ?1 UNION ALL"
        " SELECT handed_at, ended_at FROM folded WHERE run = ?1)",
        (run, now),
    )[0]
    nodes = _plain(
        connection,
        "SELECT node FROM steps WHERE run = ?1 AND attempts > 0 UNION"
        " SELECT node FROM segments WHERE run = ?1",
        (run,),
    )
    return None if first is None else (first, last, count, {node for (node,) in nodes})


_ATTEMPTS = (
    "SELECT a.*, s.node, s.item_part, w.name AS worker_name FROM attempts a"
    " JOIN steps s ON s.id = a.step JOIN workers w ON w.id = a.worker"
    " WHERE a.run = ? AND s.node IN ({}) AND a.begun_at IS NOT NULL"
)


def slowest(
    connection: sqlite3.Connection, run: int, nodes: list[int], now: int, limit: int
) -> list[dict[str, Any]]:
    """Return the attempts of some nodes that ran longest, the longest first."""
    sql = _ATTEMPTS.format(", ".join("?" * len(nodes)))
    order = " ORDER BY coalesce(a.ended_at, ?) - a.begun_at DESC, a.id LIMIT ?"
    rows = connection.execute(sql + order, (run, *nodes, now, limit))
    return [dict(row) for row in rows]


def first_failed(
    connection: sqlite3.Connection, run: int, nodes: list[int], limit: int
) -> list[dict[str, Any]]:
    """Return the attempts of some nodes that failed, as they were handed out."""
    sql = _ATTEMPTS.format(", ".join("?" * len(nodes)))
    more = f" AND a.outcome IN {FAILED} ORDER BY a.id LIMIT ?"
    return [dict(row) for row in connection.execute(sql + more, (run, *nodes, limit))]


_IN_SLICES = (
    "SELECT node, min(:count, cast((a - :first) / :width AS INTEGER)) AS low,"
    " min(:count, cast((b - :first) / :width AS INTEGER)) AS high, count(*), sum(a), sum(b){more}"
    " FROM ({times}) WHERE b > a OR :all GROUP BY 1, 2, 3"
)
_OF_RUN = "FROM attempts x JOIN steps s ON s.id = x.step WHERE x.run = :run"
_BEGIN = "coalesce(x.begun_at, x.ended_at, :now)"
_RAN = (
    "SELECT s.node AS node, x.begun_at AS a, coalesce(x.ended_at, :now) AS b,"
    f" coalesce(x.outcome IN {FAILED}, 0) AS failed {_OF_RUN}"
    " AND x.begun_at IS NOT NULL"
    " UNION ALL SELECT node, begun_at, ended_at, 0 FROM folded WHERE run = :run"
)
_WAITED = {
    "pool": f"SELECT s.node AS node, x.ready_at AS a, min(x.pool_until, {_BEGIN}) AS b {_OF_RUN}"
    " AND x.pool_until IS NOT NULL",
    "worker": f"SELECT s.node AS node, coalesce(min(x.pool_until, {_BEGIN}), x.ready_at) AS a,"
    f" {_BEGIN} AS b {_OF_RUN}"
    " UNION ALL SELECT node, handed_at, begun_at FROM folded WHERE run = :run",
    **{
        kind: "SELECT s.node AS node, p.ended_at AS a, x.ready_at AS b FROM attempts x"
        " JOIN steps s ON s.id = x.step JOIN attempts p ON p.step = x.step"
        " AND p.number = x.number - 1 WHERE x.run = :run AND x.number > 1"
        f" AND p.outcome = '{ended}' AND p.round = x.round"
        for kind, ended in (("back_off", "failed"), ("rest", "called_again"))
    },
}


def ran_by_slice(
    connection: sqlite3.Connection, run: int, now: int, first: int, width: float, count: int
) -> list[tuple[Any, ...]]:
    """How attempts ran, by node and the slices that they began and ended in.

    Each with how many, the sums of their begins and ends, how many failed, and the longest.

    Args:
        connection: a reader's.
        run: the run's number.
        now: until when what still runs has run.
        first: when the first slice begins.
        width: how long a slice is, in microseconds.
        count: how many slices there are; the end is in one more.
    """
    sql = _IN_SLICES.format(more=", sum(failed), max(b - a)", times=_RAN)
    return _plain(connection, sql, _slices(run, now, first, width, count, every=True))


def waited_by_slice(
    connection: sqlite3.Connection, run: int, now: int, first: int, width: float, count: int
) -> Iterator[tuple[str, list[tuple[Any, ...]]]]:
    """The same of waits, by what for: a pool, a worker, and between two attempts."""
    values = _slices(run, now, first, width, count, every=False)
    for kind, times in _WAITED.items():
        yield kind, _plain(connection, _IN_SLICES.format(more="", times=times), values)


def _slices(
    run: int, now: int, first: int, width: float, count: int, *, every: bool
) -> dict[str, Any]:
    return {"run": run, "now": now, "first": first, "width": width, "count": count, "all": every}


def _plain(connection: sqlite3.Connection, sql: str, values: Any) -> list[tuple[Any, ...]]:
    """The rows of a statement as tuples."""
    rows = connection.execute(sql, values)
    rows.row_factory = None
    return rows.fetchall()
