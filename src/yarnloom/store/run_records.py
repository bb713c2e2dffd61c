"""Statements of the writer beside the unit's tables: looms, start keys, workers, the command log.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json
from typing import Any

from yarnloom.store.unit_of_work import Unit


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


def task_names(unit: Unit) -> list[str]:
    """The full name of every task that was published."""
    return [name for (name,) in unit.execute("SELECT name FROM tasks ORDER BY name")]


def task_facts(unit: Unit, name: str) -> dict[str, Any]:
    """What its newest publication said of a task."""
    ((text,),) = unit.execute("SELECT facts FROM tasks WHERE name = ?", (name,))
    facts: dict[str, Any] = json.loads(text)
    return facts


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


# What is ready of a run that is pausing or paused is in no lane.
NOT_HELD = "run NOT IN (SELECT number FROM runs WHERE state IN ('pausing', 'paused'))"

READY_BY_LANE = (
    "SELECT pool, priority, share, contract, count(*), min(run) FROM steps"
    f" WHERE state = 'ready' AND open IS NULL AND {NOT_HELD}"
    " GROUP BY pool, priority, share, contract"
)

NEXT_READY = (
    "SELECT id, run, rank FROM steps INDEXED BY steps_to_start"
    " WHERE state = 'ready' AND open IS NULL AND pool = ? AND priority = ? AND share = ?"
    " AND contract = ? {held} ORDER BY run, rank LIMIT ?"
)

FAILED_UNDER = (
    "SELECT {columns} FROM steps WHERE run = ? AND state = 'failed' AND rank >= ? AND rank < ?"
)
FAULTY_UNDER = (
    "SELECT {columns} FROM parts WHERE run = ? AND fault IS NOT NULL AND rank >= ? AND rank < ?"
)


def ready_by_lane(unit: Unit) -> list[tuple[str, int, str, str, int, int]]:
    """How many steps could be handed out, by pool, priority, share and contract.

    The last number is the lane's oldest run, and lanes come in the order of these.
    """
    return sorted(unit.execute(READY_BY_LANE), key=lambda row: row[5])


def next_ready(
    unit: Unit, lane: tuple[str, int, str, str], limit: int, *, some_held: bool
) -> list[tuple[int, int, bytes]]:
    """The first steps of a lane in plan order: id, run and rank.

    Args:
        unit: the transaction.
        lane: pool, priority, share and contract.
        limit: how many.
        some_held: whether any runs are pausing or paused; theirs are passed over.
    """
    sql = NEXT_READY.format(held=f"AND {NOT_HELD}" if some_held else "")
    return unit.execute(sql, (*lane, limit))


# What an each goes through, and what it gives


def keep_source(unit: Unit, part: int, items: str) -> None:
    """Keep the list of an each."""
    unit.flush()  # the part that it belongs to must be there
    unit.change("INSERT INTO sources VALUES (?, ?)", (part, items))


def source(unit: Unit, part: int) -> str:
    """The list of an each, as JSON text."""
    ((items,),) = unit.execute("SELECT items FROM sources WHERE part = ?", (part,))
    return str(items)


def unfinished_eaches(unit: Unit) -> list[int]:
    """Eaches that have still items to make."""
    found = unit.execute(
        "SELECT id FROM parts WHERE unmade > 0 AND outcome IS NULL"
        " UNION SELECT id FROM parts WHERE again > 0 AND outcome IS NULL"
    )
    return [part for (part,) in found]


OUTPUTS = (
    "SELECT item, output FROM parts WHERE parent = ?2 AND node = ?3 AND {which}"
    " UNION ALL SELECT item, output FROM folded WHERE run = ?1 AND each = ?2"
)
NOT_GONE, DONE = "skip_reason IS NOT 'gone'", "outcome = 'done'"


def gathered(unit: Unit, run: int, each: int, node: int, *, only_done: bool) -> str:
    """The outputs of an each's items as a JSON list, in item order."""
    unit.flush()
    outputs = OUTPUTS.format(which=DONE if only_done else NOT_GONE)
    ((text,),) = unit.execute(
        "SELECT group_concat(coalesce(output, 'null'), ',') FROM"
        f" (SELECT output FROM ({outputs}) ORDER BY item)",
        (run, each, node),
    )
    return f"[{text or ''}]"


def failed_items(unit: Unit, part: int, limit: int) -> list[tuple[int, str | None, str]]:
    """Index, name and error of the items of an each that failed, in item order."""
    unit.flush()
    return unit.execute(
        "SELECT item, name, error FROM parts WHERE parent = ? AND value IS NOT NULL"
        " AND coalesce(outcome, state) = 'failed' ORDER BY item LIMIT ?",
        (part, limit),
    )


def failed_steps_under(
    unit: Unit, run: int, rank: bytes, limit: int
) -> list[tuple[bytes, int, int, int, str]]:
    """Rank, node, part, attempts and error of failed steps in a part, in plan order."""
    unit.flush()
    sql = FAILED_UNDER.format(columns="rank, node, part, attempts, error")
    return unit.execute(f"{sql} ORDER BY rank LIMIT ?", (run, rank, _after(rank), limit))


