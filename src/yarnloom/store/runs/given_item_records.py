"""Items of an each that have no rows while a worker has them: grants, and how they end.

Rows of done items are inserted in their final form, many with one statement. Values that all of
them share are literals of the statement.
"""

from __future__ import annotations

from typing import NamedTuple

from yarnloom.store.select import Columns
from yarnloom.store.unit_of_work import Unit


class GrantRow(NamedTuple):
    """A row of `grants`."""

    attempt: int
    each: int
    item: int
    items: int
    part: int
    step: int
    worker: str
    code_hash: str
    handed_at: int


class EndedItem(NamedTuple):
    """An item of an each that is done at its first try.

    Attributes:
        part: id of the item's part.
        step: of its step.
        attempt: of the attempt.
        item: its index.
        name: its name, if it has one.
        value: its value, as JSON text.
        rank: its place in plan order.
        given: the step's input as JSON text.
        output: the step's output as JSON text.
        worker: who ran it.
        code_hash: of the task.
        handed_at: when it was handed out, and became ready.
        begun_at: when it began.
        ended_at: when it ended.
        pid: of the process.
        cpu: microseconds of processor time.
        memory: bytes.
    """

    part: int
    step: int
    attempt: int
    item: int
    name: str | None
    value: str
    rank: bytes
    given: str
    output: str
    worker: str
    code_hash: str
    handed_at: int
    begun_at: int
    ended_at: int
    pid: int | None
    cpu: int | None
    memory: int | None


class ItemPlace(NamedTuple):
    """Values that items of an each share when they end together.

    Attributes:
        run: number of the run.
        each: id of the each's part.
        do: node of the items.
        step: node of the step in each.
        lane: pool, priority, share and contract of the step.
        round: of the run.
        now: when all this was reported.
        wanted: whether anything reads what an item gives.
        position: of the step in its item, as the end of its rank.
    """

    run: int
    each: int
    do: int
    step: int
    lane: tuple[str, int, str, str]
    round: int
    now: int
    wanted: bool
    position: bytes


_PART = (
    "INSERT INTO parts (id, run, parent, node, rank, item_part, item, name, value, started_at,"
    " total, state, ready, running, backing_off, resting, paused, done, failed, cancelled, skipped,"
    " outcome, output, size, fraction, since, moved_at, begun_at, ended_at) VALUES"
    " (?, ?, ?, ?, ?, NULL, ?, ?, ?, ?, 1, 'done', 0, 0, 0, 0, 0, 1, 0, 0, 0, 'done', ?, ?, 1.0,"
    " ?, ?, ?, ?)"
)
_STEP = (
    "INSERT INTO steps (id, run, part, node, rank, item_part, contract, pool, share, input,"
    " priority, state, ready_at, attempts, tries, losses, output, fraction, started_at,"
    " ended_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'done', ?, 1, 0, 0, ?, 1.0, ?, ?)"
)
_ATTEMPT = (
    "INSERT INTO attempts (id, step, run, number, try, worker, code_hash, ready_at, handed_at,"
    " pool, round, outcome, pid, cpu, memory, begun_at, ended_at) VALUES"
    " (?, ?, ?, 1, 1, ?, ?, ?, ?, ?, ?, 'done', ?, ?, ?, ?, ?)"
)


def keep(unit: Unit, row: GrantRow) -> None:
    """Keep a grant."""
    unit.add_later("INSERT INTO grants VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", [row])


def drop(unit: Unit, attempt: int) -> None:
    """Nothing of a grant is left: all of it has rows."""
    unit.add_later("DELETE FROM grants WHERE attempt = ?", [(attempt,)])


def all_of(unit: Unit) -> list[GrantRow]:
    """Every grant of which something has no rows yet."""
    return [GrantRow(*row) for row in unit.execute("SELECT * FROM grants ORDER BY attempt")]


def ended_items(unit: Unit, row: GrantRow) -> set[int]:
    """Which items of a grant have rows, or are done and in a segment."""
    found = unit.execute(
        "SELECT item FROM parts WHERE parent = ?1 AND item >= ?2 AND item < ?3"
        " AND value IS NOT NULL UNION ALL SELECT item FROM folded"
        " WHERE segment BETWEEN ?4 AND ?4 + ?3 - ?2 AND each = ?1 AND item >= ?2 AND item < ?3",
        (row.each, row.item, row.item + row.items, row.attempt),
    )
    return {item for (item,) in found}


def keep_ended(unit: Unit, around: ItemPlace, ended: list[EndedItem], sizes: list[int]) -> None:
    """Write the rows of items that ended well.

    Args:
        unit: the transaction.
        around: what all have in common.
        ended: the items.
        sizes: of what each item gives, in bytes.
    """
    run, each, do, node, (pool, priority, share, contract), round_, now, wanted, position = around
    parts: list[Columns] = []
    steps: list[Columns] = []
    attempts: list[Columns] = []
    # fmt: off
    for (
        (
            part, step, attempt, item, name, value, rank, given, output, worker, code_hash,
            handed_at, begun_at, ended_at, pid, cpu, memory,
        ),
        size,
    ) in zip(ended, sizes, strict=True):
        parts.append((
            part, run, each, do, rank, item, name, value, handed_at,
            output if wanted else None, size, handed_at, now, begun_at, now,
        ))
        steps.append((
            step, run, part, node, rank + position, part, contract, pool, share, given, priority,
            handed_at, output, begun_at, ended_at,
        ))
        attempts.append((
            attempt, step, run, worker, code_hash, handed_at, handed_at, pool, round_,
            pid, cpu, memory, begun_at, ended_at,
        ))
    # fmt: on
    unit.add_later(_PART, parts)
    unit.add_later(_STEP, steps)
    unit.add_later(_ATTEMPT, attempts)
