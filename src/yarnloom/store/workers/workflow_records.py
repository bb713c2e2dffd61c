"""Published workflows and their plans, and queries about them."""

from __future__ import annotations

import json
import sqlite3

from yarnloom.store.select import Record, select_one
from yarnloom.store.unit_of_work import Unit


def plan_id(unit: Unit, workflow: str, version: str) -> int | None:
    """The id of a plan, or None."""
    found = unit.execute(
        "SELECT id FROM plans WHERE workflow = ? AND version = ?", (workflow, version)
    )
    return found[0][0] if found else None


def plan_document(asked: Unit | sqlite3.Connection, plan: int) -> Record:
    """The JSON form of a plan."""
    ((text,),) = asked.execute("SELECT document FROM plans WHERE id = ?", (plan,))
    document: Record = json.loads(text)
    return document


def keep_plan(unit: Unit, workflow: str, version: str, document: Record, at: int) -> int:
    """Keep a plan, unless it is kept already; its id."""
    unit.change(
        "INSERT INTO plans (workflow, version, document, published_at) VALUES (?, ?, ?, ?)"
        " ON CONFLICT DO NOTHING",
        (workflow, version, json.dumps(document), at),
    )
    found = plan_id(unit, workflow, version)
    assert found is not None
    return found


def make_current(unit: Unit, workflow: str, plan: int, at: int, by: str) -> None:
    """Make a plan its workflow's current version."""
    unit.change(
        "INSERT INTO workflows VALUES (?, ?, ?, ?)"
        " ON CONFLICT (name) DO UPDATE SET plan = excluded.plan,"
        " published_at = excluded.published_at, published_by = excluded.published_by",
        (workflow, plan, at, by),
    )


def keep_task(unit: Unit, name: str, facts: Record, at: int) -> None:
    """Keep what a publication said of a task."""
    unit.change(
        "INSERT INTO tasks VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE"
        " SET facts = excluded.facts, published_at = excluded.published_at",
        (name, json.dumps(facts), at),
    )


def task_names(unit: Unit) -> list[str]:
    """The full name of every task that was published."""
    return [name for (name,) in unit.execute("SELECT name FROM tasks ORDER BY name")]


def task_facts(unit: Unit, name: str) -> Record:
    """What its newest publication said of a task."""
    ((text,),) = unit.execute("SELECT facts FROM tasks WHERE name = ?", (name,))
    facts: Record = json.loads(text)
    return facts


def current_plans(unit: Unit) -> dict[str, int]:
    """The current plan of every workflow, by full name."""
    return dict(unit.execute("SELECT name, plan FROM workflows"))


def keep_code(unit: Unit, task: str, code_hash: str, source_text: str, at: int) -> None:
    """Keep the source of a task, unless it is kept already."""
    unit.change(
        "INSERT INTO codes VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
        (task, code_hash, source_text, at),
    )


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
