"""Where the time of runs went: of their items as sums, of other steps by their attempts."""

from __future__ import annotations

import json
import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

KINDS = ("ran", "pool", "worker", "back_off", "rest")
"""What time went to: a step ran, or waited for one of these."""

LOOKED_AT = 2_000
"""How many attempts outside of items are looked at to tell how long they ran."""

VALUES = ("attempts", "begun", "failed", "longest", *(n for k in KINDS for n in (k, f"{k}_more")))
"""The columns of a slice."""

_SLICE = (
    f"INSERT INTO time_slices VALUES (?, ?, ?{', ?' * len(VALUES)}) ON CONFLICT DO UPDATE SET "
    + ", ".join(
        f"{name} = max({name}, excluded.{name})"
        if name == "longest"
        else f"{name} = {name} + excluded.{name}"
        for name in VALUES
    )
)


def axis_of(unit: Unit, run: int) -> tuple[int, int, int, int, int] | None:
    """How a run's time is divided: `first`, `width`, `low`, `high` and `last`; None if not yet."""
    sql = "SELECT first, width, low, high, last FROM time_axes WHERE run = ?"
    found = unit.execute(sql, (run,))
    return found[0] if found else None


def keep_axis(unit: Unit, run: int, *axis: int) -> None:
    """Keep how a run's time is divided."""
    unit.executemany("INSERT OR REPLACE INTO time_axes VALUES (?, ?, ?, ?, ?, ?)", [(run, *axis)])


def add_slices(unit: Unit, rows: Sequence[tuple[int, ...]]) -> None:
    """Add to slices: run, node, slice, and `VALUES`."""
    if rows:
        unit.executemany(_SLICE, rows)


def ran_in_items(unit: Unit, run: int) -> dict[int, tuple[int, int]]:
    """By node how many attempts in items have ended that began, and how many microseconds they ran.

    Args:
        unit: the transaction.
        run: the run.
    """
    rows = unit.execute(
        # Those going on change by one more where each begins, and by one less where it ends.
        "SELECT node, sum(begun), sum(ran - ran_more * slice * width) FROM time_slices"
        " JOIN time_axes USING (run) WHERE run = ? GROUP BY node HAVING sum(begun) > 0",
        (run,),
    )
    return {node: (begun, ran) for node, begun, ran in rows}


def ran_outside(unit: Unit, run: int) -> dict[int, tuple[int, int]]:
    """Return the same of steps in no item, by the first of very many attempts."""
    unit.flush()
    rows = unit.execute(
        "SELECT node, count(*), sum(ran) FROM (SELECT s.node, a.ended_at - a.begun_at AS ran"
        " FROM steps s INDEXED BY steps_inside CROSS JOIN attempts a ON a.step = s.id"
        " WHERE s.run = ? AND s.item_part IS NULL AND a.ended_at IS NOT NULL"
        " AND a.begun_at IS NOT NULL LIMIT ?) GROUP BY node",
        (run, LOOKED_AT),
    )
    return {node: (begun, ran) for node, begun, ran in rows}


def widen(unit: Unit, run: int, width: int, by: int) -> None:
    """Make one slice of each so many that follow each other.

    Args:
        unit: the transaction.
        run: the run.
        width: how wide a slice was, in microseconds.
        by: how many times as wide it becomes.
    """
    wide: dict[tuple[int, int], list[int]] = defaultdict(lambda: [0] * len(VALUES))
    sql = f"SELECT node, slice, {', '.join(VALUES)} FROM time_slices WHERE run = ?"
    for node, at, *values in unit.execute(sql, (run,)):
        row = wide[node, at // by]
        for place in range(3):
            row[place] += values[place]
        row[3] = max(row[3], values[3])
        left = (by - 1 - at % by) * width
        for column in range(4, len(VALUES), 2):
            micros, change = values[column : column + 2]
            row[column] += micros + change * left
            row[column + 1] += change
    unit.change("DELETE FROM time_slices WHERE run = ?", (run,))
    add_slices(unit, [(run, *place, *row) for place, row in wide.items()])


def _filled(
    rows: Iterable[Sequence[int]], width: int
) -> Iterator[tuple[int, int, Sequence[int], list[int]]]:
    """Node, slice, numbers and microseconds by kind of slices, those that have no row too."""
    before, last, going_on = -1, 0, [0] * len(KINDS)
    for node, at, *values in rows:
        if node == before and any(going_on):
            for between in range(last + 1, at):
                yield node, between, (), [number * width for number in going_on]
        if node != before:
            going_on = [0] * len(KINDS)
        covered = [
            micros + number * width for micros, number in zip(values[4::2], going_on, strict=True)
        ]
        yield node, at, values[:4], covered
        going_on = [number + more for number, more in zip(going_on, values[5::2], strict=True)]
        before, last = node, at


def axis(connection: sqlite3.Connection, run: int) -> Record | None:
    """How a run's time is divided; None if nothing of it has ended."""
    row = connection.execute("SELECT * FROM time_axes WHERE run = ?", (run,)).fetchone()
    return dict(row) if row else None


def slices(connection: sqlite3.Connection, run: int) -> list[tuple[int, str, int, int, int, int]]:
    """The slices of a run: node, kind, slice, microseconds, and how many ended and failed in it."""
    row = axis(connection, run)
    if row is None:
        return []
    some = []
    for node, at, numbers, covered in _filled(_rows(connection, run), row["width"]):
        for kind, micros in zip(KINDS, covered, strict=True):
            _, ended, failed, _ = numbers if numbers and kind == "ran" else (0, 0, 0, 0)
            if micros or ended:
                some.append((node, kind, at, micros, ended, failed))
    return some


def sums(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The sums of each step of a run's plan of which an attempt in an item has ended."""
    micros = ", ".join(f"sum({kind} - {kind}_more * slice * width) AS {kind}" for kind in KINDS)
    rows = connection.execute(
        "SELECT node, sum(attempts) AS attempts, sum(begun) AS begun, sum(failed) AS failed,"
        f" max(longest) AS longest, {micros} FROM time_slices JOIN time_axes USING (run)"
        " WHERE run = ? GROUP BY node",
        (run,),
    )
    return [dict(row) for row in rows]


def _rows(connection: sqlite3.Connection, run: int) -> list[list[int]]:
    # As one row: to take each would cost a turn of the lock of Python, beside a busy event loop.
    sql = (
        f"SELECT json_group_array(json_array(node, slice, {', '.join(VALUES)})) FROM time_slices"
        " WHERE run = ?"
    )
    rows: list[list[int]] = json.loads(connection.execute(sql, (run,)).fetchone()[0])
    rows.sort()
    return rows


def single_attempts(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The attempts of a run that are in no sum: those outside of items, and open ones in items.

    Returns:
        Records with the node of the step, and how and when the attempt before ended.
    """
    select = (
        "SELECT s.node, a.ready_at, a.begun_at, a.ended_at, a.pool_until, a.outcome,"
        " p.outcome AS outcome_before, p.ended_at AS slept_from, p.round = a.round AS same_round"
        " FROM steps s %s CROSS JOIN attempts a ON %s"
        " LEFT JOIN attempts p ON p.step = s.id AND p.number = a.number - 1 WHERE s.run = ? AND "
    )
    outside = select % ("INDEXED BY steps_inside", "a.step = s.id") + "s.item_part IS NULL"
    in_items = select % ("INDEXED BY steps_open", "a.id = s.open") + (
        "s.ended_at IS NULL AND s.open IS NOT NULL AND s.item_part > 0"
    )
    rows = connection.execute(f"{outside} UNION ALL {in_items}", (run, run))
    return [dict(row) for row in rows]
