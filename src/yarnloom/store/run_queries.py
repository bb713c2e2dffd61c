"""Queries of the readers: each is one function of a connection that gives plain records.

Lists page by a position in an index, so that page 1,000 costs what page 1 costs.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from typing import NamedTuple

from yarnloom.store.select import Record, select_one

RUN_COLUMNS = """
  r.*, p.total, p.ready, p.running, p.backing_off, p.resting, p.paused, p.done, p.failed,
  p.cancelled, p.skipped, p.outcome, p.size
"""
RUN_TABLES = "runs r LEFT JOIN parts p ON p.run = r.number AND p.parent IS NULL"


def run(connection: sqlite3.Connection, number: int) -> Record | None:
    """A run with the counters of its root part, or None."""
    row = connection.execute(
        f"SELECT {RUN_COLUMNS} FROM {RUN_TABLES} WHERE r.number = ?", (number,)
    ).fetchone()
    return dict(row) if row else None


def is_paused(connection: sqlite3.Connection, number: int) -> bool:
    """Whether nothing of a run executes because it is paused."""
    row = connection.execute("SELECT state FROM runs WHERE number = ?", (number,)).fetchone()
    return row is not None and row["state"] == "paused"


def was_given_out(connection: sqlite3.Connection, number: int) -> bool:
    """Whether a run number was ever given out."""
    row = connection.execute("SELECT seq FROM sqlite_sequence WHERE name = 'runs'").fetchone()
    return row is not None and 0 < number <= row[0]


def root(connection: sqlite3.Connection, number: int) -> Record | None:
    """The root part of a run."""
    return select_one(connection, "SELECT * FROM parts WHERE run = ? AND parent IS NULL", number)


def part_at(connection: sqlite3.Connection, parent: int, node: int, item: int = 0) -> Record | None:
    """A part in another, or an item of an each, if it has begun."""
    sql = "SELECT * FROM parts WHERE parent = ? AND node = ? AND item = ?"
    return select_one(connection, sql, parent, node, item)


def parts(connection: sqlite3.Connection, number: int, inside: int | None) -> list[Record]:
    """The parts of a run that have begun and stand in no item, or those of one item, itself too."""
    rows = connection.execute(
        "SELECT * FROM parts WHERE run = ? AND item_part IS ? AND value IS NULL"
        " UNION ALL SELECT * FROM parts WHERE id = ?",
        (number, inside, inside),
    )
    return [dict(row) for row in rows]


def part(connection: sqlite3.Connection, part: int) -> Record:
    """A part by id."""
    return dict(connection.execute("SELECT * FROM parts WHERE id = ?", (part,)).fetchone())


class ItemPlace(NamedTuple):
    """Where an item is: the item that its each is in, if any, and its name or index."""

    part: int
    node: int
    name: str | None
    item: int
    item_part: int | None


def item_places(connection: sqlite3.Connection, parts: Iterable[int | None]) -> list[ItemPlace]:
    """The places of some items, by the ids of their parts."""
    sql = (
        "SELECT json_group_array(json_array(id, node, name, item, item_part)) FROM parts"
        " WHERE id IN (SELECT value FROM json_each(?))"
    )
    (found,) = connection.execute(sql, (json.dumps([*parts]),)).fetchone()
    return [ItemPlace(*row) for row in json.loads(found)]


def mends(connection: sqlite3.Connection, run: int) -> list[int]:
    """When a run was mended, oldest first."""
    sql = "SELECT at FROM commands WHERE run = ? AND what = 'mend' ORDER BY id"
    return [row["at"] for row in connection.execute(sql, (run,))]


def done_at(connection: sqlite3.Connection, run: int) -> int | None:
    """When a run that is done ended; None if it is not done."""
    sql = "SELECT ended_at FROM runs WHERE number = ? AND state = 'done'"
    row = connection.execute(sql, (run,)).fetchone()
    return row["ended_at"] if row else None


def ended_by_round(connection: sqlite3.Connection, run: int, rounds: int) -> int:
    """When the last attempt of the first rounds of a run ended; 0 if none did."""
    sql = "SELECT max(ended_at) AS at FROM attempts WHERE run = ? AND round <= ?"
    row = connection.execute(sql, (run, rounds)).fetchone()
    return row["at"] or 0


def commands(connection: sqlite3.Connection, number: int) -> list[Record]:
    """Who gave which command for a run, oldest first."""
    rows = connection.execute("SELECT * FROM commands WHERE run = ? ORDER BY id", (number,))
    return [dict(row) for row in rows]


def all_commands(
    connection: sqlite3.Connection,
    run: int | None,
    who: str | None,
    what: str | None,
    below: int | None,
    limit: int,
) -> list[Record]:
    """Who gave which command, newest first; None is any."""
    given = {"run = ?": run, "who = ?": who, "what = ?": what, "id < ?": below}
    wanted = {condition: value for condition, value in given.items() if value is not None}
    where = " AND ".join(["1", *wanted])
    sql = f"SELECT * FROM commands WHERE {where} ORDER BY id DESC LIMIT ?"
    return [dict(row) for row in connection.execute(sql, (*wanted.values(), limit))]


def effects(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The side effects of a run, in order of begin, each with its attempt's number and outcome."""
    rows = connection.execute(
        "SELECT l.*, a.number, a.outcome FROM ledger l JOIN attempts a ON a.id = l.attempt"
        " WHERE l.run = ? ORDER BY l.begun_at, l.scope, l.what",
        (run,),
    )
    return [dict(row) for row in rows]


def next_due(connection: sqlite3.Connection) -> int | None:
    """When the next back-off or rest is over."""
    sql = "SELECT min(due_at) AS due FROM steps WHERE due_at IS NOT NULL AND state <> 'paused'"
    row = select_one(connection, sql)
    return row["due"] if row else None
