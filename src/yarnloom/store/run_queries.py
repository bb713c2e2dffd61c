"""Queries of the readers: each is one function of a connection that gives plain records.

Lists page by a position in an index, so that page 1,000 costs what page 1 costs.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from typing import Any

from yarnloom.store.log_file import AttemptKey

Record = dict[str, Any]

RUN_COLUMNS = """
  r.*, p.total, p.ready, p.running, p.backing_off, p.resting, p.paused, p.done, p.failed,
  p.cancelled, p.skipped, p.outcome, p.size, p.fraction, p.fraction_then, p.moved_at
"""
RUN_TABLES = "runs r LEFT JOIN parts p ON p.run = r.number AND p.parent IS NULL"


def run(connection: sqlite3.Connection, number: int) -> Record | None:
    """A run with the counters of its root part, or None."""
    row = connection.execute(
        f"SELECT {RUN_COLUMNS} FROM {RUN_TABLES} WHERE r.number = ?", (number,)
    ).fetchone()
    return dict(row) if row else None


def is_paused(connection: sqlite3.Connection, number: int) -> bool:
    """Whether nothing of a run executes because it is paused."""
    row = connection.execute("SELECT state FROM runs WHERE number = ?", (number,)).fetchone()
    return row is not None and row["state"] == "paused"


def was_given_out(connection: sqlite3.Connection, number: int) -> bool:
    """Whether a run number was ever given out."""
    row = connection.execute("SELECT seq FROM sqlite_sequence WHERE name = 'runs'").fetchone()
    return row is not None and 0 < number <= row[0]


def like(text: str) -> str:
    """A pattern of what has a text in it somewhere, upper or lower case."""
    for mark in "!%_":
        text = text.replace(mark, f"!{mark}")
    return f"%{text}%"


def plan_document(connection: sqlite3.Connection, plan: int) -> Record:
    """The JSON form of a plan."""
    row = connection.execute("SELECT document FROM plans WHERE id = ?", (plan,)).fetchone()
    document: Record = json.loads(row["document"])
    return document


def root(connection: sqlite3.Connection, number: int) -> Record | None:
    """The root part of a run."""
    return _one(connection, "SELECT * FROM parts WHERE run = ? AND parent IS NULL", number)


def part_at(connection: sqlite3.Connection, parent: int, node: int, item: int = 0) -> Record | None:
    """A part in another, or an item of an each, if it has begun."""
    sql = "SELECT * FROM parts WHERE parent = ? AND node = ? AND item = ?"
    return _one(connection, sql, parent, node, item)


def item_named(connection: sqlite3.Connection, each: int, name: str) -> Record | None:
    """An item of an each by name, if it has begun."""
    return _one(connection, "SELECT * FROM parts WHERE parent = ? AND name = ?", each, name)


def parts(connection: sqlite3.Connection, number: int, inside: int | None) -> list[Record]:
    """The parts of a run that have begun and stand in no item, or those of one item, itself too."""
    rows = connection.execute(
        "SELECT * FROM parts WHERE run = ? AND inside IS ? AND value IS NULL"
        " UNION ALL SELECT * FROM parts WHERE id = ?",
        (number, inside, inside),
    )
    return [dict(row) for row in rows]


# Of an item in which nothing has begun, what is shown is that it waits.
_ITEM_STATE = (
    "CASE WHEN ended_at IS NULL AND outcome IS NULL AND begun_at IS NULL THEN 'waiting'"
    " ELSE coalesce(outcome, state) END"
)
_ITEM = "SELECT * FROM parts WHERE parent = ? AND value IS NOT NULL"


def items(
    connection: sqlite3.Connection,
    each: int,
    states: tuple[str, ...],
    first: int,
    limit: int,
    text: str | None = None,
) -> list[Record]:
    """Items of an each that were made, in order, from an index on.

    Args:
        connection: a reader's.
        each: the part.
        states: only those in these; in any if there are none.
        first: the index from which on.
        limit: how many at most.
        text: only those that have it in their name or value.
    """
    if text is not None:
        state = f"{_ITEM_STATE} IN ({', '.join('?' * len(states))})" if states else "1"
        sql = f"{_ITEM} AND item >= ? AND {state} AND (coalesce(name, item) LIKE ? ESCAPE '!'"
        sql += " OR value LIKE ? ESCAPE '!') ORDER BY item LIMIT ?"
        values = (each, first, *states, like(text), like(text), limit)
        return [dict(row) for row in connection.execute(sql, values)]
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


REACH = 20_000
"""How far an item without a row can be behind others: more than workers ever have in hand."""


_MADE = (
    "SELECT item FROM parts WHERE parent = :each AND value IS NOT NULL AND item >= :low"
    " AND item < :total UNION ALL SELECT item FROM folded"
    " WHERE run = :run AND each = :each AND last >= :low AND item >= :low"
)


def items_without_rows(
    connection: sqlite3.Connection, run: int, each: int, total: int, unmade: int
) -> list[range]:
    """Return the indexes of an each's items that were not made; the last range ends the list.

    They follow those that were, but for items that workers have in hand (see
    `yarnloom.engine.compact.granted_items`): later ones may have ended before them.

    Args:
        connection: a reader's.
        run: the run.
        each: the part.
        total: how many items it has.
        unmade: how many of them were not made.
    """
    first = total - unmade
    known = {"run": run, "each": each, "total": total}
    if connection.execute(f"{_MADE} LIMIT 1", {**known, "low": first}).fetchone() is None:
        return [range(first, total)]
    low = max(0, first - REACH)
    spans = []
    for row in connection.execute(f"{_MADE} ORDER BY item", {**known, "low": low}):
        spans.append(range(low, row["item"]))
        low = row["item"] + 1
    return [*(span for span in spans if span), range(low, total)]


def source(connection: sqlite3.Connection, each: int) -> str | None:
    """The list that an each goes through, as JSON text."""
    row = _one(connection, "SELECT items FROM sources WHERE part = ?", each)
    return row["items"] if row else None


def marks(connection: sqlite3.Connection, sha256: str) -> bytes | None:
    """Where some values of a list begin that is a file."""
    row = _one(connection, "SELECT marks FROM files WHERE sha256 = ?", sha256)
    return row["marks"] if row else None


_FILES = """
  SELECT f.sha256, f.size, f.name, f.media_type, f.kept_by, f.kept_at, f.idle_from, f.count,
    (SELECT count(*) FROM file_uses u WHERE u.sha256 = f.sha256) AS runs
  FROM files f
