"""Counters of steps inside eaches, and of all that ended in each hour."""

from __future__ import annotations

import math
import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Mapping

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

GROWTH = 1.1
_SCALE = 1 / math.log(GROWTH)

LEFT = {"cancelled": "left_cancelled", "skipped": "left_skipped"}
"""What steps without a row are counted as, by the state that is shown of them."""

_COUNT = (
    "INSERT INTO flows VALUES (?, ?, ?, ?)"
    " ON CONFLICT DO UPDATE SET number = number + excluded.number"
)
_TIME = (
    "INSERT INTO flow_times VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " number = number + excluded.number, longest = max(longest, excluded.longest)"
)

Counts = dict[int, dict[str, int]]
"""By node how many steps are how."""

Times = dict[int, list[tuple[int, int, int]]]
"""By node the bucket, number and longest of what took that long."""


def bucket_of(micros: int) -> int:
    """The bucket of a duration."""
    return int(math.log(micros) * _SCALE) if micros > 1 else 0


def seconds_of(bucket: float) -> float:
    """The duration at a bucket's lower edge, in seconds; between two with a fraction."""
    return float(GROWTH**bucket) / 1_000_000


def add_counts(unit: Unit, changes: Mapping[tuple[int, int, str], int]) -> None:
    """Count what changed, by each, node and state."""
    rows = [(*key, number) for key, number in changes.items() if number]
    if rows:
        unit.executemany(_COUNT, rows)


def add_times(unit: Unit, times: Mapping[tuple[int, int, int], tuple[int, int]]) -> None:
    """Count how long attempts took: number and longest, by each, node and bucket."""
    if times:
        unit.executemany(_TIME, [(*key, *found) for key, found in times.items()])


def children_with_rows(unit: Unit, part: int) -> set[int]:
    """Which children of a sequence or parallel have begun, or were skipped, by node."""
    unit.flush()
    return {
        node
        for (node,) in unit.execute(
            "SELECT node FROM steps WHERE part = ?1 UNION ALL SELECT node FROM parts"
            " WHERE parent = ?1",
            (part,),
        )
    }


def counts_of(connection: sqlite3.Connection, eaches: Iterable[int]) -> dict[int, Counts]:
    """The present counts inside eaches, by part row.

    Args:
        connection: a reader's.
        eaches: ids of their parts.
    """
    found: dict[int, Counts] = {}
    for each in eaches:
        counts: Counts = defaultdict(dict)
        for row in connection.execute(
            "SELECT node, state, number FROM flows WHERE each = ?", (each,)
        ):
            counts[row["node"]][row["state"]] = row["number"]
        found[each] = counts
    return found


def times_of(connection: sqlite3.Connection, eaches: Iterable[int]) -> dict[int, Times]:
    """By each how long attempts in it took, shortest first."""
    found: dict[int, Times] = {}
    for each in eaches:
        times: Times = defaultdict(list)
        for row in connection.execute(
            "SELECT * FROM flow_times WHERE each = ? ORDER BY node, bucket", (each,)
        ):
            times[row["node"]].append((row["bucket"], row["number"], row["longest"]))
        found[each] = times
    return found


_USUAL = (
    "supplied = 0 AND retry_from_attempt = 0 AND ended_at IS NOT NULL AND state <> 'waiting'"
    " AND (attempts = 0 OR (attempts = 1 AND state IN ('done', 'failed')))"
)
"""Which steps can be looked back at by their own times, without their attempts."""


_EACH_BEGAN = (
    "(SELECT e.started_at FROM parts i JOIN parts e ON e.id = i.parent"
    " WHERE i.id = steps.item_part)"
)
"""When the each around the item of a step began."""


