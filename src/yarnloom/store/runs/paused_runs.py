"""Statements about runs that are pausing or paused, and about what waits to run again.

Every function takes the unit of the transaction that it is part of.
"""

from __future__ import annotations

import json

from yarnloom.store.unit_of_work import Unit


def runs_held(unit: Unit) -> list[int]:
    """Runs that are pausing or paused, or were put off."""
    found = unit.execute(
        "SELECT number FROM runs WHERE state IN ('pausing', 'paused')"
        " UNION SELECT number FROM runs WHERE put_off = 1"
    )
    return [number for (number,) in found]


def ready_of_run(unit: Unit, run: int) -> list[tuple[str, int, str, str, int]]:
    """How many steps of a run could be handed out: pool, priority, share, contract and count."""
    unit.flush()
    return unit.execute(
        "SELECT pool, priority, share, contract, count(*) FROM steps"
        " WHERE run = ? AND ended_at IS NULL AND state = 'ready' AND open IS NULL"
        " GROUP BY pool, priority, share, contract",
        (run,),
    )


def is_executed(unit: Unit, run: int) -> bool:
    """Whether a worker has anything of a run in hand, or a process goes on with something of it."""
    unit.flush()
    sql = (
        "SELECT EXISTS (SELECT 1 FROM steps WHERE run = ? AND ended_at IS NULL"
        " AND open IS NOT NULL)"
        " OR EXISTS (SELECT 1 FROM attempts WHERE abandoned = 1 AND run = ?)"
    )
    ((found,),) = unit.execute(sql, (run, run))
    return bool(found)


def paused_by(unit: Unit, run: int, address: str | None) -> tuple[str, int, str] | None:
    """Who paused a run, or a step of it, last: who, when and why."""
    found = unit.execute(
        "SELECT who, at, reason FROM commands WHERE run = ? AND what = 'pause'"
        " AND json_extract(detail, '$.step') IS ? ORDER BY id DESC LIMIT 1",
        (run, address),
    )
    return found[0] if found else None


def first_try_began(unit: Unit, step: int, retry_from_attempt: int) -> int | None:
    """When the first attempt began that counts for a step's retry rule."""
    unit.flush()
    ((begun,),) = unit.execute(
        "SELECT min(begun_at) FROM attempts WHERE step = ? AND number > ?",
        (step, retry_from_attempt),
    )
    return None if begun is None else int(begun)


def taken_back(unit: Unit, step: int, kind: str) -> tuple[int, str]:
    """How often a step was taken back since it had not begun, and what was said the last time.

    Args:
        unit: the transaction.
        step: its id.
        kind: the type of the error with which such an attempt ends.
    """
    unit.flush()
    found = unit.execute(
        "SELECT error FROM attempts WHERE step = ? AND outcome = 'handed_back'"
        " AND error ->> 'type' = ? ORDER BY number DESC",
        (step, kind),
    )
    return len(found), json.loads(found[0][0])["message"] if found else ""


def contracts_not_done(unit: Unit, run: int) -> list[str]:
    """What workers must fit for the steps of a run that came up and are not done."""
    unit.flush()
    found = unit.execute(
        "SELECT DISTINCT contract FROM steps WHERE run = ? AND state <> 'done' ORDER BY contract",
        (run,),
    )
    return [contract for (contract,) in found]


def nodes_to_mend(unit: Unit, run: int) -> set[int]:
    """The nodes of a run of which some did not end well."""
    unit.flush()
    found = unit.execute(
        "SELECT node FROM steps WHERE run = ?1 AND state <> 'done' UNION"
        " SELECT node FROM parts WHERE run = ?1 AND (coalesce(outcome, state) <> 'done'"
        " OR fault IS NOT NULL OR rest_state IS NOT NULL OR failed > 0)",
        (run,),
    )
    return {node for (node,) in found}


