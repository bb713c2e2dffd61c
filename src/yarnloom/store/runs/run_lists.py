"""Runs by filters, a page at a time, how many there are, and queries about one.

Decision: `docs/decisions/15-many-watchers.md`.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from yarnloom.store.select import Record, like, select_one


@dataclass(frozen=True, slots=True)
class RunFilter:
    """Which runs a list shows.

    Attributes:
        states: in one of these; empty for any.
        values: by name of a filter (`run_filters`) what is asked; a time in microseconds.
        below: only runs of a lower number.
        limit: how many.
    """

    states: tuple[str, ...] = ()
    values: Mapping[str, str | int | bool] = field(default_factory=dict)
    below: int | None = None
    limit: int = 50


_CONDITIONS = {
    "workflow": "r.workflow = ?",
    "tag": "EXISTS (SELECT 1 FROM run_tags WHERE tag = ? AND run = r.number)",
    "key": "r.number IN (SELECT run FROM start_keys WHERE key = ?)",
    "schedule": "r.schedule = ?",
    "who": "r.started_by = ?",
    "pool": "r.number IN (SELECT value FROM json_each(?))",
    "priority": "r.priority = ?",
    "since": "r.created_at >= ?",
    "until": "r.created_at < ?",
    "text": "(CAST(r.number AS TEXT) = ? OR {places})",
    "followups_failed": "r.followups_failed > 0",
    "without_reports": "r.after IS NULL",
}
"""By filter. `within` is a `since`: the service knows the time, and which runs use a `pool`."""

_TEXT_IN = ("workflow", "params", "tags", "start_key", "started_by", "error")


OF_TAG = "SELECT run FROM run_tags WHERE tag = ?"
SINCE = "SELECT number FROM runs INDEXED BY runs_by_time WHERE created_at >= ?"

SEARCHED = 20_000
"""How many runs a page is searched for a text in; the next page goes on from there."""


def notices(connection: sqlite3.Connection, numbers: list[int]) -> list[Record]:
    """Facts for lines about some runs, by number."""
    found = connection.execute(
        "SELECT number, workflow, state, error, started_at, ended_at FROM runs"
        " WHERE number IN (SELECT value FROM json_each(?)) ORDER BY number",
        (json.dumps(numbers),),
    )
    return [dict(row) for row in found]


def runs(connection: sqlite3.Connection, wanted: RunFilter) -> tuple[list[Record], int | None]:
    """Runs, newest first, and below which number the next page begins; None if there is none."""
    where, values = _matching(wanted)
    for rare, name in ((OF_TAG, "tag"), (SINCE, "since")):
        value = wanted.values.get(name)
        if value is not None and _are_few(connection, rare, value):
            # Others are found soon from the newest on.
            where, values = f"{where} AND r.number IN ({rare})", [*values, value]
    floor = 0
    if "text" in wanted.values:
        newest = connection.execute("SELECT max(number) AS number FROM runs").fetchone()["number"]
        floor = max(0, min(wanted.below or 2**62, (newest or 0) + 1) - 1 - SEARCHED)
        where, values = f"{where} AND r.number > ?", [*values, floor]
    rows = connection.execute(
        f"SELECT {RUN_COLUMNS} FROM {RUN_TABLES} WHERE {where} ORDER BY r.number DESC LIMIT ?",
        (*values, wanted.limit),
    )
    found = [dict(row) for row in rows]
    if len(found) == wanted.limit:
        return found, found[-1]["number"]
    return found, floor + 1 if floor else None


def _are_few(connection: sqlite3.Connection, numbers: str, value: Any) -> bool:
    """Whether a statement finds so few numbers of runs that these are looked up one by one."""
    row = connection.execute(
        f"SELECT count(*) AS count FROM ({numbers} LIMIT {COUNTED})", (value,)
    ).fetchone()
    return bool(row["count"] < COUNTED)


COUNTED = 1_000


def state_counts(connection: sqlite3.Connection, states: Iterable[str]) -> dict[str, int]:
    """How many runs are in each of some states; of very many one more than are counted."""
    sql = "SELECT count(*) AS count FROM (SELECT 1 FROM runs WHERE state = ? LIMIT ?)"
    return {
        state: connection.execute(sql, (state, COUNTED + 1)).fetchone()["count"] for state in states
    }


def idle_runs(connection: sqlite3.Connection, limit: int) -> list[int]:
    """Runs that have not ended, and of which nothing is in a worker's hand, oldest first."""
    rows = connection.execute(
        "SELECT r.number FROM runs r INDEXED BY runs_not_ended WHERE r.ended_at IS NULL"
        " AND r.admission >= 0 AND r.state IN"
        " ('queued', 'running', 'pausing', 'paused', 'cancelling') AND NOT EXISTS (SELECT 1 FROM"
        " steps s WHERE s.run = r.number AND s.ended_at IS NULL AND s.open IS NOT NULL)"
        " ORDER BY r.number LIMIT ?",
        (limit,),
    )
    return [row["number"] for row in rows]


def count_runs(connection: sqlite3.Connection, wanted: RunFilter) -> int:
    """How many runs a list shows in all."""
    where, values = _matching(wanted)
    row = connection.execute(f"SELECT count(*) FROM runs r WHERE {where}", values).fetchone()
    return int(row[0])


def run_numbers(connection: sqlite3.Connection, wanted: RunFilter) -> list[int]:
    """The numbers of all runs that a list shows, oldest first."""
    where, values = _matching(wanted)
    sql = f"SELECT r.number FROM runs r WHERE {where} ORDER BY r.number"
    return [row[0] for row in connection.execute(sql, values)]


def _matching(wanted: RunFilter) -> tuple[str, list[str | int]]:
    """The condition for a filter, and its values."""
    where, values = ["1"], list[str | int]()
    if wanted.states:
        where.append(f"r.state IN ({', '.join('?' * len(wanted.states))})")
        values += wanted.states
    for name, value in wanted.values.items():
        condition = _CONDITIONS[name]
        if name == "text":
            places = " OR ".join(f"r.{column} LIKE ? ESCAPE '!'" for column in _TEXT_IN)
            where.append(condition.format(places=places))
            values += [value, *[like(str(value))] * len(_TEXT_IN)]
        elif value is not False:
            where.append(condition)
            values += [value] if "?" in condition else []
    if wanted.below is not None:
        where.append("r.number < ?")
        values.append(wanted.below)
    return " AND ".join(where), values


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
