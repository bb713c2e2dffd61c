"""Statements of the writer beside the unit's tables: looms, start keys, workers, the command log.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json
from typing import Any

from yarnloom.store.unit import Unit


def plan_id(unit: Unit, workflow: str, version: str) -> int | None:
    """The id of a plan, or None."""
    found = unit.execute(
        "SELECT id FROM plans WHERE workflow = ? AND version = ?", (workflow, version)
    )
    return found[0][0] if found else None


def plan_document(unit: Unit, plan: int) -> dict[str, Any]:
    """The JSON form of a plan."""
    ((text,),) = unit.execute("SELECT document FROM plans WHERE id = ?", (plan,))
    document: dict[str, Any] = json.loads(text)
    return document


def keep_plan(unit: Unit, workflow: str, version: str, document: dict[str, Any], at: int) -> int:
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


def keep_task(unit: Unit, name: str, facts: dict[str, Any], at: int) -> None:
    """Keep what a publication said of a task."""
    unit.change(
        "INSERT INTO tasks VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE"
        " SET facts = excluded.facts, published_at = excluded.published_at",
        (name, json.dumps(facts), at),
    )


def current_plans(unit: Unit) -> dict[str, int]:
    """The current plan of every workflow, by full name."""
    return dict(unit.execute("SELECT name, plan FROM workflows"))


def find_start(unit: Unit, workflow: str, key: str) -> tuple[int, str] | None:
    """The run that a start key made, and the hash of its params."""
    found = unit.execute(
        "SELECT run, params_hash FROM start_keys WHERE workflow = ? AND key = ?", (workflow, key)
    )
    return found[0] if found else None


def keep_start(unit: Unit, workflow: str, key: str, run: int, params_hash: str, at: int) -> None:
    """Tie a start key to its run."""
    unit.change(
        "INSERT INTO start_keys VALUES (?, ?, ?, ?, ?)", (workflow, key, run, params_hash, at)
    )


def keep_worker(unit: Unit, worker: str, name: str, facts: dict[str, Any], at: int) -> None:
    """Keep a worker that registered, for the first time or again."""
    unit.change(
        "INSERT INTO workers VALUES (?, ?, ?, ?, NULL) ON CONFLICT (id) DO UPDATE"
        " SET name = excluded.name, facts = excluded.facts, gone_at = NULL",
        (worker, name, json.dumps(facts), at),
    )


def worker_gone(unit: Unit, worker: str, at: int) -> None:
    """Note that a worker left or was lost."""
    unit.change("UPDATE workers SET gone_at = ? WHERE id = ?", (at, worker))


def workers_present(unit: Unit) -> list[tuple[str, str, dict[str, Any]]]:
    """Id, name and facts of every worker that is not known to be gone."""
    found = unit.execute("SELECT id, name, facts FROM workers WHERE gone_at IS NULL")
    return [(worker, name, json.loads(facts)) for worker, name, facts in found]


def open_attempts(unit: Unit, worker: str) -> list[int]:
    """Ids of the attempts that a worker has in hand, as recorded."""
    found = unit.execute(
        "SELECT id FROM attempts WHERE worker = ? AND outcome IS NULL ORDER BY id", (worker,)
    )
    return [attempt for (attempt,) in found]


def log_command(
    unit: Unit, at: int, who: str, what: str, run: int | None, reason: str, **detail: Any
) -> None:
    """Record who gave which command, when and why."""
    unit.change(
        "INSERT INTO commands (at, who, what, run, reason, detail) VALUES (?, ?, ?, ?, ?, ?)",
        (at, who, what, run, reason, json.dumps(detail)),
    )


READY_BY_LANE = (
    "SELECT pool, priority, share, task, count(*), min(run) FROM steps"
    " WHERE state = 'ready' AND open IS NULL GROUP BY pool, priority, share, task"
)

NEXT_READY = (
    "SELECT id, run, rank FROM steps INDEXED BY steps_to_start"
    " WHERE state = 'ready' AND open IS NULL AND pool = ? AND priority = ? AND share = ?"
    " AND task = ? ORDER BY run, rank LIMIT ?"
)


def ready_by_lane(unit: Unit) -> list[tuple[str, int, str, str, int]]:
    """How many steps could be handed out, by pool, priority, share and task; oldest run first."""
    rows = sorted(unit.execute(READY_BY_LANE), key=lambda row: row[5])
    return [row[:5] for row in rows]


def next_ready(
    unit: Unit, pool: str, priority: int, share: str, task: str, limit: int
) -> list[tuple[int, int, bytes]]:
    """The first steps of a lane in plan order: id, run and rank."""
    return unit.execute(NEXT_READY, (pool, priority, share, task, limit))