def steps_at(
    connection: sqlite3.Connection, run: int, rank: bytes, at: int, *, over: bool
) -> tuple[Counts, Times, list[int]]:
    """How the steps in the items of an each were at a moment, in one pass.

    Args:
        connection: a reader's.
        run: the run's number.
        rank: of the each.
        at: in microseconds since 1970 UTC.
        over: whether all had ended by then that began in that round.

    Returns:
        By node how those were that went as usual, and how long those took that had ended; and the
        ids of the others, whose attempts must be asked.
    """
    counts: Counts = defaultdict(lambda: defaultdict(int))
    times: Times = defaultdict(list)
    others: list[int] = []
    values = {"run": run, "rank": rank, "end": rank + b"\xff", "at": at, "over": over}
    rows = connection.execute(_AT, {**values, "scale": _SCALE, "none": _NO_BUCKET})
    for key, number, longest in rows:
        if key < 0:
            others.append(-key)
            continue
        node, rest = divmod(key, 1 << 16)
        state, bucket = divmod(rest, 1 << 12)
        counts[node][_THEN[state]] += number
        if bucket != _NO_BUCKET:
            times[node].append((bucket, number, longest))
    return counts, times, others


_THEN = ("done", "failed", "cancelled", "skipped", "running", "ready")
_NO_BUCKET = (1 << 12) - 1
_STATE_THEN = (
    "CASE WHEN ended_at <= :at THEN CASE state WHEN 'done' THEN 0 WHEN 'failed' THEN 1"
    " WHEN 'cancelled' THEN 2 ELSE 3 END WHEN started_at <= :at THEN 4"
    " WHEN ready_at <= :at THEN 5 ELSE 3 END"
)
_BUCKET_THEN = (
    # An attempt whose input was refused has not begun.
    "CASE WHEN ended_at <= :at AND attempts = 1 AND started_at IS NOT NULL"
    " THEN cast(ln(max(1, ended_at - started_at)) * :scale AS INTEGER) ELSE :none END"
)
# One integer says how a step was, as SQLite groups by that twice as fast as by columns: its node,
# state and bucket; or its id, if it did not go as usual.
_AT = (
    f"SELECT CASE WHEN {_USUAL} THEN (node << 16) | ({_STATE_THEN} << 12) | {_BUCKET_THEN}"
    " ELSE -id END AS key, count(*), max(ended_at - started_at) FROM steps"
    " WHERE run = :run AND rank > :rank AND rank < :end AND item_part IS NOT NULL"
    f" AND (ready_at <= :at OR (:over AND {_EACH_BEGAN} <= :at) OR NOT ({_USUAL})) GROUP BY key"
    " UNION ALL SELECT (node << 16) | (CASE WHEN ended_at <= :at THEN 0 WHEN begun_at <= :at THEN 4"
    " ELSE 5 END << 12) | CASE WHEN ended_at <= :at"
    " THEN cast(ln(max(1, ended_at - begun_at)) * :scale AS INTEGER) ELSE :none END AS key,"
    " count(*), max(ended_at - begun_at) FROM folded WHERE run = :run AND handed_at <= :at"
    " AND each = (SELECT id FROM parts WHERE run = :run AND rank = :rank AND value IS NULL)"
    " GROUP BY 1"
)


def step_in_item(connection: sqlite3.Connection, step: int) -> Record:
    """The row of a step in an item, with when the each began around it, as `each_began`."""
    sql = f"SELECT *, {_EACH_BEGAN} AS each_began FROM steps WHERE id = ?"
    return dict(connection.execute(sql, (step,)).fetchone())


def attempts_of(connection: sqlite3.Connection, step: int) -> list[Record]:
    """The attempts of a step, oldest first."""
    rows = connection.execute(
        "SELECT a.step, a.number, a.round, a.outcome, a.error, a.ready_at, a.handed_at, a.begun_at,"
        " a.ended_at, NULL AS worker_name FROM attempts a WHERE a.step = ? ORDER BY a.number",
        (step,),
    )
    return [dict(row) for row in rows]


_INNER = "run = :run AND item_part IS NOT NULL AND value IS NULL AND rank > :rank AND rank < :end"
"""Parts in the items of an each that are no items."""


