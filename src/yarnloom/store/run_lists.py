"""Lists of runs: which a filter shows, page by page, and how many they are.

Decision: `docs/decisions/15-many-watchers.md`.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from yarnloom.store.run_queries import (
    RUN_COLUMNS,
    RUN_TABLES,
)
from yarnloom.store.select import (
    Record,
    like,
)


@dataclass(frozen=True, slots=True)
class RunFilter:
    """Which runs a list shows; None is any."""

    states: tuple[str, ...] = ()
    workflow: str | None = None
    tag: str | None = None
    key: str | None = None
    schedule: str | None = None
    who: str | None = None
    since: int | None = None
    until: int | None = None
    text: str | None = None
    followups_failed: bool = False
    without_reports: bool = False
    below: int | None = None
    limit: int = 50

    @property
    def plain(self) -> bool:
        """Whether it asks for states alone."""
        return replace(self, states=(), below=None, limit=50) == RunFilter()


OF_TAG = "SELECT run FROM run_tags WHERE tag = ?"
SINCE = "SELECT number FROM runs INDEXED BY runs_by_time WHERE created_at >= ?"

SEARCHED = 20_000
"""How many runs a page is searched for a text in; the next page goes on from there."""


def runs(connection: sqlite3.Connection, wanted: RunFilter) -> tuple[list[Record], int | None]:
    """Runs, newest first, and below which number the next page begins; None if there is none."""
    where, values = _matching(wanted)
    for rare, value in ((OF_TAG, wanted.tag), (SINCE, wanted.since)):
        if value is not None and _are_few(connection, rare, value):
            # Others are found soon from the newest on.
            where, values = f"{where} AND r.number IN ({rare})", [*values, value]
    floor = 0
    if wanted.text is not None:
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


def _matching(wanted: RunFilter) -> tuple[str, list[Any]]:
    """The condition for a filter, and its values."""
    where, values = ["1"], list[Any]()
    if wanted.states:
        where.append(f"r.state IN ({', '.join('?' * len(wanted.states))})")
        values += wanted.states
    if wanted.workflow is not None:
        where.append("r.workflow = ?")
        values.append(wanted.workflow)
    if wanted.tag is not None:
        where.append("EXISTS (SELECT 1 FROM run_tags WHERE tag = ? AND run = r.number)")
        values.append(wanted.tag)
    if wanted.key is not None:
        where.append("r.number IN (SELECT run FROM start_keys WHERE key = ?)")
        values.append(wanted.key)
    if wanted.schedule is not None:
        where.append("r.schedule = ?")
        values.append(wanted.schedule)
    if wanted.who is not None:
        where.append("r.started_by = ?")
        values.append(wanted.who)
    if wanted.since is not None:
        where.append("r.created_at >= ?")
        values.append(wanted.since)
    if wanted.until is not None:
        where.append("r.created_at < ?")
        values.append(wanted.until)
    if wanted.text is not None:
        pattern = like(wanted.text)
        places = ("workflow", "params", "tags", "start_key", "started_by", "error")
        either = " OR ".join(f"r.{one} LIKE ? ESCAPE '!'" for one in places)
        where.append(f"(CAST(r.number AS TEXT) = ? OR {either})")
        values += [wanted.text, *[pattern] * len(places)]
    if wanted.followups_failed:
        where.append("r.followups_failed > 0")
    if wanted.without_reports:
        where.append("r.after IS NULL")
    if wanted.below is not None:
        where.append("r.number < ?")
        values.append(wanted.below)
    return " AND ".join(where), values
