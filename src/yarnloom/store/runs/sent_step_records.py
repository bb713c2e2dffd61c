"""Rows of relays, and of steps that ended in one.

Such steps are inserted in their final form, many with one statement.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from yarnloom.store.select import Columns
from yarnloom.store.unit_of_work import Unit


class RelayRow(NamedTuple):
    """A row of `relays`: steps of a sequence that go to a worker together, without rows.

    Attributes:
        attempt: the id of the first one's attempt.
        steps: how many there are.
        run: their run.
        part: the sequence.
        position: the place of the first.
        worker: who has them.
        code: of each the hash of its code, as JSON.
    """

    attempt: int
    steps: int
    run: int
    part: int
    position: int
    worker: str
    code: str


class LostLeg(NamedTuple):
    """A row of `lost_legs`: an attempt that began ahead of its step's turn, and was lost.

    Attributes:
        attempt: its id.
        part: the sequence.
        node: the step in the plan.
        worker: who had it.
        code_hash: of the task, as the worker had it.
        begun_at: in microseconds since 1970 UTC.
        lost_at: when its worker was given up.
    """

    attempt: int
    part: int
    node: int
    worker: str
    code_hash: str
    begun_at: int
    lost_at: int


_STEP = (
    "INSERT INTO steps (id, run, part, node, rank, contract, pool, share, input, priority,"
    " state, ready_at, attempts, tries, losses, output, fraction, started_at, ended_at) VALUES"
    " (?, ?, ?, ?, ?, ?, '', ?, ?, ?, 'done', ?, 1, 0, 0, ?, 1.0, ?, ?)"
)
_ATTEMPT = (
    "INSERT INTO attempts (id, step, run, number, try, worker, code_hash, ready_at, handed_at,"
    " pool, round, outcome, pid, cpu, memory, begun_at, ended_at) VALUES"
    " (?, ?, ?, 1, 1, ?, ?, ?, ?, '', ?, 'done', ?, ?, ?, ?, ?)"
)


_NEVER_BEGUN = "UPDATE service SET value = max(CAST(value AS INTEGER), ?) WHERE key = 'never_begun'"


def keep(unit: Unit, row: RelayRow) -> None:
    """Keep a relay."""
    unit.add_later("INSERT INTO relays VALUES (?, ?, ?, ?, ?, ?, ?)", [row])


def drop(unit: Unit, attempt: int, never_begun: int = 0) -> None:
    """Nothing of a relay is left.

    Args:
        unit: the transaction.
        attempt: its key.
        never_begun: the highest of its attempts that never gets a row; 0 if all have one.
    """
    unit.add_later("DELETE FROM relays WHERE attempt = ?", [(attempt,)])
    if never_begun:
        unit.add_later(_NEVER_BEGUN, [(never_begun,)])


def keep_lost(unit: Unit, leg: LostLeg) -> None:
    """Keep a lost leg until its step has a row."""
    unit.add_later("INSERT INTO lost_legs VALUES (?, ?, ?, ?, ?, ?, ?)", [leg])


def drop_lost(unit: Unit, attempt: int) -> None:
    """Drop a lost leg: its step has the attempt, or will never run."""
    unit.add_later("DELETE FROM lost_legs WHERE attempt = ?", [(attempt,)])


def lost_legs(unit: Unit) -> list[LostLeg]:
    """Return all lost legs."""
    return [LostLeg(*row) for row in unit.execute("SELECT * FROM lost_legs ORDER BY attempt")]


def all_of(unit: Unit) -> list[RelayRow]:
    """Every relay of which something may be left."""
    return [RelayRow(*row) for row in unit.execute("SELECT * FROM relays ORDER BY attempt")]


def with_rows(unit: Unit, row: RelayRow) -> set[int]:
    """Those attempts of a relay that have rows."""
    found = unit.execute(
        "SELECT id FROM attempts WHERE id >= ? AND id < ?", (row.attempt, row.attempt + row.steps)
    )
    return {attempt for (attempt,) in found}


def keep_ended(unit: Unit, steps: Sequence[Columns], attempts: Sequence[Columns]) -> None:
    """Write the rows of steps that ended well, and of their attempts."""
    unit.add_later(_STEP, steps)
    unit.add_later(_ATTEMPT, attempts)
