"""Whether a file holds the records, whole and sound: for each start, and `yarnloom verify`."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from yarnloom.errors import FolderUnusable
from yarnloom.store.audit import audit

QUICK_SECONDS = 0.3
"""How long a start looks for damage; what is left is looked at when the service is ready."""

_OURS = 0x5961726E  # "Yarn" in ASCII: `application_id` since version 11
_FROM_VERSION = 11
_FEWEST = {"runs", "parts", "steps", "attempts"}
_FAULTS_SHOWN = 20


def refuse_foreign(connection: sqlite3.Connection, path: Path) -> None:
    """Refuse a database of something else, before anything is written to it.

    Raises:
        FolderUnusable: it is not ours.
    """
    (ours,) = connection.execute("PRAGMA application_id").fetchone()
    (version,) = connection.execute("PRAGMA user_version").fetchone()
    tables = {name for kind, name in _names(connection) if kind == "table"}
    is_new = not tables and not ours and not version
    is_older = 0 < version < _FROM_VERSION and tables >= _FEWEST
    if not (is_new or is_older or ours == _OURS):
        raise FolderUnusable(
            f"{path} is a database of something else.", hint="Give another folder with --data."
        )


def refuse_incomplete(
    connection: sqlite3.Connection, path: Path, wanted: dict[tuple[str, str], tuple[str, ...]]
) -> None:
    """Refuse records whose tables are not as this version has them.

    Args:
        connection: to the records.
        path: of them, for the message.
        wanted: tables and indexes, each with its columns, as `shape` gives them.

    Raises:
        FolderUnusable: something is missing, or has other columns.
    """
    found = shape(connection)
    for (kind, name), columns in wanted.items():
        if found.get((kind, name)) != columns:
            how = "is not as it is to be" if (kind, name) in found else "is missing"
            raise FolderUnusable(
                f"the records in {path} are incomplete: {kind} {name} {how}.",
                hint="Restore them from a copy, or give another folder with --data.",
            )


def shape(connection: sqlite3.Connection) -> dict[tuple[str, str], tuple[str, ...]]:
    """Every table and index, with the names of its columns."""
    found = {}
    for kind, name in _names(connection):
        which = "table_info" if kind == "table" else "index_info"
        columns = connection.execute(f"SELECT name FROM pragma_{which}(?)", (name,)).fetchall()
        found[kind, name] = tuple(str(column) for (column,) in columns)
    return found


def _names(connection: sqlite3.Connection) -> list[tuple[str, str]]:
    return connection.execute(
        "SELECT type, name FROM sqlite_schema WHERE type IN ('table', 'index')"
        " AND name NOT LIKE 'sqlite_%'"
    ).fetchall()


def look_for_damage(connection: sqlite3.Connection, seconds: float | None) -> list[str] | None:
    """What SQLite's own quick check finds; None where the time was over before it ended."""
    until = None if seconds is None else time.monotonic() + seconds
    handler = None if until is None else lambda: time.monotonic() > until
    connection.set_progress_handler(handler, 10_000)
    try:
        rows = connection.execute(f"PRAGMA quick_check({_FAULTS_SHOWN})").fetchall()
    except sqlite3.OperationalError as error:
        if "interrupted" in str(error):
            return None
        raise
    finally:
        connection.set_progress_handler(None, 0)
    return [_one_line(text) for (text,) in rows if text != "ok"]


def _one_line(text: str) -> str:
    return " ".join(text.replace("*** in database main ***", "").split())


@dataclass(slots=True)
class Verdict:
    """What a look at a whole folder found.

    Attributes:
        counts: how many rows there are, by table, or would be if every item had its own.
        faults: everything that is wrong, in words.
    """

    counts: dict[str, int] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)


_COUNTED = ("runs", "parts", "steps", "attempts", "files")
_OF_ITEMS = ("parts", "steps", "attempts")
"""Of these an item that is done and has no rows counts as one each."""


def verify(connection: sqlite3.Connection, folder: Path) -> Verdict:
    """Look at everything: the file itself, what must hold in the records, and kept files.

    From one consistent state, with or without a service on the folder. Reads all of it.
    """
    verdict = Verdict()
    faults = verdict.faults
    with _one_state(connection):
        rows = connection.execute(f"PRAGMA integrity_check({_FAULTS_SHOWN})").fetchall()
        faults += [
            f"the database is damaged: {_one_line(text)}" for (text,) in rows if text != "ok"
        ]
        if faults:
            return verdict
        faults += [
            f"a row of {row[0]} points to a row of {row[2]} that is not there"
            for row in connection.execute("PRAGMA foreign_key_check").fetchall()
        ]
        faults += audit(connection)
        ((folded,),) = connection.execute("SELECT count(*) FROM folded").fetchall()
        for table in _COUNTED:
            ((count,),) = connection.execute(f"SELECT count(*) FROM {table}").fetchall()
            verdict.counts[table] = count + (folded if table in _OF_ITEMS else 0)
        for sha256, size in connection.execute("SELECT sha256, size FROM files"):
            path = folder / "files" / sha256[:2] / sha256
            if not path.exists():
                faults.append(f"file {sha256[:12]}… is not in the folder")
            elif path.stat().st_size != size:
                faults.append(f"file {sha256[:12]}… has another size than it was kept with")
    return verdict


@contextlib.contextmanager
def _one_state(connection: sqlite3.Connection) -> Iterator[None]:
    connection.execute("BEGIN")
    try:
        yield
    finally:
        connection.execute("ROLLBACK")
