"""What all queries of readers share: plain records, and texts to search for."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from typing import Any

Record = dict[str, Any]
"""A row that was read, by column."""

Columns = tuple[Any, ...]
"""The columns of a row, in the order of the statement."""

Row = Mapping[str, Any]
"""The same, for those who only read it."""


def like(text: str) -> str:
    """A pattern of what has a text in it somewhere, upper or lower case."""
    for mark in "!%_":
        text = text.replace(mark, f"!{mark}")
    return f"%{text}%"


def select_one(connection: sqlite3.Connection, sql: str, *values: Any) -> Record | None:
    """Return the first record of a statement; None if there is none."""
    row = connection.execute(sql, values).fetchone()
    return dict(row) if row else None
