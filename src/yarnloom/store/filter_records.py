"""Saved filters: which runs a list shows, kept by name."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit


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
