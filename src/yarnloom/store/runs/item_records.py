"""Items of eaches that have rows: their lists, and pages of them."""

from __future__ import annotations

import sqlite3

from yarnloom.store.database import Connection
from yarnloom.store.runs.run_records import DONE, NOT_GONE
from yarnloom.store.select import Record, select_one
from yarnloom.store.unit_of_work import Unit
from yarnloom.values import JsonValue, decode

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


def item_named(connection: sqlite3.Connection, each: int, name: str) -> Record | None:
    """An item of an each by name, if it has begun."""
    return select_one(connection, "SELECT * FROM parts WHERE parent = ? AND name = ?", each, name)


# Of an item in which nothing has begun, what is shown is that it waits.
_ITEM_STATE = (
    "CASE WHEN ended_at IS NULL AND outcome IS NULL AND begun_at IS NULL THEN 'waiting'"
    " ELSE coalesce(outcome, state) END"
)


_ITEM = "SELECT * FROM parts WHERE parent = ? AND value IS NOT NULL"


def items(
    connection: sqlite3.Connection, each: int, states: tuple[str, ...], first: int, limit: int
) -> list[Record]:
    """Items of an each that were made, in order, from an index on.

    Args:
        connection: a reader's.
        each: the part.
        states: only those in these; in any if there are none.
        first: the index from which on.
        limit: how many at most.
    """
    if not states:
        sql = "SELECT * FROM parts WHERE parent = ? AND node = (SELECT node FROM parts WHERE"
        sql += " parent = ? AND value IS NOT NULL LIMIT 1) AND item >= ? ORDER BY item LIMIT ?"
        return [dict(row) for row in connection.execute(sql, (each, each, first, limit))]
    marks = ", ".join("?" * len(states))
    # The index knows what is kept; those that only wait are among the running ones.
    kept = {*states, "running"} if "waiting" in states else set(states)
    sql = f"{_ITEM} AND coalesce(outcome, state) IN ({', '.join('?' * len(kept))})"
    sql += f" AND {_ITEM_STATE} IN ({marks}) AND item >= ? ORDER BY item LIMIT ?"
    return [dict(row) for row in connection.execute(sql, (each, *kept, *states, first, limit))]


def items_at_indexes(
    connection: sqlite3.Connection, each: int, states: tuple[str, ...], wanted: list[int]
) -> list[Record]:
    """Those of some items of an each that were made, and are in some states or in any, in order."""
    state = f"{_ITEM_STATE} IN ({', '.join('?' * len(states))})" if states else "1"
    sql = f"{_ITEM} AND item IN ({', '.join('?' * len(wanted))}) AND {state} ORDER BY item"
    return [dict(row) for row in connection.execute(sql, (each, *wanted, *states))]


REACH = 20_000
"""How far an item without a row can be behind others: more than workers ever have in hand."""


_MADE = (
    "SELECT item FROM parts WHERE parent = :each AND value IS NOT NULL AND item >= :low"
    " AND item < :total UNION ALL SELECT item FROM folded"
    " WHERE run = :run AND each = :each AND last >= :low AND item >= :low"
)


_GAPS = (
    "SELECT after, item FROM (SELECT lag(item, 1, :low - 1) OVER (ORDER BY item) + 1 AS after, item"
    f" FROM ({_MADE})) WHERE item > after UNION ALL SELECT max(item) + 1, NULL FROM ({_MADE})"
)


def items_without_rows(
    connection: sqlite3.Connection,
    run: int,
    each: int,
    total: int,
    unmade: int,
    below: int | None = None,
) -> list[range]:
    """Return the indexes of an each's items that were not made; the last range ends the list.

    They follow those that were, but for items that workers have in hand (see
    `yarnloom.engine.without_rows.giving_items`): later ones may have ended before them.

    Args:
        connection: a reader's.
        run: the run.
        each: the part.
        total: how many items it has.
        unmade: how many of them were not made.
        below: only those before this index are asked for; None for all.
    """
    first = total - unmade
    if not unmade:
        return [range(total, total)]
    known = {"run": run, "each": each, "total": total}
    if connection.execute(f"{_MADE} LIMIT 1", {**known, "low": first}).fetchone() is None:
        return [range(first, total)]
    low = max(0, first - REACH)
    if below is not None and below <= low:
        return [range(total, total)]
    # The store finds the gaps: to take each row in between would cost a turn of the lock of Python.
    gaps = connection.execute(_GAPS, {**known, "low": low}).fetchall()
    return [
        range(row["after"], total if row["item"] is None else row["item"])
        for row in gaps
        if row["after"] is not None
    ]


LISTS_REMEMBERED = 2


def source_of(connection: Connection, each: int) -> JsonValue:
    """The list of an each, or the reference to it."""
    known = connection.lists
    if each not in known:
        row = select_one(connection, "SELECT items FROM sources WHERE part = ?", each)
        if row is None:
            return []
        while len(known) >= LISTS_REMEMBERED:
            del known[next(iter(known))]
        known[each] = decode(row["items"])
    return known[each]


