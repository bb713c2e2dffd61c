"""How long the nodes of workflows took, and the rows from which that is learnt."""

from __future__ import annotations

import json

from yarnloom.store.runs.step_queries import Execute
from yarnloom.store.unit_of_work import Unit

LOOKED_AT = 2_000
"""Rows of items that are looked at, the first of very many."""

Times = dict[str, float]


def newest(unit: Unit) -> dict[str, int]:
    """The newest weights of every workflow, by full name."""
    return dict(unit.execute("SELECT workflow, max(id) FROM weights GROUP BY workflow"))


def times_of(execute: Execute, weights: int) -> tuple[float, Times]:
    """Seconds of a whole run, and by address of each node."""
    ((seconds, nodes),) = execute("SELECT seconds, nodes FROM weights WHERE id = ?", (weights,))
    return seconds, json.loads(nodes)


def works_of(execute: Execute, weights: int) -> Times:
    """By address the seconds of an attempt of a step, and those of all attempts in an each."""
    ((works,),) = execute("SELECT works FROM weights WHERE id = ?", (weights,))
    found: Times = json.loads(works)
    return found


def keep(unit: Unit, workflow: str, seconds: float, nodes: Times, works: Times, now: int) -> int:
    """Keep what was learnt; the id of the new row."""
    unit.change(
        "INSERT INTO weights (workflow, seconds, nodes, works, made_at) VALUES (?, ?, ?, ?, ?)",
        (workflow, seconds, json.dumps(nodes), json.dumps(works), now),
    )
    ((key,),) = unit.execute("SELECT max(id) FROM weights")
    return int(key)


def parts_of(unit: Unit, run: int) -> dict[int, float]:
    """Seconds from begin to end of the parts of a run that stand in no item, by node."""
    unit.flush()
    rows = unit.execute(
        "SELECT node, ended_at - started_at FROM parts WHERE run = ? AND item_part IS NULL"
        " AND value IS NULL AND ended_at IS NOT NULL",
        (run,),
    )
    return {node: micros / 1e6 for node, micros in rows}


def steps_of(unit: Unit, run: int) -> dict[int, tuple[float, float]]:
    """The same of its steps: with what they waited before they began, and without."""
    rows = unit.execute(
        "SELECT node, ended_at - min(ready_at, started_at), ended_at - started_at FROM steps"
        " WHERE run = ? AND item_part IS NULL AND started_at IS NOT NULL AND ended_at IS NOT NULL",
        (run,),
    )
    return {node: (whole / 1e6, alone / 1e6) for node, whole, alone in rows}


def steps_in_items(unit: Unit, run: int) -> dict[int, float]:
    """Mean seconds of the steps in its items, by node."""
    rows = unit.execute(
        "SELECT node, avg(ended_at - started_at) FROM"
        " (SELECT * FROM (SELECT node, started_at, ended_at FROM steps"
        "  WHERE run = ?1 AND item_part > 0 LIMIT ?2) UNION ALL"
        "  SELECT * FROM (SELECT node, begun_at, ended_at FROM folded WHERE run = ?1 LIMIT ?2))"
        " WHERE started_at IS NOT NULL AND ended_at IS NOT NULL GROUP BY node",
        (run, LOOKED_AT),
    )
    return {node: micros / 1e6 for node, micros in rows}


def item_counts(unit: Unit, run: int) -> dict[int, float]:
    """Mean number of children of its parts, by node: of an each how many items it has."""
    rows = unit.execute(
        "SELECT node, avg(total) FROM (SELECT node, total FROM parts WHERE run = ?1"
        " AND value IS NULL AND item_part IS NULL UNION ALL SELECT * FROM (SELECT node, total FROM"
        " parts WHERE run = ?1 AND value IS NULL AND item_part > 0 LIMIT ?2)) GROUP BY node",
        (run, LOOKED_AT),
    )
    return dict(rows)
