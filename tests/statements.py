"""Every statement of the store that the tests run is explained: none may scan a table that grows.

`install` wraps `sqlite3.connect` in this process. Processes that tests start do the same, by
`tests/site/sitecustomize.py`, and write their statements into a file that this process reads.
"""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
import sys
from pathlib import Path
from typing import Any

FILE_VARIABLE = "YARNLOOM_TEST_STATEMENTS"

GROWING = {
    *("runs", "parts", "steps", "attempts", "start_keys", "run_tags", "commands", "links"),
    *("files", "file_uses", "ledger", "step_actions", "sources", "lists", "segments"),
    *("flows", "flow_times", "hours", "hour_times"),
}

READS_ALL = ("store/audit.py", "store/integrity.py", "store/runs/run_lists.py")
"""Files whose statements look at everything on purpose, or page by page in the order of the key."""

ALLOWED = (
    *(f"SELECT max({key})" for key in ("id", "number", "attempt")),  # the last key
    "SELECT * FROM commands WHERE 1 ORDER BY id DESC LIMIT",  # the newest page
    *(f"SELECT max({what} + span) FROM (" for what in ("step", "part", "attempt")),  # newest 1,000
    "SELECT sha256 FROM files",  # at a start: which files on disk no row names
    "SELECT pool, priority, share, contract, count(*)",  # at a start: an index of what is ready
    "SELECT workflow, admission, count(*)",  # at a start: over an index of runs under way
)
"""How statements begin that may scan, each with the reason."""

_seen: set[str] = set()
_new: set[str] = set()
_read_from = 0


def install(target: Path | None = None) -> None:
    """Note the statements of the store in this process.

    Args:
        target: the file that statements are appended to; None keeps them here.
    """
    connect = sqlite3.connect

    def note(sql: str) -> None:
        if sql in _seen:
            return
        caller = sys._getframe(2).f_code.co_filename
        if "/yarnloom/store/" not in caller or caller.endswith(READS_ALL):
            return
        _seen.add(sql)
        if target is None:
            _new.add(sql)
            return
        # The disk of a service can be full on purpose.
        with contextlib.suppress(OSError), target.open("a", encoding="utf-8") as file:
            file.write(sql.replace("\n", " ") + "\n")

    def noted(*arguments: Any, **options: Any) -> sqlite3.Connection:
        connection = connect(*arguments, **options)
        if type(connection) is sqlite3.Connection or "yarnloom.db" not in str(arguments[0]):
            return connection  # the store's own kind takes attributes
        execute, executemany = connection.execute, connection.executemany

        def noting(sql: str, *values: Any) -> sqlite3.Cursor:
            note(sql)
            return execute(sql, *values)

        def noting_many(sql: str, *values: Any) -> sqlite3.Cursor:
            note(sql)
            return executemany(sql, *values)

        connection.execute, connection.executemany = noting, noting_many  # type: ignore[method-assign]
        return connection

    sqlite3.connect = noted  # type: ignore[assignment]


def new_statements() -> set[str]:
    """Take the statements that were not seen before, of this process and of those it started."""
    global _read_from  # noqa: PLW0603
    found = set(_new)
    _new.clear()
    target = Path(os.environ[FILE_VARIABLE])
    if target.exists() and target.stat().st_size > _read_from:
        with target.open(encoding="utf-8") as file:
            file.seek(_read_from)
            text = file.read()
            _read_from = file.tell()
        found |= {line for line in text.splitlines() if line not in _seen}
        _seen.update(text.splitlines())
    return found


def scans(connection: sqlite3.Connection, sql: str) -> list[str]:
    """Return the growing tables that a statement scans, each with how."""
    if not re.match(r"\s*(SELECT|INSERT|UPDATE|DELETE|WITH)", sql) or sql.strip().startswith(
        ALLOWED
    ):
        return []
    values: list[None] = []
    while True:
        try:
            plan = connection.execute(f"EXPLAIN QUERY PLAN {sql}", values).fetchall()
            break
        except sqlite3.ProgrammingError as error:
            uses = re.search(r"uses (\d+)", str(error))
            if uses is None:
                return []
            values = [None] * int(uses[1])
    aliases = dict(re.findall(r"\b(?:FROM|JOIN|,)\s+(\w+)\s+(?:AS\s+)?(\w+)\b", sql))
    names = {alias: table for table, alias in aliases.items()}
    found = []
    for *_, detail in plan:
        # A search without an index goes through all rows for the least or greatest value.
        scan = re.match(r"(?:SCAN|SEARCH) (\w+)(.*)", str(detail))
        if scan and names.get(scan[1], scan[1]) in GROWING and "USING" not in scan[2]:
            found.append(str(detail))
    return found
