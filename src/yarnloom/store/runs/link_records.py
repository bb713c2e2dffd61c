"""Links to runs, and saved filters of runs."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

_COLUMNS = "id, run, details, made_at, made_by, expires_at, revoked_at, revoked_by"


def add(unit: Unit, run: int, details: bool, now: int, who: str, expires_at: int) -> int:
    """Keep a new link; return its id."""
    unit.change(
        "INSERT INTO links (run, details, made_at, made_by, expires_at) VALUES (?, ?, ?, ?, ?)",
        (run, int(details), now, who, expires_at),
    )
    ((newest,),) = unit.execute("SELECT max(id) FROM links")
    return int(newest)


def revoke(unit: Unit, link: int, now: int, who: str) -> None:
    """End a link."""
    unit.change("UPDATE links SET revoked_at = ?, revoked_by = ? WHERE id = ?", (now, who, link))


def forget(unit: Unit, before: int) -> None:
    """Forget links that expired before a time."""
    unit.change("DELETE FROM links WHERE expires_at < ?", (before,))


def of_run(unit: Unit, run: int, link: int) -> Record | None:
    """Return a link of a run, as the writer sees it."""
    rows = unit.execute(f"SELECT {_COLUMNS} FROM links WHERE id = ? AND run = ?", (link, run))
    return dict(zip(_COLUMNS.split(", "), rows[0], strict=True)) if rows else None


def link(connection: sqlite3.Connection, link_id: int) -> Record | None:
    """Return a link by id."""
    row = connection.execute(f"SELECT {_COLUMNS} FROM links WHERE id = ?", (link_id,)).fetchone()
    return None if row is None else dict(row)


def links(
    connection: sqlite3.Connection, run: int | None, below: int | None, limit: int
) -> list[Record]:
    """Return links, newest first; of one run, or of all."""
    rows = connection.execute(
        f"SELECT {_COLUMNS} FROM links WHERE (?1 IS NULL OR run = ?1) AND id < ?2"
        " ORDER BY id DESC LIMIT ?3",
        (run, below or 2**62, limit),
    )
    return [dict(row) for row in rows]


def save(unit: Unit, name: str, wanted: str, now: int, who: str) -> None:
    """Keep a filter, in place of one of the same name."""
    unit.change("INSERT OR REPLACE INTO filters VALUES (?, ?, ?, ?)", (name, wanted, now, who))


def drop(unit: Unit, name: str) -> None:
    """Forget a filter."""
    unit.change("DELETE FROM filters WHERE name = ?", (name,))


def names(unit: Unit) -> list[str]:
    """Return the names of all filters, as the writer sees them."""
    return [name for (name,) in unit.execute("SELECT name FROM filters ORDER BY name")]


def filters(connection: sqlite3.Connection) -> list[Record]:
    """Return all filters, by name."""
    rows = connection.execute("SELECT name, wanted, saved_at, saved_by FROM filters ORDER BY name")
    return [dict(row) for row in rows]