def faulty_parts_under(
    unit: Unit, run: int, rank: bytes, limit: int
) -> list[tuple[bytes, int, int, str]]:
    """Rank, node, id and fault of parts in a part that failed of themselves, in plan order."""
    unit.flush()
    sql = FAULTY_UNDER.format(columns="rank, node, id, fault")
    return unit.execute(f"{sql} ORDER BY rank LIMIT ?", (run, rank, _after(rank), limit))


def failures_by_node(unit: Unit, run: int, rank: bytes) -> list[tuple[int, int]]:
    """How often each node failed of itself, in a part."""
    unit.flush()
    found = []
    for query in (FAILED_UNDER, FAULTY_UNDER):
        sql = query.format(columns="node, count(*)") + " GROUP BY node"
        found += unit.execute(sql, (run, rank, _after(rank)))
    return found


def _after(rank: bytes) -> bytes:
    """Greater than every rank that begins with this one."""
    return rank + b"\xff" * 5


def keep_code(unit: Unit, task: str, code_hash: str, source_text: str, at: int) -> None:
    """Keep the source of a task, unless it is kept already."""
    unit.change(
        "INSERT INTO codes VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
        (task, code_hash, source_text, at),
    )


# Runs that wait for others of their workflow, and what falls due


def runs_under_way(unit: Unit, workflow: str) -> list[tuple[int, int]]:
    """Runs of a workflow that came up and have not ended, oldest first; whether each entered."""
    unit.flush()
    return unit.execute(
        "SELECT number, entered FROM runs WHERE workflow = ? AND ended_at IS NULL"
        " AND entered >= 0 ORDER BY number",
        (workflow,),
    )


def next_held(unit: Unit, workflow: str) -> int | None:
    """The run of a workflow that enters next: of the highest priority the oldest."""
    unit.flush()
    found = unit.execute(
        "SELECT number FROM runs WHERE workflow = ? AND entered = 0 AND ended_at IS NULL"
        " AND state <> 'paused'"
        " ORDER BY priority DESC, number LIMIT 1",
        (workflow,),
    )
    return found[0][0] if found else None


def runs_by_workflow(unit: Unit) -> list[tuple[str, int, int]]:
    """Of each workflow how many runs have entered, and how many wait, and have not ended."""
    return unit.execute(
        "SELECT workflow, entered, count(*) FROM runs WHERE ended_at IS NULL AND entered >= 0"
        " GROUP BY workflow, entered"
    )


_LATE_RUN = "deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL AND paused_at IS NULL"
# A step that is to stop for a pause or drain can still be too late; one whose run is paused not.
_LATE_STEP = (
    "deadline_at IS NOT NULL AND ended_at IS NULL AND state <> 'paused'"
    " AND (stop IS NULL OR stop IN ('pause', 'drain'))"
    " AND run NOT IN (SELECT number FROM runs WHERE state = 'paused')"
)


def runs_past_deadline(unit: Unit, now: int) -> list[int]:
    """Runs that should have ended by now and were not told to stop."""
    unit.flush()
    sql = f"SELECT number FROM runs WHERE {_LATE_RUN} AND deadline_at <= ?"
    found = unit.execute(sql, (now,))
    return [number for (number,) in found]


def next_run_deadline(unit: Unit) -> int | None:
    """When the next run should have ended."""
    return unit.least(f"SELECT min(deadline_at) FROM runs WHERE {_LATE_RUN}")


def steps_past_deadline(unit: Unit, now: int, limit: int) -> list[int]:
    """Steps that should have ended by now and were not told to stop."""
    unit.flush()
    found = unit.execute(
        f"SELECT id FROM steps WHERE {_LATE_STEP} AND deadline_at <= ?"
        " ORDER BY deadline_at LIMIT ?",
        (now, limit),
    )
    return [step for (step,) in found]


def next_step_deadline(unit: Unit) -> int | None:
    """When the next step should have ended."""
    return unit.least(f"SELECT min(deadline_at) FROM steps WHERE {_LATE_STEP}")


_DUE = "due_at IS NOT NULL AND state <> 'paused'"


def steps_due(unit: Unit, now: int, limit: int) -> list[int]:
    """Steps whose back-off or rest is over."""
    unit.flush()
    found = unit.execute(
        f"SELECT id FROM steps WHERE {_DUE} AND due_at <= ? ORDER BY due_at LIMIT ?",
        (now, limit),
    )
    return [step for (step,) in found]


def try_to_write(unit: Unit) -> None:
    """Write something, to find out whether that can be done again.

    Raises:
        StoreFailed: it cannot.
    """
    unit.change("UPDATE service SET value = value WHERE key = 'commits'")
    unit.commit()


def next_due(unit: Unit) -> int | None:
    """When the next back-off or rest is over."""
    return unit.least(f"SELECT min(due_at) FROM steps WHERE {_DUE}")


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
