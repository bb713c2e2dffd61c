"""Where the time of runs went, as sums: added to when attempts end, read for a whole run."""

from __future__ import annotations

import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

KINDS = ("ran", "pool", "worker", "back_off", "rest")
"""What time went to: a step ran, or waited for one of these."""

VALUES = ("attempts", "begun", "failed", "longest", *(n for k in KINDS for n in (k, f"{k}_whole")))
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


def ran_in(unit: Unit, run: int) -> dict[int, tuple[int, int]]:
    """By node how many attempts of a run have ended that began, and how long they ran."""
    rows = unit.execute(
        # A whole slice begins with one more and ends with one less.
        "SELECT node, sum(begun), sum(ran - ran_whole * slice * width) FROM time_slices"
        " JOIN time_axes USING (run) WHERE run = ? GROUP BY node HAVING sum(begun) > 0",
        (run,),
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
    sql = f"SELECT node, slice, {', '.join(VALUES)} FROM time_slices WHERE run = ? ORDER BY 1, 2"
    wide: dict[tuple[int, int], list[int]] = defaultdict(lambda: [0] * len(VALUES))
    before, last, whole = -1, 0, [0] * len(KINDS)
    for node, at, *values in unit.execute(sql, (run,)):
        if node != before:
            whole = [0] * len(KINDS)
        else:
            _cover_between(wide, node, last + 1, at, whole, width, by)
        whole = [number + more for number, more in zip(whole, values[5::2], strict=True)]
        row = wide[node, at // by]
        for place in range(3):
            row[place] += values[place]
        row[3] = max(row[3], values[3])
        for kind, number in enumerate(whole):
            row[4 + 2 * kind] += values[4 + 2 * kind] + number * width
        before, last = node, at
    unit.change("DELETE FROM time_slices WHERE run = ?", (run,))
    add_slices(unit, [(run, *place, *row) for place, row in wide.items()])


def _cover_between(
    wide: dict[tuple[int, int], list[int]],
    node: int,
    begin: int,
    end: int,
    whole: list[int],
    width: int,
    by: int,
) -> None:
    """Add slices that had no row, from one to before another, to those that are wider."""
    low, high = begin // by, (end - 1) // by
    if begin >= end or not any(whole):
        return
    for kind, number in enumerate(whole):
        column = 4 + 2 * kind
        if low == high:
            wide[node, low][column] += number * (end - begin) * width
            continue
        wide[node, low][column] += number * ((low + 1) * by - begin) * width
        wide[node, high][column] += number * (end - high * by) * width
        if high > low + 1:
            wide[node, low + 1][column + 1] += number
            wide[node, high][column + 1] -= number


def _filled(
    rows: Iterable[tuple[int, ...]], width: int
) -> Iterator[tuple[int, int, Sequence[int], list[int]]]:
    """Node, slice, numbers and microseconds by kind of slices, those that have no row too."""
    before, last, whole = -1, 0, [0] * len(KINDS)
    for node, at, *values in rows:
        if node == before and any(whole):
            for between in range(last + 1, at):
                yield node, between, (), [number * width for number in whole]
        if node != before:
            whole = [0] * len(KINDS)
        whole = [number + more for number, more in zip(whole, values[5::2], strict=True)]
        covered = [
            micros + number * width for micros, number in zip(values[4::2], whole, strict=True)
        ]
        yield node, at, values[:4], covered
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
    """The sums of each step of a run's plan of which an attempt has ended."""
    row = axis(connection, run)
    found: dict[int, Record] = {}
    for node, _, numbers, covered in _filled(_rows(connection, run), row["width"] if row else 1):
        total = found.setdefault(node, {"node": node, **dict.fromkeys((*VALUES[:4], *KINDS), 0)})
        for name, number in zip(VALUES[:4], numbers, strict=False):
            total[name] = max(total[name], number) if name == "longest" else total[name] + number
        for kind, micros in zip(KINDS, covered, strict=True):
            total[kind] += micros
    return list(found.values())


def _rows(connection: sqlite3.Connection, run: int) -> list[tuple[int, ...]]:
    rows = connection.execute(
        f"SELECT node, slice, {', '.join(VALUES)} FROM time_slices WHERE run = ? ORDER BY 1, 2",
        (run,),
    )
    rows.row_factory = None
    return rows.fetchall()


def open_attempts(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The attempts of a run that have not ended, with the node of the step and what was before."""
    rows = connection.execute(
        "SELECT s.node, a.ready_at, a.begun_at, a.pool_until, p.outcome, p.ended_at AS slept_from,"
        " p.round = a.round AS same_round FROM steps s CROSS JOIN attempts a ON a.id = s.open"
        " LEFT JOIN attempts p ON p.step = s.id AND p.number = a.number - 1"
        " WHERE s.run = ? AND s.ended_at IS NULL AND s.open IS NOT NULL",
        (run,),
    )
    return [dict(row) for row in rows]
