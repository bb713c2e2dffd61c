"""Lists of runs: which a filter shows, page by page, and how many they are.

Decision: `docs/decisions/15-many-watchers.md`.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from yarnloom.store.run_queries import RUN_COLUMNS, RUN_TABLES
from yarnloom.store.select import Record, like


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
    "since": "r.created_at >= ?",
    "until": "r.created_at < ?",
    "text": "(CAST(r.number AS TEXT) = ? OR {places})",
    "followups_failed": "r.followups_failed > 0",
    "without_reports": "r.after IS NULL",
}
"""By filter. `within` is a `since`: the service knows the time."""

_TEXT_IN = ("workflow", "params", "tags", "start_key", "started_by", "error")


OF_TAG = "SELECT run FROM run_tags WHERE tag = ?"
SINCE = "SELECT number FROM runs INDEXED BY runs_by_time WHERE created_at >= ?"

SEARCHED = 20_000
"""How many runs a page is searched for a text in; the next page goes on from there."""


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
