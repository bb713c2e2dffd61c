"""Items of an each that are done, many in one row: segments.

A segment says which items of a grant are done, when, and with which output. Everything else about
them follows from the plan and the list of the each, so that rows can be made of them at any time.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any, NamedTuple

from yarnloom.store.unit_of_work import LARGEST_GRANT, Unit


class Segment(NamedTuple):
    """A row of `segments`."""

    attempt: int
    run: int
    each: int
    node: int
    item: int
    span: int
    part: int
    step: int
    pool: str
    worker: str
    code_hash: str
    round: int
    handed_at: int
    told_at: int
    items: str


class FoldedItem(NamedTuple):
    """A row of `folded`, as far as its segment does not say it.

    Attributes:
        behind: how far it is behind the first item of its segment.
        begun_at: when it began.
        ended_at: when it ended.
        pid: of the process.
        cpu: microseconds of processor time.
        memory: bytes.
        output: as JSON text.
    """

    behind: int
    begun_at: int
    ended_at: int
    pid: int | None
    cpu: int | None
    memory: int | None
    output: str


def keep(unit: Unit, segments: list[Segment]) -> None:
    """Keep segments."""
    marks = ", ".join("?" * len(Segment._fields))
    unit.add_later(f"INSERT INTO segments VALUES ({marks})", segments)


def keep_each(unit: Unit, each: int, lane: tuple[str, int, str, str], fields: str) -> None:
    """Keep what the items of an each share, by its part: lane and inputs of their step."""
    unit.add_later(
        "INSERT OR REPLACE INTO batched_eaches VALUES (?, ?, ?, ?, ?, ?)", [(each, *lane, fields)]
    )


def of_eaches(unit: Unit, run: int, eaches: Collection[int], limit: int) -> list[Segment]:
    """Some segments of eaches of a run, in order."""
    unit.flush()
    marks = ", ".join("?" * len(eaches))
    sql = f"SELECT * FROM segments WHERE run = ? AND each IN ({marks}) ORDER BY each, item LIMIT ?"
    return [Segment(*row) for row in unit.execute(sql, (run, *eaches, limit))]


def with_item(unit: Unit, run: int, each: int, item: int) -> Segment | None:
    """The segment that an item of an each is in; None if it has rows, or has not ended."""
    unit.flush()
    found = unit.execute(
        "SELECT s.* FROM segments s WHERE run = ?1 AND each = ?2 AND item BETWEEN ?3 - ?4 AND ?3"
        " AND EXISTS (SELECT 1 FROM json_each(s.items) i WHERE s.item + (i.value ->> 0) = ?3)",
        (run, each, item, LARGEST_GRANT),
    )
    return Segment(*found[0]) if found else None


def take_out(unit: Unit, segment: Segment, item: int) -> None:
    """Take an item out of a segment: it has rows now."""
    unit.change(
        "UPDATE segments SET items = (SELECT json_group_array(json(value)) FROM json_each(items)"
        " WHERE value ->> 0 <> ?2) WHERE attempt = ?1",
        (segment.attempt, item - segment.item),
    )
    unit.change("DELETE FROM segments WHERE attempt = ? AND items = '[]'", (segment.attempt,))


def eaches_of(unit: Unit, run: int) -> list[int]:
    """The eaches of a run that have items in segments."""
    unit.flush()
    found = unit.execute("SELECT DISTINCT each FROM segments WHERE run = ?", (run,))
    return [each for (each,) in found]


def items_of(unit: Unit, segment: Segment) -> list[FoldedItem]:
    """The items of a segment, in order."""
    rows = unit.execute(
        "SELECT item - ?, begun_at, ended_at, pid, cpu, memory, output FROM folded"
        " WHERE segment = ? ORDER BY item",
        (segment.item, segment.attempt),
    )
    return [FoldedItem(*row) for row in rows]


def drop(unit: Unit, segments: Iterable[Segment]) -> None:
    """All of them have rows now."""
    rows = [(segment.attempt,) for segment in segments]
    unit.add_later("DELETE FROM segments WHERE attempt = ?", rows)


def worker_of(unit: Unit, attempt: int) -> str | None:
    """The worker of an attempt that is done and has no row; None if there is none."""
    unit.flush()
    found = unit.execute(
        "SELECT worker FROM folded WHERE segment BETWEEN ? AND ? AND attempt = ?",
        (attempt - LARGEST_GRANT, attempt, attempt),
    )
    return found[0][0] if found else None


def item_text(
    behind: int, began: int, took: int, pid: Any, cpu: Any, memory: Any, output: str
) -> str:
    """One item, as `items` has it."""
    pid, cpu = "null" if pid is None else pid, "null" if cpu is None else cpu
    return f"[{behind},{began},{took},{pid},{cpu},{'null' if memory is None else memory},{output}]"