"""


def file(connection: sqlite3.Connection, sha256: str) -> Record | None:
    """A file that is kept, or None."""
    return _one(connection, f"{_FILES} WHERE f.sha256 = ?", sha256)


def files(
    connection: sqlite3.Connection, before: tuple[int, str] | None, limit: int
) -> list[Record]:
    """Files, newest first, from behind a time and hash on."""
    rows = connection.execute(
        f"{_FILES} WHERE (f.kept_at, f.sha256) < (?, ?)"
        " ORDER BY f.kept_at DESC, f.sha256 DESC LIMIT ?",
        (*(before or (2**63 - 1, "")), limit),
    )
    return [dict(row) for row in rows]


def file_users(connection: sqlite3.Connection, sha256: str, limit: int) -> list[int]:
    """The newest runs that use a file."""
    sql = "SELECT run FROM file_uses WHERE sha256 = ? ORDER BY run DESC LIMIT ?"
    return [row["run"] for row in connection.execute(sql, (sha256, limit))]


def files_of(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The files that a run uses."""
    rows = connection.execute(
        "SELECT f.sha256, f.name, f.media_type, f.size FROM file_uses u"
        " JOIN files f USING (sha256) WHERE u.run = ? ORDER BY u.sha256",
        (run,),
    )
    return [dict(row) for row in rows]


def part(connection: sqlite3.Connection, part: int) -> Record:
    """A part by id."""
    return dict(connection.execute("SELECT * FROM parts WHERE id = ?", (part,)).fetchone())


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


def steps_behind(connection: sqlite3.Connection, run: int, after: int, limit: int) -> list[Record]:
    """Steps of a run that have a row, with their values, from behind an id on."""
    if not after:
        first = connection.execute("SELECT min(id) AS id FROM steps WHERE run = ?", (run,))
        after = (first.fetchone()["id"] or 1) - 1
    # By id, not by an index of the run: the steps of a run lie close together.
    rows = connection.execute(
        f"{_STEP_LIST.replace('s.saved,', 's.saved, s.input, s.output,')}"
        " WHERE s.id > ? AND +s.run = ? ORDER BY s.id LIMIT ?",
        (after, run, limit),
    )
    return [dict(row) for row in rows]


