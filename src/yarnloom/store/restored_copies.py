"""Whether the records went back in time, and numbers that are never given out twice all the same.

A database that is restored from a copy, or whose log was lost, goes back without a trace in itself.
A small file beside it tells: it says how many commits there were, a second ago at most, and up to
where numbers of runs and attempts may have been given out. Numbers are reserved in blocks, so that
the file is written once in many commits. Where it is ahead of the database, or a worker has seen
more commits than there are, the records get a new epoch: numbers go on above what was reserved,
and what workers have in hand or say of the epochs before counts for nothing.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import threading
import uuid
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yarnloom.store.files.file_permissions import private
from yarnloom.store.select import Columns

FILE = "numbers.json"
BLOCK = 10_000
NUMBERED = ("runs", "attempts")

_SET = "UPDATE service SET value = ? WHERE key = ?"


@dataclass(slots=True)
class _Known:
    """What stands in the file: whose it is, and how far the records were, at least."""

    service: str
    epoch: str
    commits: int = 0
    runs: int = 0
    attempts: int = 0


class Past:
    """What is known of the records of one data folder, in them and beside them.

    Args:
        folder: the data folder.
        connection: to its database, which has its tables.

    Attributes:
        epoch: of the records; changes when they went back.
        commits: how often something was changed.
        latest: when that was last, or is now, in microseconds since 1970 UTC.
        above: by table, above which number new ones are.
        missing: at this start records were found missing: what is known of it.
    """

    def __init__(self, folder: Path, connection: sqlite3.Connection) -> None:
        rows = dict(connection.execute("SELECT key, value FROM service").fetchall())
        self._path = folder / FILE
        self._writing = threading.Lock()
        self._before: list[str] = json.loads(rows["epochs"])
        self.epoch = rows["epoch"]
        self.commits = int(rows["commits"])
        self.latest = int(rows["latest"])
        self.above = {table: int(rows[f"{table}_from"]) for table in NUMBERED}
        self.missing: str | None = None
        found = self._read()
        self._known = _Known(rows["id"], self.epoch)
        if found is None or found.service != rows["id"]:
            return
        self._known = found
        if found.epoch != self.epoch or found.commits > self.commits:
            self.missing = (
                f"records are missing: {self._path} knows of {found.commits:,} changes, and the "
                f"database has {self.commits:,}, as after it was restored from a copy. What was "
                "done after that is lost; what workers had in hand runs again"
            )
            self.begin_epoch(connection.execute)
        self._known.commits = self.commits

    def begin_epoch(self, change: Callable[[str, Columns], Any]) -> None:
        """The records went back: numbers go on above all that were reserved.

        Args:
            change: executes a statement, as part of the present transaction if there is one.
        """
        self._before.append(self.epoch)
        self.epoch = self._known.epoch = uuid.uuid4().hex[:12]
        change(_SET, (self.epoch, "epoch"))
        change(_SET, (json.dumps(self._before), "epochs"))
        for table in NUMBERED:
            self.above[table] = max(self.above[table], getattr(self._known, table))
            change(_SET, (str(self.above[table]), f"{table}_from"))

    def knows(self, epoch: str) -> bool:
        """Whether an epoch is that of these records, or was."""
        return epoch == self.epoch or epoch in self._before

    def reserve(self, table: str, number: int) -> None:
        """See to it that a number may be given out: it is in a block that is reserved.

        Raises:
            OSError: the file cannot be written; then the number is not to be used.
        """
        if table in NUMBERED and number > getattr(self._known, table):
            before = getattr(self._known, table)
            setattr(self._known, table, (number // BLOCK + 1) * BLOCK)
            try:
                self._write(durably=True)
            except OSError:
                setattr(self._known, table, before)
                raise

    def committed(self) -> None:
        """A transaction that changed something is durable."""
        self.commits += 1

    def note(self) -> None:
        """Write down how far the records are, if they moved; nothing is lost where that fails."""
        if self.commits != self._known.commits:
            self._known.commits = self.commits
            with contextlib.suppress(OSError):
                self._write(durably=False)

    def _write(self, *, durably: bool) -> None:
        beside = self._path.with_suffix(".new")
        # Numbers are reserved on the writer's thread, and commits noted on the event loop.
        with self._writing:
            with open(beside, "w", encoding="utf-8", opener=private) as file:
                json.dump(asdict(self._known), file)
                if durably:
                    file.flush()
                    os.fsync(file.fileno())
            beside.replace(self._path)

    def _read(self) -> _Known | None:
        """What the file says; None where there is none, or it cannot be read."""
        try:
            found = _Known(**json.loads(self._path.read_text(encoding="utf-8")))
        except (OSError, ValueError, TypeError):
            return None
        numbers = (found.commits, found.runs, found.attempts)
        texts = (found.service, found.epoch)
        fine = all(type(number) is int for number in numbers) and all(
            type(text) is str for text in texts
        )
        return found if fine else None
