"""Items of an each that are done, many in one row: segments.

A segment says which items of a grant are done, when, and with which output. Everything else about
them follows from the plan and the list of the each, so that rows can be made of them at any time.
"""

from __future__ import annotations

import sqlite3
from bisect import bisect_left
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

from yarnloom.store.unit_of_work import LARGEST_GRANT, Unit

_REACHES = "run = ? AND item <= ? AND item + span >= ?"


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


def of_run(
    unit: Unit, run: int, limit: int, first: int = 0, last: int | None = None
) -> list[Segment]:
    """Some segments of a run that have items between two indexes, in order."""
    unit.flush()
    sql = f"SELECT * FROM segments WHERE {_REACHES} ORDER BY each, item LIMIT ?"
    return [Segment(*row) for row in unit.execute(sql, (run, _end(last), first, limit))]


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


def last_of(
    connection: sqlite3.Connection, run: int, each: int, first: int, count: int
) -> int | None:
    """Up to which index items need rows so that the next items that are done are known.

    Args:
        connection: a reader's.
        run: the run.
        each: the each.
        first: the index from which on.
        count: how many that are done.
    """
    with_rows = [
        item
        for (item,) in connection.execute(
            "SELECT item FROM parts WHERE parent = ? AND value IS NOT NULL"
            " AND coalesce(outcome, state) = 'done' AND item >= ? ORDER BY item LIMIT ?",
            (each, first, count),
        )
    ]
    last, found = None, 0
    for item, span, items in connection.execute(
        "SELECT item, span, json_array_length(items) FROM segments"
        " WHERE run = ? AND each = ? AND item + span >= ? ORDER BY item",
        (run, each, first),
    ):
        if found + bisect_left(with_rows, item) >= count:
            break
        last = max(last or 0, item + span)
        found += items if item >= first else 0
    return last


def slowest(
    connection: sqlite3.Connection, run: int, nodes: Sequence[int], now: int, limit: int
) -> list[int]:
    """Indexes of the items without rows that are among those whose steps took longest.

    Args:
        connection: a reader's.
        run: the run.
        nodes: of the steps.
        now: until when what still runs has run.
        limit: how many take longest.
    """
    marks = ", ".join("?" * len(nodes))
    found = connection.execute(
        "SELECT item FROM (SELECT item, ended_at - begun_at AS took, attempt FROM folded"
        f" WHERE run = ? AND node IN ({marks}) UNION ALL"
        " SELECT NULL, coalesce(a.ended_at, ?) - a.begun_at, a.id FROM attempts a"
        f" JOIN steps s ON s.id = a.step WHERE a.run = ? AND s.node IN ({marks})"
        " AND a.begun_at IS NOT NULL ORDER BY took DESC, attempt LIMIT ?) WHERE item IS NOT NULL",
        (run, *nodes, now, run, *nodes, limit),
    )
    return [item for (item,) in found]


def under_way_at(connection: sqlite3.Connection, run: int, at: int, limit: int) -> list[int]:
    """Indexes of the items without rows that are among those under way longest at a time.

    Args:
        connection: a reader's.
        run: the run.
        at: the time.
        limit: how many of each are looked at.
    """
    items = []
    for (each,) in connection.execute("SELECT DISTINCT each FROM segments WHERE run = ?", (run,)):
        items += connection.execute(
            "SELECT item FROM (SELECT item, begun_at, 1 AS is_folded FROM folded WHERE run = ?1"
            " AND each = ?2 AND handed_at <= ?3 AND told_at > ?3 AND begun_at <= ?3 UNION ALL"
            " SELECT item, begun_at, 0 FROM parts WHERE parent = ?2 AND value IS NOT NULL"
            " AND begun_at <= ?3 AND (ended_at IS NULL OR ended_at > ?3)"
            " ORDER BY begun_at, item LIMIT ?4) WHERE is_folded",
            (run, each, at, limit),
        ).fetchall()
    return [item for (item,) in items]


def some_between(
    connection: sqlite3.Connection, run: int, first: int = 0, last: int | None = None
) -> bool:
    """Whether items of a run between two indexes are done and have no rows."""
    found = connection.execute(
        f"SELECT 1 FROM segments WHERE {_REACHES} LIMIT 1", (run, _end(last), first)
    )
    return found.fetchone() is not None


def _end(last: int | None) -> int:
    return 2**62 if last is None else last


def item_text(
    behind: int, began: int, took: int, pid: Any, cpu: Any, memory: Any, output: str
) -> str:
    """One item, as `items` has it."""
    pid, cpu = "null" if pid is None else pid, "null" if cpu is None else cpu
    return f"[{behind},{began},{took},{pid},{cpu},{'null' if memory is None else memory},{output}]"
