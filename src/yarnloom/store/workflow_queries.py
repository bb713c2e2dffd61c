"""Queries of readers about workflows, their plans, and tasks."""

from __future__ import annotations

import json
import sqlite3

from yarnloom.store.select import Record, select_one


def plan_document(connection: sqlite3.Connection, plan: int) -> Record:
    """The JSON form of a plan."""
    row = connection.execute("SELECT document FROM plans WHERE id = ?", (plan,)).fetchone()
    document: Record = json.loads(row["document"])
    return document


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


def code(connection: sqlite3.Connection, task: str, code_hash: str) -> Record | None:
    """Code of a task that was published or brought by a worker."""
    return select_one(
        connection, "SELECT * FROM codes WHERE task = ? AND code_hash = ?", task, code_hash
    )
