"""Items that went as usual, many in one row, and queries about them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Sequence
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


class EachFacts(NamedTuple):
    """What the batched items of an each share; a row of `batched_eaches`.

    Attributes:
        pool: of the step in each item.
        priority: of that step.
        share: of that step.
        contract: of that step.
        fields: of its input: name, JSON text of a value that all share, else the path in the item.
    """

    pool: str
    priority: int
    share: str
    contract: str
    fields: list[tuple[str, str | None, list[str]]]


class Batch(NamedTuple):
    """A row of `segments`, as far as a reader needs it, with the name of its worker."""

    attempt: int
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
    worker_name: str


_BATCH = (
    "SELECT s.attempt, s.each, s.node, s.item, s.span, s.part, s.step, s.pool, s.worker,"
    " s.code_hash, s.round, s.handed_at, s.told_at, s.items, w.name"
    " FROM segments s JOIN workers w ON w.id = s.worker"
)


def facts_of(connection: sqlite3.Connection, each: int) -> EachFacts:
    """What the batched items of an each share."""
    sql = "SELECT pool, priority, share, contract, fields FROM batched_eaches WHERE each = ?"
    pool, priority, share, contract, fields = connection.execute(sql, (each,)).fetchone()
    return EachFacts(pool, priority, share, contract, json.loads(fields))


def some_in(connection: sqlite3.Connection, run: int) -> bool:
    """Whether a run has batches."""
    row = connection.execute("SELECT 1 FROM segments WHERE run = ? LIMIT 1", (run,))
    return row.fetchone() is not None


def batches_from(
    connection: sqlite3.Connection, run: int, each: int, first: int, last: int | None = None
) -> Iterator[Batch]:
    """The batches of an each that have items from an index on, in order of their first items.

    Args:
        connection: a reader's.
        run: the run.
        each: the each.
        first: the index.
        last: the last index that is wanted; None for all.
    """
    rows = connection.execute(
        f"{_BATCH} WHERE s.run = ? AND s.each = ? AND s.item BETWEEN ? AND ?"
        " AND s.item + s.span >= ? ORDER BY s.item",
        (run, each, first - LARGEST_GRANT, 2**62 if last is None else last, first),
    )
    return (Batch(*row) for row in rows)


def batches_behind(connection: sqlite3.Connection, run: int, attempt: int) -> Iterator[Batch]:
    """The batches of a run with attempts behind one, in the order in which they were handed out."""
    rows = connection.execute(
        f"{_BATCH} WHERE s.run = ? AND s.attempt > ? AND s.attempt + s.span > ? ORDER BY s.attempt",
        (run, attempt - LARGEST_GRANT, attempt),
    )
    return (Batch(*row) for row in rows)


def batches_of_steps_behind(connection: sqlite3.Connection, run: int, step: int) -> Iterator[Batch]:
    """The batches of a run with steps behind one, in the order in which they were handed out."""
    # Steps are numbered in the same order as attempts.
    rows = connection.execute(
        f"{_BATCH} WHERE s.run = ? AND s.step + s.span > ? ORDER BY s.attempt", (run, step)
    )
    return (Batch(*row) for row in rows)


def places_of(
    connection: sqlite3.Connection, attempts: Iterable[int]
) -> dict[int, tuple[int, int, int]]:
    """By attempt without a row: the each, the index of the item, and the node of the step."""
    places = {}
    for attempt in attempts:
        row = connection.execute(
            "SELECT each, item, node FROM folded WHERE segment BETWEEN ? AND ? AND attempt = ?",
            (attempt - LARGEST_GRANT, attempt, attempt),
        ).fetchone()
        if row is not None:
            places[attempt] = (row[0], row[1], row[2])
    return places


def slowest(
    connection: sqlite3.Connection, run: int, nodes: Sequence[int], limit: int
) -> list[tuple[int, int]]:
    """The batched items whose steps took longest: each and index, the longest first."""
    marks = ", ".join("?" * len(nodes))
    rows = connection.execute(
        f"SELECT each, item FROM folded WHERE run = ? AND node IN ({marks})"
        " ORDER BY ended_at - begun_at DESC, attempt LIMIT ?",
        (run, *nodes, limit),
    )
    return [(row[0], row[1]) for row in rows]


def under_way_at(
    connection: sqlite3.Connection, run: int, each: int, at: int, limit: int
) -> list[int]:
    """Indexes of the batched items that were under way at a time, the longest first."""
    rows = connection.execute(
        "SELECT item FROM folded WHERE run = ?1 AND each = ?2 AND handed_at <= ?3"
        " AND told_at > ?3 AND begun_at <= ?3 ORDER BY begun_at, item LIMIT ?4",
        (run, each, at, limit),
    )
    return [row[0] for row in rows]
