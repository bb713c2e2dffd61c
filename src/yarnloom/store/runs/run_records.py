"""Statements of the writer beside the unit's tables: looms, start keys, workers, the command log.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json
from typing import Any

from yarnloom.store.unit_of_work import Unit


def find_start(unit: Unit, workflow: str, key: str) -> tuple[int, str] | None:
    """The run that a start key made, and the hash of its params."""
    found = unit.execute(
        "SELECT run, params_hash FROM start_keys WHERE workflow = ? AND key = ?", (workflow, key)
    )
    return found[0] if found else None


def free_start(unit: Unit, workflow: str, key: str) -> None:
    """Let a start key make another run."""
    unit.change("DELETE FROM start_keys WHERE workflow = ? AND key = ?", (workflow, key))


def keep_start(unit: Unit, workflow: str, key: str, run: int, params_hash: str, at: int) -> None:
    """Tie a start key to its run."""
    unit.change(
        "INSERT INTO start_keys VALUES (?, ?, ?, ?, ?)", (workflow, key, run, params_hash, at)
    )


def log_command(
    unit: Unit, at: int, who: str, what: str, run: int | None, reason: str, **detail: Any
) -> None:
    """Record who gave which command, when and why."""
    unit.change(
        "INSERT INTO commands (at, who, what, run, reason, detail) VALUES (?, ?, ?, ?, ?, ?)",
        (at, who, what, run, reason, json.dumps(detail)),
    )


# What an each goes through, and what it gives


NOT_GONE, DONE = "skip_reason IS NOT 'gone'", "outcome = 'done'"


# Runs that wait for others of their workflow, and what falls due


Queue = tuple[str, str]
"""A workflow, and the value for which its `at_once` holds; empty for all its runs."""


def runs_under_way(unit: Unit, queue: Queue) -> list[tuple[int, int]]:
    """Runs of a queue that came up and have not ended, oldest first; whether each entered."""
    unit.flush()
    return unit.execute(
        "SELECT number, admission FROM runs WHERE workflow = ? AND queue = ?"
        " AND ended_at IS NULL AND admission >= 0 ORDER BY number",
        queue,
    )


def next_held(unit: Unit, queue: Queue) -> int | None:
    """The run of a queue that enters next: of the highest priority the oldest."""
    unit.flush()
    found = unit.execute(
        "SELECT number FROM runs WHERE workflow = ? AND queue = ? AND admission = 0"
        " AND ended_at IS NULL AND state <> 'paused'"
        " ORDER BY priority DESC, number LIMIT 1",
        queue,
    )
    return found[0][0] if found else None


def runs_by_queue(unit: Unit) -> list[tuple[str, str, int, int]]:
    """Of each queue how many runs have entered, and how many wait, and have not ended."""
    return unit.execute(
        "SELECT workflow, queue, admission, count(*) FROM runs"
        " WHERE ended_at IS NULL AND admission >= 0 GROUP BY workflow, queue, admission"
    )


def try_to_write(unit: Unit) -> None:
    """Write something, to find out whether that can be done again.

    Raises:
        StoreFailed: it cannot.
    """
    unit.change("UPDATE service SET value = value WHERE key = 'commits'")
    unit.commit()
