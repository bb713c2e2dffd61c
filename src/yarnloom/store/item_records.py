"""The writer's statements about items of eaches: their lists, outputs and failures."""

from __future__ import annotations

from yarnloom.store.run_records import DONE, NOT_GONE
from yarnloom.store.unit_of_work import Unit

FAILED_UNDER = (
    "SELECT {columns} FROM steps WHERE run = ? AND state = 'failed' AND rank >= ? AND rank < ?"
)


FAULTY_UNDER = (
    "SELECT {columns} FROM parts WHERE run = ? AND fault IS NOT NULL AND rank >= ? AND rank < ?"
)


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
        " UNION SELECT id FROM parts WHERE items_to_rerun > 0 AND outcome IS NULL"
    )
    return [part for (part,) in found]


OUTPUTS = (
    "SELECT item, output FROM parts WHERE parent = ?2 AND node = ?3 AND {which}"
    " UNION ALL SELECT item, output FROM folded WHERE run = ?1 AND each = ?2"
)


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
