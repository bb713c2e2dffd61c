"""What of a run has begun outside of items, and which attempts of it run now."""

from __future__ import annotations

from typing import NamedTuple

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

Row = Record

MOST = 500
"""How many running attempts are looked at."""

_PARTS = (
    *("node", "state", "outcome", "total", "done", "failed", "cancelled", "skipped", "running"),
    *("awaits", "since", "fraction", "fraction_then", "ended_at"),
)
_STEPS = ("node", "state", "saved", "started_at", "due_at", "ended_at")


class Running(NamedTuple):
    """An attempt that runs: the node of its step, and since when."""

    node: int
    since: int


def rows_of(unit: Unit, run: int) -> dict[int, Row]:
    """By node the parts and steps of a run that have begun and are in no item."""
    unit.flush()
    rows: dict[int, Row] = {}
    for table, columns, more in (
        ("parts INDEXED BY parts_inside", _PARTS, " AND value IS NULL"),
        ("steps INDEXED BY steps_inside", _STEPS, ""),
    ):
        sql = f"SELECT {', '.join(columns)} FROM {table} WHERE run = ? AND item_part IS NULL{more}"
        for row in unit.execute(sql, (run,)):
            record = dict(zip(columns, row, strict=True))
            if record["state"] == "waiting":  # it is to run again
                continue
            record["ended_at"] = record["ended_at"] if record.get("outcome", "-") else None
            rows[record["node"]] = record
    return rows


def running(unit: Unit, run: int) -> list[Running]:
    """The attempts of a run that run now, the oldest of very many."""
    rows = unit.execute(
        "SELECT s.node, a.begun_at FROM steps s CROSS JOIN attempts a ON a.id = s.open"
        " WHERE s.run = ? AND s.ended_at IS NULL AND s.open IS NOT NULL AND a.begun_at IS NOT NULL"
        " LIMIT ?",
        (run, MOST),
    )
    return [Running(*row) for row in rows]
