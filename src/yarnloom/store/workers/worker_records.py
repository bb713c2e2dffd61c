"""The writer's statements about workers and what they have in hand."""

from __future__ import annotations

import json

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


def keep_worker(unit: Unit, worker: str, name: str, facts: Record, at: int) -> None:
    """Keep a worker that registered, for the first time or again."""
    unit.change(
        "INSERT INTO workers VALUES (?, ?, ?, ?, NULL) ON CONFLICT (id) DO UPDATE"
        " SET name = excluded.name, facts = excluded.facts, gone_at = NULL",
        (worker, name, json.dumps(facts), at),
    )


def worker_gone(unit: Unit, worker: str, at: int) -> None:
    """Note that a worker left or was lost."""
    unit.change("UPDATE workers SET gone_at = ? WHERE id = ?", (at, worker))


def workers_present(unit: Unit) -> list[tuple[str, str, Record]]:
    """Id, name and facts of every worker that is not known to be gone."""
    found = unit.execute("SELECT id, name, facts FROM workers WHERE gone_at IS NULL")
    return [(worker, name, json.loads(facts)) for worker, name, facts in found]


def open_attempts(unit: Unit, worker: str) -> list[int]:
    """Ids of the attempts that a worker has in hand, as recorded."""
    found = unit.execute(
        "SELECT id FROM attempts WHERE worker = ? AND outcome IS NULL ORDER BY id", (worker,)
    )
    return [attempt for (attempt,) in found]


RECALLED = 50_000


def recent_attempts(unit: Unit, since: int) -> list[tuple[int, int, int | None, str | None]]:
    """Of attempts that began since a time, oldest first: ready, begun, ended, and their outcome.

    Of very many the newest. They are found by id, since ids are given out in the order of time.
    """
    found = unit.execute(
        "SELECT ready_at, begun_at, ended_at, outcome FROM ("
        "SELECT * FROM (SELECT ready_at, begun_at, ended_at, outcome FROM attempts"
        " ORDER BY id DESC LIMIT ?1) UNION ALL "
        "SELECT * FROM (SELECT handed_at, begun_at, ended_at, 'done' FROM folded"
        " WHERE segment IN (SELECT attempt FROM segments WHERE told_at >= ?2"
        "  ORDER BY attempt DESC LIMIT ?1 / 50)))"
        " WHERE begun_at >= ?2 ORDER BY begun_at",
        (RECALLED, since),
    )
    return list(found)
