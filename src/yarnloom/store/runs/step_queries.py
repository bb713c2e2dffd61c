"""Queries about steps, their attempts, and all that is under way."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple

from yarnloom.store.logs.log_records import AttemptKey
from yarnloom.store.select import Record, select_one
from yarnloom.store.unit_of_work import Unit


def steps_behind(connection: sqlite3.Connection, run: int, after: int, limit: int) -> list[Record]:
    """Steps of a run that have a row, with their values, from behind an id on."""
    if not after:
        first = connection.execute("SELECT min(id) AS id FROM steps WHERE run = ?", (run,))
        after = (first.fetchone()["id"] or 1) - 1
    # By id, not by an index of the run: the steps of a run lie close together.
    rows = connection.execute(
        f"{_STEP_LIST.replace('s.saved,', 's.saved, s.input, s.output,')}"
        " WHERE s.id > ? AND +s.run = ? ORDER BY s.id LIMIT ?",
        (after, run, limit),
    )
    return [dict(row) for row in rows]


def attempts_between(
    connection: sqlite3.Connection, run: int, first: int, last: int
) -> list[Record]:
    """The attempts of a run's steps between two ids, with the worker's name."""
    rows = connection.execute(
        "SELECT a.*, w.name AS worker_name FROM attempts a JOIN workers w ON w.id = a.worker"
        " WHERE a.step BETWEEN ? AND ? AND a.run = ? ORDER BY a.step, a.number",
        (first, last, run),
    )
    return [dict(row) for row in rows]


def attempts_of_run(
    connection: sqlite3.Connection, run: int, inside: int | None, after: int, limit: int
) -> list[Record]:
    """Attempts of a run in the order in which they were handed out, from behind an id on.

    Each with the place of its step, and its worker's name. With an item only those of steps that
    stand in it.
    """
    where = "" if inside is None else " AND s.item_part = ?"
    rows = connection.execute(
        "SELECT a.*, s.node, s.item_part, s.part, w.name AS worker_name FROM attempts a"
        " JOIN steps s ON s.id = a.step JOIN workers w ON w.id = a.worker"
        f" WHERE a.run = ? AND a.id > ?{where} ORDER BY a.id LIMIT ?",
        (run, after, *(() if inside is None else (inside,)), limit),
    )
    return [dict(row) for row in rows]


def attempts_inside(
    connection: sqlite3.Connection, run: int, inside: int | None
) -> dict[int, list[Record]]:
    """By step the attempts of the steps of a run that stand in no item, or in one, oldest first."""
    rows = connection.execute(
        "SELECT a.step, a.number, a.round, a.outcome, a.error, a.ready_at, a.handed_at, a.begun_at,"
        " a.ended_at, w.name AS worker_name FROM steps s CROSS JOIN attempts a ON a.step = s.id"
        " JOIN workers w ON w.id = a.worker WHERE s.run = ? AND s.item_part IS ?"
        " ORDER BY a.step, a.number",
        (run, inside),
    )
    found: dict[int, list[Record]] = {}
    for row in rows:
        found.setdefault(row["step"], []).append(dict(row))
    return found


def failed_steps(connection: sqlite3.Connection, run: int, limit: int) -> list[Record]:
    """The failed steps of a run with the type and message of their errors, in plan order."""
    rows = connection.execute(
        "SELECT id, node, item_part, error ->> 'type' AS type, error ->> 'message' AS message,"
        " ended_at FROM steps WHERE run = ? AND state = 'failed' ORDER BY rank LIMIT ?",
        (run, limit),
    )
    return [dict(row) for row in rows]


def in_hand(connection: sqlite3.Connection, attempts: Iterable[int]) -> list[Record]:
    """Where some attempts belong: run and plan, the place of the step, when it began."""
    wanted = list(attempts)
    rows = connection.execute(
        "SELECT a.id, a.number, a.begun_at, a.run, a.code_hash, s.node, s.item_part, r.plan"
        " FROM attempts a JOIN steps s ON s.id = a.step JOIN runs r ON r.number = a.run"
        f" WHERE a.id IN ({', '.join('?' * len(wanted))}) ORDER BY a.id",
        wanted,
    )
    return [dict(row) for row in rows]


def log_keys(connection: sqlite3.Connection, attempts: Iterable[int]) -> dict[int, AttemptKey]:
    """The keys under which the lines of some attempts are stored, by attempt."""
    wanted = list(attempts)
    rows = connection.execute(
        "SELECT coalesce(p.parent, s.part) AS part, coalesce(p.item, 0) AS item, s.node, a.number,"
        " a.id FROM attempts a JOIN steps s ON s.id = a.step"
        " LEFT JOIN parts p ON p.id = s.item_part"
        f" WHERE a.id IN ({', '.join('?' * len(wanted))})",
        wanted,
    )
    return {row["id"]: AttemptKey(*row) for row in rows}


def waiting_in_pool(connection: sqlite3.Connection, pool: str, limit: int) -> list[Record]:
    """The runs of which most steps are ready in a pool, or for one of its values, and how many."""
    rows = connection.execute(
        "SELECT run, count(*) AS steps, min(ready_at) AS since FROM steps"
        f" WHERE state = 'ready' AND open IS NULL AND {_ENTERS}"
        " GROUP BY run ORDER BY steps DESC, run LIMIT ?2",
        (_entering(pool), limit),
    )
    return [dict(row) for row in rows]


def _entering(pool: str) -> str:
    """The pattern of the pools of steps among which is one."""
    return "* " + re.sub(r"[*?[]", lambda letter: f"[{letter[0]}]", pool) + "[[/ ]*"


_ENTERS = "(' ' || pool || ' ') GLOB ?1"
"""Whether a step enters a pool: alone, with a value, with a weight, beside others."""


def runs_in_pool(connection: sqlite3.Connection, pool: str) -> set[int]:
    """The runs with steps that have not ended and use a pool, or one of its values."""
    rows = connection.execute(
        "SELECT DISTINCT run FROM steps INDEXED BY steps_open"
        f" WHERE ended_at IS NULL AND {_ENTERS}",
        (_entering(pool),),
    )
    return {row["run"] for row in rows}


_STEP_LIST = """
  SELECT s.id, s.run, s.part, s.node, s.state, s.stop, s.skip_reason, s.open, s.attempts,
    s.tries, s.losses, s.due_at, s.deadline_at, s.pool, s.priority, s.error, s.ready_at,
    s.held, s.supplied, s.saved, s.fraction, s.rank,
    s.started_at, s.ended_at,
    w.name AS worker_name
  FROM steps s
  LEFT JOIN attempts a ON a.step = s.id AND a.number = s.attempts
  LEFT JOIN workers w ON w.id = a.worker
