"""What of runs is under way outside of items, from which is told what moves in them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from yarnloom.store.select import Record

Execute = Callable[[str, Sequence[Any]], Iterable[Any]]

_PARTS = (
    *("run", "node", "state", "outcome", "total", "done", "failed", "skipped", "awaits"),
    *("covers", "covered", "fraction", "fraction_then", "since", "moved_at"),
)
_STEPS = ("run", "node", "state", "saved", "started_at")


def open_rows(
    execute: Execute, runs: Sequence[int], *, ended: bool = False
) -> dict[int, dict[int, Record]]:
    """By run and node the parts and steps that have begun, have not ended and stand in no item.

    There are at most as many as the plan has nodes: the conditions are those of an index.

    Args:
        execute: runs a statement, of a reader's connection or of the writer's unit.
        runs: their numbers.
        ended: those that failed or were cancelled instead.
    """
    found: dict[int, dict[int, Record]] = {run: {} for run in runs}
    marks = ", ".join("?" * len(runs))
    how = "state IN ('failed', 'cancelled')" if ended else "ended_at IS NULL"
    where = f"run IN ({marks}) AND item_part IS NULL AND {how}"
    for table, columns, more in (
        ("parts INDEXED BY parts_inside", _PARTS, " AND value IS NULL"),
        ("steps INDEXED BY steps_inside", _STEPS, ""),
    ):
        sql = f"SELECT {', '.join(columns)} FROM {table} WHERE {where}{more}"
        for row in execute(sql, runs):
            record = dict(zip(columns, row, strict=True))
            found[record["run"]][record["node"]] = record
    return found