def failed_of_node(
    unit: Unit, run: int, node: int
) -> list[tuple[int, bytes, str | None, str | None]]:
    """The failed steps of a node: id, rank, and the type and message of their errors."""
    unit.flush()
    found = unit.execute(
        "SELECT id, rank, error ->> 'type', error ->> 'message' FROM steps"
        " WHERE run = ? AND state = 'failed' AND node = ?",
        (run, node),
    )
    return [tuple(row) for row in found]


def items_that_wait(unit: Unit, each: int, limit: int) -> list[int]:
    """Items of an each that have been run and are to be again, in order."""
    unit.flush()
    found = unit.execute(
        "SELECT id FROM parts WHERE parent = ? AND state = 'waiting' AND value IS NOT NULL"
        " ORDER BY item LIMIT ?",
        (each, limit),
    )
    return [part for (part,) in found]


def items_made(unit: Unit, each: int) -> list[tuple[int, int, str | None, str]]:
    """Id, index, name and value of every item of an each that was made, in order."""
    unit.flush()
    return unit.execute(
        "SELECT id, item, name, value FROM parts WHERE parent = ? AND value IS NOT NULL"
        " ORDER BY item",
        (each,),
    )


def size_of_items(unit: Unit, run: int, each: int, *, is_read: bool) -> int:
    """How many bytes the outputs of an each's items have that have ended, with commas.

    Args:
        unit: the transaction.
        run: its run.
        each: the each.
        is_read: whether anything reads its outputs; only then they are kept with the items.
    """
    unit.flush()
    ((size,),) = unit.execute(
        "SELECT coalesce(sum(max(size, 4) + 1), 0) FROM (SELECT size FROM parts"
        " WHERE parent = ?2 AND value IS NOT NULL AND outcome IS NOT NULL UNION ALL"
        " SELECT iif(?3, length(CAST(output AS BLOB)), 0) FROM folded"
        " WHERE run = ?1 AND each = ?2)",
        (run, each, is_read),
    )
    return int(size)


def fractions_in(unit: Unit, part: int) -> list[tuple[int, float]]:
    """Node and fraction of what has a row in a part, without branches that are not chosen now."""
    unit.flush()
    return unit.execute(
        "SELECT node, fraction FROM steps WHERE part = ?1 UNION ALL"
        " SELECT node, fraction FROM parts WHERE parent = ?1 AND value IS NULL"
        " AND NOT (state = 'skipped' AND coalesce(skip_reason, '') IN ('gone', 'not_chosen'))",
        (part,),
    )


def fractions_of_items(unit: Unit, run: int, each: int) -> list[tuple[int, float]]:
    """Index and fraction of the items of an each that were made."""
    unit.flush()
    return unit.execute(
        "SELECT item, fraction FROM parts WHERE parent = ?2 AND value IS NOT NULL UNION ALL"
        " SELECT item, 1.0 FROM folded WHERE run = ?1 AND each = ?2",
        (run, each),
    )


def drop_source(unit: Unit, each: int) -> None:
    """Forget the list of an each, which is about to be read again."""
    unit.change("DELETE FROM sources WHERE part = ?", (each,))


def has_source(unit: Unit, each: int) -> bool:
    """Whether an each has read its list."""
    unit.flush()
    return bool(unit.execute("SELECT 1 FROM sources WHERE part = ?", (each,)))


def move_item(unit: Unit, run: int, part: int, rank: bytes, item: int, new_rank: bytes) -> None:
    """Put an item, with all that is in it, at another place of its each."""
    unit.flush()
    end = rank + b"\xff" * 5
    for table in ("parts", "steps"):
        unit.change(
            f"UPDATE {table} SET rank = CAST(? || substr(rank, ?) AS BLOB)"
            " WHERE run = ? AND rank >= ? AND rank < ?",
            (new_rank, len(rank) + 1, run, rank, end),
        )
    unit.change("UPDATE parts SET item = ?, rank = ? WHERE id = ?", (item, new_rank, part))
    for rows in (unit.parts.rows, unit.steps.rows):
        for key in [key for key, row in rows.items() if rank <= row.rank < end]:
            del rows[key]