def outputs_between(
    connection: sqlite3.Connection, each: int, node: int, last: int, first: int, until: int
) -> dict[int, str | None]:
    """By index what items of an each gave; where nobody reads that, what their last step did."""
    rows = connection.execute(
        "SELECT p.item, coalesce(p.output, s.output) AS output FROM parts p"
        " LEFT JOIN steps s ON s.part = p.id AND s.node = ?"
        " WHERE p.parent = ? AND p.node = ? AND p.item BETWEEN ? AND ?",
        (last, each, node, first, until),
    )
    return {row["item"]: row["output"] for row in rows}


_TRIED = (
    # Of items that ran again in a later round: how the attempts of their own steps were then. The
    # last outcome is that of the row with the greatest end, as SQLite gives it beside max().
    "SELECT s.item_part AS item, max(CASE WHEN a.ended_at <= :at THEN a.ended_at ELSE 0 END) AS at,"
    " a.outcome AS outcome,"
    " max(a.begun_at <= :at AND (a.ended_at IS NULL OR a.ended_at > :at)) AS runs,"
    " max(a.ready_at > :at) AS goes_on"
    " FROM parts i CROSS JOIN steps s ON s.item_part = i.id CROSS JOIN attempts a ON a.step = s.id"
    " WHERE i.parent = :each AND i.value IS NOT NULL AND i.started_at <= :at"
    " AND (i.ended_at IS NULL OR i.ended_at > :at) AND a.round <= :round GROUP BY 1"
)


def item_counts_at(
    connection: sqlite3.Connection, each: int, at: int, *, round: int, last: bool
) -> dict[str, int]:
    """Return how many items of an each were how at a time.

    Args:
        connection: a reader's.
        each: the id of its part.
        at: in microseconds since 1970 UTC.
        round: the round into which that falls.
        last: whether it is the run's last one. An item that ran again later has the times of that
            round, so what it was before is taken from its attempts.
    """
    values = {"each": each, "at": at, "round": round, "last": last}
    begun = (
        "CASE WHEN i.begun_at <= :at THEN 'running' ELSE 'waiting' END"
        if last
        else "CASE WHEN t.runs OR t.goes_on OR t.item IS NULL THEN 'running'"
        " WHEN t.outcome IN ('failed', 'refused', 'lost') THEN 'failed'"
        " WHEN t.outcome = 'cancelled' THEN 'cancelled' WHEN t.outcome = 'done' THEN 'done'"
        " WHEN t.at = 0 THEN 'waiting' ELSE 'running' END"
    )
    tried = "" if last else f"LEFT JOIN ({_TRIED}) t ON t.item = i.id "
    rows = connection.execute(
        "SELECT state, count(*) AS count FROM ("
        f"SELECT CASE WHEN i.ended_at <= :at THEN i.state ELSE {begun} END AS state"
        f" FROM parts i {tried}WHERE i.parent = :each AND i.value IS NOT NULL"
        " AND i.started_at <= :at UNION ALL"
        " SELECT CASE WHEN told_at <= :at THEN 'done' WHEN begun_at <= :at THEN 'running'"
        " ELSE 'waiting' END FROM folded WHERE run = (SELECT run FROM parts WHERE id = :each)"
        " AND each = :each AND handed_at <= :at) GROUP BY 1",
        values,
    )
    return {row["state"]: row["count"] for row in rows}


def items_at(connection: sqlite3.Connection, each: int, at: int, limit: int) -> list[Record]:
    """The items of an each that were under way at a time, those that had been so longest first."""
    rows = connection.execute(
        f"{_ITEM} AND begun_at <= ? AND (ended_at IS NULL OR ended_at > ?)"
        " ORDER BY begun_at, item LIMIT ?",
        (each, at, at, limit),
    )
    return [{**row, "state": "running", "outcome": None, "ended_at": None} for row in rows]


def item_count(connection: sqlite3.Connection, each: int) -> int:
    """How many items an each has."""
    row = select_one(connection, "SELECT total FROM parts WHERE id = ?", each)
    return row["total"] if row else 0


def item_outputs(
    connection: sqlite3.Connection, each: int, node: int, items: range, *, only_done: bool
) -> list[str | None]:
    """Outputs of some items of an each, as its output lists them."""
    which = "outcome = 'done'" if only_done else "skip_reason IS NOT 'gone'"
    rows = connection.execute(
        f"SELECT item, output FROM parts WHERE parent = :each AND node = :node AND {which}"
        " AND item BETWEEN :first AND :last UNION ALL SELECT item, output FROM folded"
        " WHERE run = (SELECT run FROM parts WHERE id = :each) AND each = :each"
        " AND first <= :last AND last >= :first AND item BETWEEN :first AND :last ORDER BY item",
        {"each": each, "node": node, "first": items.start, "last": items.stop - 1},
    )
    return [row["output"] for row in rows]


def failed_items_behind(
    connection: sqlite3.Connection, each: int, after: int, limit: int
) -> list[tuple[int, str | None, str | None]]:
    """Index, name and error of the items of an each that failed, behind an index."""
    rows = connection.execute(
        "SELECT item, name, error FROM parts WHERE parent = ? AND value IS NOT NULL"
        " AND coalesce(outcome, state) = 'failed' AND item > ? ORDER BY item LIMIT ?",
        (each, after, limit),
    )
    return [(row["item"], row["name"], row["error"]) for row in rows]