def attempts_between(
    connection: sqlite3.Connection, run: int, first: int, last: int
) -> list[Record]:
    """The attempts of a run's steps between two ids, with the worker's name."""
    rows = connection.execute(
        "SELECT a.*, w.name AS worker_name FROM attempts a JOIN workers w ON w.id = a.worker"
        " WHERE a.step BETWEEN ? AND ? AND a.run = ? ORDER BY a.step, a.number",
        (first, last, run),
    )
    return [dict(row) for row in rows]


def attempts_of_run(
    connection: sqlite3.Connection, run: int, inside: int | None, after: int, limit: int
) -> list[Record]:
    """Attempts of a run in the order in which they were handed out, from behind an id on.

    Each with the place of its step, and its worker's name. With an item only those of steps that
    stand in it.
    """
    where = "" if inside is None else " AND s.inside = ?"
    rows = connection.execute(
        "SELECT a.*, s.node, s.inside, s.part, w.name AS worker_name FROM attempts a"
        " JOIN steps s ON s.id = a.step JOIN workers w ON w.id = a.worker"
        f" WHERE a.run = ? AND a.id > ?{where} ORDER BY a.id LIMIT ?",
        (run, after, *(() if inside is None else (inside,)), limit),
    )
    return [dict(row) for row in rows]


def attempts_inside(
    connection: sqlite3.Connection, run: int, inside: int | None
) -> dict[int, list[Record]]:
    """By step the attempts of the steps of a run that stand in no item, or in one, oldest first."""
    rows = connection.execute(
        "SELECT a.step, a.number, a.round, a.outcome, a.error, a.ready_at, a.handed_at, a.begun_at,"
        " a.ended_at, w.name AS worker_name FROM steps s CROSS JOIN attempts a ON a.step = s.id"
        " JOIN workers w ON w.id = a.worker WHERE s.run = ? AND s.inside IS ?"
        " ORDER BY a.step, a.number",
        (run, inside),
    )
    found: dict[int, list[Record]] = {}
    for row in rows:
        found.setdefault(row["step"], []).append(dict(row))
    return found


def failed_steps(connection: sqlite3.Connection, run: int, limit: int) -> list[Record]:
    """The failed steps of a run with the type and message of their errors, in plan order."""
    rows = connection.execute(
        "SELECT id, node, inside, error ->> 'type' AS type, error ->> 'message' AS message,"
        " ended_at FROM steps WHERE run = ? AND state = 'failed' ORDER BY rank LIMIT ?",
        (run, limit),
    )
    return [dict(row) for row in rows]


