"""The writer's statements about workflows, plans, tasks and their code."""

from __future__ import annotations

import json

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


def plan_id(unit: Unit, workflow: str, version: str) -> int | None:
    """The id of a plan, or None."""
    found = unit.execute(
        "SELECT id FROM plans WHERE workflow = ? AND version = ?", (workflow, version)
    )
    return found[0][0] if found else None


def plan_document(unit: Unit, plan: int) -> Record:
    """The JSON form of a plan."""
    ((text,),) = unit.execute("SELECT document FROM plans WHERE id = ?", (plan,))
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