"""


def steps(connection: sqlite3.Connection, number: int, inside: int | None) -> list[Record]:
    """The steps of a run that have a row and stand in no item, or in one, in plan order.

    Without their inputs and outputs.
    """
    rows = connection.execute(
        f"{_STEP_LIST} WHERE s.run = ? AND s.item_part IS ? ORDER BY s.rank", (number, inside)
    )
    return [dict(row) for row in rows]


def step_at(connection: sqlite3.Connection, part: int, node: int) -> Record | None:
    """The step in a part at a node of the plan, or None if it has no row yet."""
    return select_one(connection, f"{_STEP_LIST} WHERE s.part = ? AND s.node = ?", part, node)


def step_values(connection: sqlite3.Connection, step: int) -> Record:
    """Input and output of a step, as JSON text."""
    row = connection.execute("SELECT input, output FROM steps WHERE id = ?", (step,)).fetchone()
    return dict(row)


# The older ones of those that asked to be called again are folded.
_FOLDED = (
    "a.outcome IS 'called_again' AND a.number <= coalesce((SELECT number FROM attempts"
    " WHERE step = a.step AND outcome = 'called_again'"
    " ORDER BY number DESC LIMIT 1 OFFSET ?), 0)"
)


def attempts(connection: sqlite3.Connection, step: int, called_shown: int) -> list[Record]:
    """The attempts of a step, oldest first, with the worker's name.

    Of those that asked to be called again only the newest `called_shown`.
    """
    rows = connection.execute(
        "SELECT a.*, w.name AS worker_name FROM attempts a JOIN workers w ON w.id = a.worker"
        f" WHERE a.step = ? AND NOT ({_FOLDED}) ORDER BY a.number",
        (step, called_shown),
    )
    return [dict(row) for row in rows]


def count_folded(connection: sqlite3.Connection, step: int, called_shown: int) -> int:
    """How many attempts of a step are left out so."""
    sql = "SELECT max(0, count(*) - ?) FROM attempts WHERE step = ? AND outcome = 'called_again'"
    return int(connection.execute(sql, (called_shown, step)).fetchone()[0])


def hand(connection: sqlite3.Connection, run: int, address: str) -> Record | None:
    """What people decided about a step, by its address; None if nothing."""
    row = select_one(
        connection, "SELECT facts FROM step_actions WHERE run = ? AND address = ?", run, address
    )
    return json.loads(row["facts"]) if row else None


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


Row = Record

MOST = 500
"""How many running attempts are looked at."""

_PARTS = (
    *("node", "state", "outcome", "total", "done", "failed", "cancelled", "skipped", "running"),
    *("awaits", "since", "fraction", "fraction_then", "ended_at"),
)
_STEPS = ("node", "state", "saved", "started_at", "due_at", "ended_at")


class Running(NamedTuple):
    """An attempt that runs: the node of its step, and since when."""

    node: int
    since: int


def rows_of(unit: Unit, run: int) -> dict[int, Row]:
    """By node the parts and steps of a run that have begun and are in no item."""
    unit.flush()
    rows: dict[int, Row] = {}
    for table, columns, more in (
        ("parts INDEXED BY parts_inside", _PARTS, " AND value IS NULL"),
        ("steps INDEXED BY steps_inside", _STEPS, ""),
    ):
        sql = f"SELECT {', '.join(columns)} FROM {table} WHERE run = ? AND item_part IS NULL{more}"
        for row in unit.execute(sql, (run,)):
            record = dict(zip(columns, row, strict=True))
            if record["state"] == "waiting":  # it is to run again
                continue
            record["ended_at"] = record["ended_at"] if record.get("outcome", "-") else None
            rows[record["node"]] = record
    return rows


def running(unit: Unit, run: int) -> list[Running]:
    """The attempts of a run that run now, the oldest of very many."""
    rows = unit.execute(
        "SELECT s.node, a.begun_at FROM steps s CROSS JOIN attempts a ON a.id = s.open"
        " WHERE s.run = ? AND s.ended_at IS NULL AND s.open IS NOT NULL AND a.begun_at IS NOT NULL"
        " LIMIT ?",
        (run, MOST),
    )
    return [Running(*row) for row in rows]


Execute = Callable[[str, Sequence[Any]], Iterable[Any]]

_RUNNING_PARTS = (
    *("run", "node", "state", "outcome", "total", "done", "failed", "skipped", "awaits"),
    *("covers", "covered", "fraction", "fraction_then", "since", "moved_at"),
)
_RUNNING_STEPS = ("run", "node", "state", "saved", "started_at")


def open_rows(
    execute: Execute, runs: Sequence[int], *, ended: bool = False
) -> dict[int, dict[int, Record]]:
    """By run and node the parts and steps that have begun, have not ended and stand in no item.

    There are at most as many as the plan has nodes: the conditions are those of an index.

    Args:
        execute: runs a statement, of a reader's connection or of the writer's unit.
        runs: their numbers.
        ended: those that failed or were cancelled instead.
    """
    found: dict[int, dict[int, Record]] = {run: {} for run in runs}
    marks = ", ".join("?" * len(runs))
    how = "state IN ('failed', 'cancelled')" if ended else "ended_at IS NULL"
    where = f"run IN ({marks}) AND item_part IS NULL AND {how}"
    for table, columns, more in (
        ("parts INDEXED BY parts_inside", _RUNNING_PARTS, " AND value IS NULL"),
        ("steps INDEXED BY steps_inside", _RUNNING_STEPS, ""),
    ):
        sql = f"SELECT {', '.join(columns)} FROM {table} WHERE {where}{more}"
        for row in execute(sql, runs):
            record = dict(zip(columns, row, strict=True))
            found[record["run"]][record["node"]] = record
    return found
