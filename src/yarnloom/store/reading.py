"""Queries of the readers: each is one function of a connection that gives plain records.

Lists page by a position in an index, so that page 1,000 costs what page 1 costs.
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

Record = dict[str, Any]

_RUN_COLUMNS = """
  r.*, p.total, p.ready, p.running, p.backing_off, p.resting, p.paused, p.done, p.failed,
  p.cancelled, p.skipped
"""
_RUN_TABLES = "runs r LEFT JOIN parts p ON p.run = r.number AND p.parent IS NULL"


@dataclass(frozen=True, slots=True)
class RunFilter:
    """Which runs a list shows; None is any."""

    states: tuple[str, ...] = ()
    workflow: str | None = None
    below: int | None = None
    limit: int = 50


def run(connection: sqlite3.Connection, number: int) -> Record | None:
    """A run with the counters of its root part, or None."""
    row = connection.execute(
        f"SELECT {_RUN_COLUMNS} FROM {_RUN_TABLES} WHERE r.number = ?", (number,)
    ).fetchone()
    return dict(row) if row else None


def was_given_out(connection: sqlite3.Connection, number: int) -> bool:
    """Whether a run number was ever given out."""
    row = connection.execute("SELECT seq FROM sqlite_sequence WHERE name = 'runs'").fetchone()
    return row is not None and 0 < number <= row[0]


def runs(connection: sqlite3.Connection, wanted: RunFilter) -> list[Record]:
    """Runs, newest first."""
    where, values = ["1"], []
    if wanted.states:
        where.append(f"r.state IN ({', '.join('?' * len(wanted.states))})")
        values += list(wanted.states)
    if wanted.workflow is not None:
        where.append("r.workflow = ?")
        values.append(wanted.workflow)
    if wanted.below is not None:
        where.append("r.number < ?")
        values.append(str(wanted.below))
    rows = connection.execute(
        f"SELECT {_RUN_COLUMNS} FROM {_RUN_TABLES} WHERE {' AND '.join(where)}"
        " ORDER BY r.number DESC LIMIT ?",
        (*values, wanted.limit),
    )
    return [dict(row) for row in rows]


def plan_document(connection: sqlite3.Connection, plan: int) -> Record:
    """The JSON form of a plan."""
    row = connection.execute("SELECT document FROM plans WHERE id = ?", (plan,)).fetchone()
    document: Record = json.loads(row["document"])
    return document


def parts(connection: sqlite3.Connection, number: int) -> list[Record]:
    """The parts of a run that have begun."""
    rows = connection.execute("SELECT * FROM parts WHERE run = ? ORDER BY rank", (number,))
    return [dict(row) for row in rows]


_STEP_LIST = """
  SELECT s.id, s.run, s.part, s.node, s.task, s.state, s.stop, s.skip_reason, s.open, s.attempts,
    s.tries, s.losses, s.due_at, s.error, s.ready_at, s.started_at, s.ended_at,
    w.name AS worker_name
  FROM steps s
  LEFT JOIN attempts a ON a.step = s.id AND a.number = s.attempts
  LEFT JOIN workers w ON w.id = a.worker
"""


def steps(connection: sqlite3.Connection, number: int) -> list[Record]:
    """The steps of a run that have a row, in plan order, without inputs and outputs."""
    rows = connection.execute(f"{_STEP_LIST} WHERE s.run = ? ORDER BY s.rank", (number,))
    return [dict(row) for row in rows]


def step_at(connection: sqlite3.Connection, number: int, node: int) -> Record | None:
    """The step of a run at a node of its plan, or None if it has no row yet."""
    row = connection.execute(
        f"{_STEP_LIST} WHERE s.run = ? AND s.node = ?", (number, node)
    ).fetchone()
    return dict(row) if row else None


def step_values(connection: sqlite3.Connection, step: int) -> Record:
    """Input and output of a step, as JSON text."""
    row = connection.execute("SELECT input, output FROM steps WHERE id = ?", (step,)).fetchone()
    return dict(row)


def attempts(connection: sqlite3.Connection, step: int) -> list[Record]:
    """The attempts of a step, oldest first, with the worker's name."""
    rows = connection.execute(
        "SELECT a.*, w.name AS worker_name FROM attempts a JOIN workers w ON w.id = a.worker"
        " WHERE a.step = ? ORDER BY a.number",
        (step,),
    )
    return [dict(row) for row in rows]


def commands(connection: sqlite3.Connection, number: int) -> list[Record]:
    """Who gave which command for a run, oldest first."""
    rows = connection.execute("SELECT * FROM commands WHERE run = ? ORDER BY id", (number,))
    return [dict(row) for row in rows]


_WORKFLOWS = """
  SELECT w.name, w.published_at, w.published_by, p.version, p.document,
    (SELECT max(number) FROM runs WHERE workflow = w.name) AS last_run
  FROM workflows w JOIN plans p ON p.id = w.plan
"""


def workflows(connection: sqlite3.Connection) -> list[Record]:
    """The current version of every workflow, by name."""
    return [dict(row) for row in connection.execute(f"{_WORKFLOWS} ORDER BY w.name")]


def workflow_names(connection: sqlite3.Connection) -> list[str]:
    """The full name of every workflow."""
    return [row["name"] for row in connection.execute("SELECT name FROM workflows ORDER BY name")]


def workflow(connection: sqlite3.Connection, name: str) -> Record | None:
    """The current version of one workflow, by full name."""
    row = connection.execute(f"{_WORKFLOWS} WHERE w.name = ?", (name,)).fetchone()
    return dict(row) if row else None


def tasks(connection: sqlite3.Connection) -> list[Record]:
    """Every task that was published, by name."""
    return [dict(row) for row in connection.execute("SELECT * FROM tasks ORDER BY name")]
