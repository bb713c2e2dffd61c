"""Which files are kept, which runs use them, and the lists that were made of them."""

from __future__ import annotations

import json
import sqlite3

from yarnloom.store.files.file_folder import Kept
from yarnloom.store.select import Record, select_one
from yarnloom.store.unit_of_work import Unit


def keep_file(unit: Unit, kept: Kept, name: str, media_type: str, by: str, at: int) -> None:
    """Keep a file, or note that it was kept again."""
    unit.change(
        "INSERT INTO files VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (sha256) DO UPDATE"
        " SET idle_from = CASE WHEN idle_from IS NULL THEN NULL ELSE excluded.idle_from END,"
        " count = coalesce(count, excluded.count), marks = coalesce(marks, excluded.marks)",
        (kept.sha256, kept.size, name, media_type, by, at, at, kept.count, kept.marks),
    )


def file_facts(unit: Unit, sha256: str) -> Record | None:
    """Size, name and media type of a file, and of a list how many values it has."""
    found = unit.execute(
        "SELECT size, name, media_type, count FROM files WHERE sha256 = ?", (sha256,)
    )
    if not found:
        return None
    size, name, media_type, count = found[0]
    return {"size": size, "name": name, "media_type": media_type, "count": count}


def marks_of(unit: Unit, sha256: str) -> bytes | None:
    """Where some values of a list begin; None for what is not known as a list."""
    found = unit.execute("SELECT marks FROM files WHERE sha256 = ?", (sha256,))
    return found[0][0] if found else None


def keep_marks(unit: Unit, kept: Kept) -> None:
    """Keep where the values of a list begin that is kept as a file."""
    unit.change(
        "UPDATE files SET count = ?, marks = ? WHERE sha256 = ?",
        (kept.count, kept.marks, kept.sha256),
    )


def use_files(unit: Unit, run: int, hashes: set[str]) -> set[str]:
    """Note that a run uses files; those of them that are not kept."""
    missing = set()
    for sha256 in hashes:
        known = unit.execute("SELECT idle_from FROM files WHERE sha256 = ?", (sha256,))
        if not known:
            missing.add(sha256)
            continue
        unit.flush()  # the run may be new
        unit.change("INSERT OR IGNORE INTO file_uses VALUES (?, ?)", (run, sha256))
        if known[0][0] is not None:
            unit.change("UPDATE files SET idle_from = NULL WHERE sha256 = ?", (sha256,))
    return missing


def next_idle(unit: Unit) -> int | None:
    """Since when the file is idle that is so the longest."""
    ((since,),) = unit.execute("SELECT min(idle_from) FROM files WHERE idle_from IS NOT NULL")
    return None if since is None else int(since)


def drop_idle(unit: Unit, before: int, limit: int) -> list[str]:
    """Let go of files that no run has used since then; their hashes."""
    rows = unit.execute(
        "SELECT sha256 FROM files WHERE idle_from <= ? ORDER BY idle_from LIMIT ?", (before, limit)
    )
    hashes = [sha256 for (sha256,) in rows]
    for sha256 in hashes:
        unit.change(
            "DELETE FROM row_checks WHERE sha256 = ?1 OR list = ?1 OR instr(facts, ?1)", (sha256,)
        )
        unit.change("DELETE FROM files WHERE sha256 = ?", (sha256,))
    return hashes


# Rows that were checked


def keep_check(unit: Unit, sha256: str, kind: str, found: str, facts: Record) -> None:
    """Keep which list came of a file's rows, and what is known besides."""
    unit.change(
        "INSERT OR REPLACE INTO row_checks VALUES (?, ?, ?, ?)",
        (sha256, kind, found, json.dumps(facts)),
    )


def checked(unit: Unit, sha256: str, kind: str) -> Record | None:
    """The list that came of a file's rows: its hash and how many, and what is known besides.

    None if it was not checked.
    """
    found = unit.execute(
        "SELECT c.list, f.count, c.facts FROM row_checks c JOIN files f ON f.sha256 = c.list"
        " WHERE c.sha256 = ? AND c.kind = ?",
        (sha256, kind),
    )
    if not found:
        return None
    return {"list": found[0][0], "count": found[0][1], **json.loads(found[0][2])}


# Lists of eaches


def keep_gathered(unit: Unit, part: int, kind: str, reference: Record) -> None:
    """Keep what an each gives as a list."""
    unit.change(
        "INSERT OR REPLACE INTO lists VALUES (?, ?, ?)", (part, kind, json.dumps(reference))
    )


def gathered_list(unit: Unit, part: int, kind: str) -> str | None:
    """What an each gives as a list, as JSON text; None if it is no list of its own."""
    found = unit.execute("SELECT value FROM lists WHERE part = ? AND kind = ?", (part, kind))
    return found[0][0] if found else None


def drop_lists(unit: Unit, part: int) -> None:
    """Forget what an each gave."""
    unit.change("DELETE FROM lists WHERE part = ?", (part,))


def awaiting(unit: Unit) -> list[tuple[int, str]]:
    """Every each that waits for a list job, with the list job."""
    unit.flush()
    return unit.execute("SELECT id, awaits FROM parts WHERE awaits IS NOT NULL")


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
