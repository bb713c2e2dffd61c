"""Statements of the writer for pools, and for what counts in them.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


def keep(unit: Unit, name: str, at: int, by: str) -> None:
    """Keep a pool, unless it is kept already."""
    unit.change(
        "INSERT INTO pools VALUES (?, '{}', NULL, ?, ?) ON CONFLICT DO NOTHING", (name, at, by)
    )


def change(unit: Unit, name: str, by_hand: Record, paused: Record | None) -> None:
    """Keep what was set by hand."""
    held = None if paused is None else json.dumps(paused)
    unit.change(
        "UPDATE pools SET by_hand = ?, paused = ? WHERE name = ?", (json.dumps(by_hand), held, name)
    )


def remove(unit: Unit, name: str) -> None:
    """Forget a pool and what looms say of it."""
    unit.change("DELETE FROM pool_declarations WHERE pool = ?", (name,))
    unit.change("DELETE FROM pools WHERE name = ?", (name,))


def declare(unit: Unit, name: str, loom: str, facts: Record, at: int) -> None:
    """Keep what a loom says of a pool."""
    unit.change(
        "INSERT INTO pool_declarations VALUES (?, ?, ?, ?) ON CONFLICT (pool, loom) DO UPDATE"
        " SET facts = excluded.facts, declared_at = excluded.declared_at",
        (name, loom, json.dumps(facts), at),
    )


def undeclare(unit: Unit, name: str, loom: str) -> None:
    """A loom does not declare a pool any more."""
    unit.change("DELETE FROM pool_declarations WHERE pool = ? AND loom = ?", (name, loom))


def every(unit: Unit) -> list[tuple[str, Record, Record | None]]:
    """Every pool: its name, what was set by hand, and who paused it."""
    found = unit.execute("SELECT name, by_hand, paused FROM pools ORDER BY name")
    return [
        (name, json.loads(by_hand), None if paused is None else json.loads(paused))
        for name, by_hand, paused in found
    ]


def declarations(unit: Unit) -> list[tuple[str, str, Record]]:
    """What looms say of pools: pool, loom and facts."""
    found = unit.execute("SELECT pool, loom, facts FROM pool_declarations ORDER BY pool, loom")
    return [(pool, loom, json.loads(facts)) for pool, loom, facts in found]


def begins_since(unit: Unit, since: int) -> list[tuple[str, int]]:
    """Attempts in pools that began since a time: their pool, with its value, and when."""
    unit.flush()
    sql = (
        "SELECT pool, begun_at FROM attempts WHERE begun_at > ?1 AND pool <> '' UNION ALL"
        " SELECT pool, begun_at FROM folded WHERE told_at > ?1 AND pool <> '' AND begun_at > ?1"
    )
    return unit.execute(sql, (since,))


def abandoned_attempts(unit: Unit, worker: str) -> list[int]:
    """Attempts of a worker that ended while their process goes on."""
    found = unit.execute("SELECT id FROM attempts WHERE worker = ? AND abandoned = 1", (worker,))
    return [attempt for (attempt,) in found]


def unfinished_plans(unit: Unit) -> list[int]:
    """The plans of all runs that have not ended."""
    unit.flush()
    found = unit.execute("SELECT DISTINCT plan FROM runs WHERE ended_at IS NULL")
    return [plan for (plan,) in found]
