"""Queries of readers about kept files, and which runs use them."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record, select_one


def marks(connection: sqlite3.Connection, sha256: str) -> bytes | None:
    """Where some values of a list begin that is a file."""
    row = select_one(connection, "SELECT marks FROM files WHERE sha256 = ?", sha256)
    return row["marks"] if row else None


_FILES = """
  SELECT f.sha256, f.size, f.name, f.media_type, f.kept_by, f.kept_at, f.idle_from, f.count,
    (SELECT count(*) FROM file_uses u WHERE u.sha256 = f.sha256) AS runs
  FROM files f
"""


def file(connection: sqlite3.Connection, sha256: str) -> Record | None:
    """A file that is kept, or None."""
    return select_one(connection, f"{_FILES} WHERE f.sha256 = ?", sha256)


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