def parts_in(connection: sqlite3.Connection, run: int, rank: bytes) -> list[Record]:
    """The rows of parts in the items of an each that are no items, in order."""
    values = {"run": run, "rank": rank, "end": rank + b"\xff"}
    rows = connection.execute(f"SELECT * FROM parts WHERE {_INNER} ORDER BY id", values)
    return [dict(row) for row in rows]


def left_by(
    connection: sqlite3.Connection, run: int, each: int, rank: bytes, at: int
) -> tuple[Counts, Counts]:
    """What had ended by a moment without all that is in it, as it is now.

    Returns:
        By node of such parts how many there are, by the state of what did not begin; and by node of
        what did begin in them how many of that there are.
    """
    values = {"run": run, "rank": rank, "end": rank + b"\xff", "each": each, "at": at}
    ended = (
        f"WITH around (id) AS (SELECT :each UNION ALL SELECT id FROM parts WHERE {_INNER}),"
        " ended (id, node, state) AS ("
        " SELECT i.id, i.node, i.rest_state FROM around CROSS JOIN parts i ON i.parent = around.id"
        "  WHERE i.value IS NOT NULL AND i.rest_state IS NOT NULL AND i.ended_at <= :at"
        f" UNION ALL SELECT id, node, rest_state FROM parts WHERE {_INNER}"
        "  AND rest_state IS NOT NULL AND ended_at <= :at) "
    )
    parts: Counts = defaultdict(lambda: defaultdict(int))
    begun: Counts = defaultdict(lambda: defaultdict(int))
    for found, sql in (
        (parts, "SELECT node, state FROM ended"),
        (begun, "SELECT s.node, e.state FROM ended e CROSS JOIN steps s ON s.part = e.id"),
        (begun, "SELECT p.node, e.state FROM ended e CROSS JOIN parts p ON p.parent = e.id"),
    ):
        counted = f"SELECT node, state, count(*) AS number FROM ({sql}) GROUP BY 1, 2"
        for row in connection.execute(ended + counted, values):
            found[row["node"]][row["state"]] += row["number"]
    return parts, begun


HOUR = 3_600_000_000
"""Microseconds."""

_COUNT_OF_HOUR = (
    "INSERT INTO hours VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " number = number + excluded.number, waited = waited + excluded.waited"
)
_TIME_OF_HOUR = (
    "INSERT INTO hour_times VALUES (?, ?, ?, ?, ?)"
    " ON CONFLICT DO UPDATE SET number = number + excluded.number"
)


def add(
    unit: Unit,
    counts: Mapping[tuple[str, int, str, str], tuple[int, int]],
    times: Mapping[tuple[str, int, str, int], int],
) -> None:
    """Add ended runs and attempts.

    Args:
        unit: the transaction.
        counts: number and microseconds waited, by workflow, hour, address and outcome.
        times: numbers, by workflow, hour, address and bucket.
    """
    if counts:
        unit.executemany(_COUNT_OF_HOUR, [(*key, *found) for key, found in counts.items()])
    if times:
        unit.executemany(_TIME_OF_HOUR, [(*key, number) for key, number in times.items()])


def counts_since(connection: sqlite3.Connection, workflow: str, hour: int) -> list[Record]:
    """Ended runs and attempts since an hour: hour, address, outcome, number, waited."""
    rows = connection.execute(
        "SELECT hour, address, outcome, number, waited FROM hours"
        " WHERE workflow = ? AND hour >= ? ORDER BY hour",
        (workflow, hour),
    )
    return [dict(row) for row in rows]


def times_since(connection: sqlite3.Connection, workflow: str, hour: int) -> list[Record]:
    """Durations since an hour: hour, address, bucket, number, shortest first."""
    rows = connection.execute(
        "SELECT hour, address, bucket, number FROM hour_times"
        " WHERE workflow = ? AND hour >= ? ORDER BY bucket",
        (workflow, hour),
    )
    return [dict(row) for row in rows]