def item_counts_at(
    connection: sqlite3.Connection, each: int, at: int, *, last: bool
) -> dict[str, int]:
    """How many items of an each were under way at a time, and how many were how by then.

    When an item began is known of the last round only; in one before all count as running.
    """
    rows = connection.execute(
        "SELECT state, count(*) AS count FROM ("
        "SELECT CASE WHEN ended_at <= ?2 THEN state WHEN begun_at <= ?2 OR ?3 THEN 'running'"
        " ELSE 'waiting' END AS state"
        " FROM parts WHERE parent = ?1 AND value IS NOT NULL AND started_at <= ?2 UNION ALL"
        " SELECT CASE WHEN told_at <= ?2 THEN 'done' WHEN begun_at <= ?2 THEN 'running'"
        " ELSE 'waiting' END FROM folded WHERE run = (SELECT run FROM parts WHERE id = ?1)"
        " AND each = ?1 AND handed_at <= ?2) GROUP BY 1",
        (each, at, not last),
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


def mends(connection: sqlite3.Connection, run: int) -> list[int]:
    """When a run was mended, oldest first."""
    sql = "SELECT at FROM commands WHERE run = ? AND what = 'mend' ORDER BY id"
    return [row["at"] for row in connection.execute(sql, (run,))]


def ended_by_round(connection: sqlite3.Connection, run: int, rounds: int) -> int:
    """When the last attempt of the first rounds of a run ended; 0 if none did."""
    sql = "SELECT max(ended_at) AS at FROM attempts WHERE run = ? AND round <= ?"
    row = connection.execute(sql, (run, rounds)).fetchone()
    return row["at"] or 0


def in_hand(connection: sqlite3.Connection, attempts: Iterable[int]) -> list[Record]:
    """Where some attempts belong: run and plan, the place of the step, when it began."""
    wanted = list(attempts)
    rows = connection.execute(
        "SELECT a.id, a.number, a.begun_at, a.run, a.code_hash, s.node, s.inside, r.plan"
        " FROM attempts a JOIN steps s ON s.id = a.step JOIN runs r ON r.number = a.run"
        f" WHERE a.id IN ({', '.join('?' * len(wanted))}) ORDER BY a.id",
        wanted,
    )
    return [dict(row) for row in rows]


def log_keys(connection: sqlite3.Connection, attempts: Iterable[int]) -> dict[int, AttemptKey]:
    """The keys under which the lines of some attempts are stored, by attempt."""
    wanted = list(attempts)
    rows = connection.execute(
        "SELECT coalesce(p.parent, s.part) AS part, coalesce(p.item, 0) AS item, s.node, a.number,"
        " a.id FROM attempts a JOIN steps s ON s.id = a.step LEFT JOIN parts p ON p.id = s.inside"
        f" WHERE a.id IN ({', '.join('?' * len(wanted))})",
        wanted,
    )
    return {row["id"]: AttemptKey(*row) for row in rows}


def waiting_in_pool(connection: sqlite3.Connection, pool: str, limit: int) -> list[Record]:
    """The runs of which most steps are ready in a pool, or for one of its values, and how many."""
    rows = connection.execute(
        "SELECT run, count(*) AS steps, min(ready_at) AS since FROM steps"
        " WHERE state = 'ready' AND open IS NULL AND (pool = ?1 OR (pool > ?1 || '[' AND"
        " pool < ?1 || ']')) GROUP BY run ORDER BY steps DESC, run LIMIT ?2",
        (pool, limit),
    )
    return [dict(row) for row in rows]


def item_count(connection: sqlite3.Connection, each: int) -> int:
    """How many items an each has."""
    row = _one(connection, "SELECT total FROM parts WHERE id = ?", each)
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


def failed_items(
    connection: sqlite3.Connection, each: int, after: int, limit: int
) -> list[tuple[int, str | None, str | None]]:
    """Index, name and error of the items of an each that failed, behind an index."""
    rows = connection.execute(
        "SELECT item, name, error FROM parts WHERE parent = ? AND value IS NOT NULL"
        " AND coalesce(outcome, state) = 'failed' AND item > ? ORDER BY item LIMIT ?",
        (each, after, limit),
    )
    return [(row["item"], row["name"], row["error"]) for row in rows]


_STEP_LIST = """
  SELECT s.id, s.run, s.part, s.node, s.state, s.stop, s.skip_reason, s.open, s.attempts,
    s.tries, s.losses, s.due_at, s.deadline_at, s.pool, s.priority, s.error, s.ready_at,
    s.held, s.supplied, s.saved, s.fraction,
    s.started_at, s.ended_at,
    w.name AS worker_name
  FROM steps s
  LEFT JOIN attempts a ON a.step = s.id AND a.number = s.attempts
  LEFT JOIN workers w ON w.id = a.worker
"""


def steps(connection: sqlite3.Connection, number: int, inside: int | None) -> list[Record]:
    """The steps of a run that have a row and stand in no item, or in one, in plan order.

    Without their inputs and outputs.
    """
    rows = connection.execute(
        f"{_STEP_LIST} WHERE s.run = ? AND s.inside IS ? ORDER BY s.rank", (number, inside)
    )
    return [dict(row) for row in rows]


def all_steps(connection: sqlite3.Connection, number: int, first: int, limit: int) -> list[Record]:
    """Steps of a run that have a row, wherever they stand, in the order in which they came."""
    rows = connection.execute(
        f"{_STEP_LIST} WHERE s.run = ? ORDER BY s.rank LIMIT ? OFFSET ?", (number, limit, first)
    )
    return [dict(row) for row in rows]


def step_at(connection: sqlite3.Connection, part: int, node: int) -> Record | None:
    """The step in a part at a node of the plan, or None if it has no row yet."""
    return _one(connection, f"{_STEP_LIST} WHERE s.part = ? AND s.node = ?", part, node)


def _one(connection: sqlite3.Connection, sql: str, *values: Any) -> Record | None:
    row = connection.execute(sql, values).fetchone()
    return dict(row) if row else None


def step_values(connection: sqlite3.Connection, step: int) -> Record:
    """Input and output of a step, as JSON text."""
    row = connection.execute("SELECT input, output FROM steps WHERE id = ?", (step,)).fetchone()
    return dict(row)


# The older ones of those that asked to be called again are folded.
_FOLDED = (
    "a.outcome IS 'called_again' AND a.number <= coalesce((SELECT number FROM attempts"
    " WHERE step = a.step AND outcome = 'called_again'"
    " ORDER BY number DESC LIMIT 1 OFFSET ?), 0)"
)


def attempts(connection: sqlite3.Connection, step: int, called_shown: int) -> list[Record]:
    """The attempts of a step, oldest first, with the worker's name.

    Of those that asked to be called again only the newest `called_shown`.
    """
    rows = connection.execute(
        "SELECT a.*, w.name AS worker_name FROM attempts a JOIN workers w ON w.id = a.worker"
        f" WHERE a.step = ? AND NOT ({_FOLDED}) ORDER BY a.number",
        (step, called_shown),
    )
    return [dict(row) for row in rows]


def count_folded(connection: sqlite3.Connection, step: int, called_shown: int) -> int:
    """How many attempts of a step are left out so."""
    sql = "SELECT max(0, count(*) - ?) FROM attempts WHERE step = ? AND outcome = 'called_again'"
    return int(connection.execute(sql, (called_shown, step)).fetchone()[0])


def commands(connection: sqlite3.Connection, number: int) -> list[Record]:
    """Who gave which command for a run, oldest first."""
    rows = connection.execute("SELECT * FROM commands WHERE run = ? ORDER BY id", (number,))
    return [dict(row) for row in rows]


def all_commands(
    connection: sqlite3.Connection,
    run: int | None,
    who: str | None,
    what: str | None,
    below: int | None,
    limit: int,
) -> list[Record]:
    """Who gave which command, newest first; None is any."""
    given = {"run = ?": run, "who = ?": who, "what = ?": what, "id < ?": below}
    wanted = {condition: value for condition, value in given.items() if value is not None}
    where = " AND ".join(["1", *wanted])
    sql = f"SELECT * FROM commands WHERE {where} ORDER BY id DESC LIMIT ?"
    return [dict(row) for row in connection.execute(sql, (*wanted.values(), limit))]


def hand(connection: sqlite3.Connection, run: int, address: str) -> Record | None:
    """What people decided about a step, by its address; None if nothing."""
    row = _one(connection, "SELECT facts FROM hands WHERE run = ? AND address = ?", run, address)
    return json.loads(row["facts"]) if row else None


def effects(connection: sqlite3.Connection, run: int) -> list[Record]:
    """The side effects of a run, in order of begin, each with its attempt's number and outcome."""
    rows = connection.execute(
        "SELECT l.*, a.number, a.outcome FROM ledger l JOIN attempts a ON a.id = l.attempt"
        " WHERE l.run = ? ORDER BY l.begun_at, l.scope, l.what",
        (run,),
    )
    return [dict(row) for row in rows]


_WORKFLOWS = """
  SELECT w.name, w.published_at, w.published_by, p.version, p.document,
    (SELECT max(number) FROM runs WHERE workflow = w.name) AS last_run
  FROM workflows w JOIN plans p ON p.id = w.plan
"""


def workflows(connection: sqlite3.Connection) -> list[Record]:
    """The current version of every workflow, by name."""
    return [dict(row) for row in connection.execute(f"{_WORKFLOWS} ORDER BY w.name")]


def workflow_names(connection: sqlite3.Connection) -> list[str]:
    """The full name of every workflow."""
    return [row["name"] for row in connection.execute("SELECT name FROM workflows ORDER BY name")]


def workflow(connection: sqlite3.Connection, name: str) -> Record | None:
    """The current version of one workflow, by full name."""
    row = connection.execute(f"{_WORKFLOWS} WHERE w.name = ?", (name,)).fetchone()
    return dict(row) if row else None


def tasks(connection: sqlite3.Connection) -> list[Record]:
    """Every task that was published, by name."""
    return [dict(row) for row in connection.execute("SELECT * FROM tasks ORDER BY name")]


def next_due(connection: sqlite3.Connection) -> int | None:
    """When the next back-off or rest is over."""
    sql = "SELECT min(due_at) AS due FROM steps WHERE due_at IS NOT NULL AND state <> 'paused'"
    row = _one(connection, sql)
    return row["due"] if row else None


def code(connection: sqlite3.Connection, task: str, code_hash: str) -> Record | None:
    """Code of a task that was published or brought by a worker."""
    return _one(connection, "SELECT * FROM codes WHERE task = ? AND code_hash = ?", task, code_hash)
