"""Queries of readers about batches: items of an each that are done and have no rows.

Rows of `segments` and `batched_eaches`; `segment_records` writes them.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from yarnloom.store.unit_of_work import LARGEST_GRANT


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
