"""The log file: lines that attempts printed and values that runs published, in `logs.db`.

A second SQLite file beside the records, so that output is never written by the engine's commits.
A chunk holds consecutive lines of one attempt as JSON, compressed where that pays.
All functions of `LogFile` must be called from one thread.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import zlib
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.errors import CannotStore, FolderUnusable
from yarnloom.store import integrity
from yarnloom.store.files.file_permissions import private
from yarnloom.store.logs.log_chunks import (
    CHUNK_SIZE,
    Chunk,
    Wanted,
    chunks_of,
    json_of,
    lines_after,
    mark_of,
    only_chunk,
    packed,
    published_text,
    row_of,
    unpacked,
)
from yarnloom.store.logs.log_records import (
    PUBLISHED,
    AttemptKey,
    Line,
    LogPage,
    Mark,
    Printed,
    Printer,
)
from yarnloom.store.select import Columns

LOG_FILE = "logs.db"

SIZE_LIMIT = 4 * 1024 * 1024
PUBLISHED_LIMIT = 64 * 1024 * 1024

SEARCHED = 2 * 1024 * 1024
"""Characters of JSON that are looked through for one page of a run's log."""

_REMEMBERED = 2_000
_WAL_LIMIT = 4 * 2**20
_QUICK_SECONDS = 0.1
_OURS = 0x5961724C  # "YarL" in ASCII

_VERSION = 2
_TABLES = f"""
-- Lines of an attempt: its part (the each that it is an item of, else the part around it), the
-- item's index there, the step's index in the plan, and the attempt's number. The attempt's id
-- tells attempts apart that have the same number because the records were restored from a copy.
-- The chunks of a run, in the order of `id`, are its log as it arrived.
CREATE TABLE IF NOT EXISTS lines (
  id       INTEGER PRIMARY KEY,
  run      INTEGER NOT NULL,
  address  TEXT NOT NULL,      -- of the step within its run
  part     INTEGER NOT NULL,
  item     INTEGER NOT NULL,
  step     INTEGER NOT NULL,
  number   INTEGER NOT NULL,
  attempt  INTEGER NOT NULL,
  first    INTEGER NOT NULL,   -- index of the first line
  count    INTEGER NOT NULL,   -- lines covered; body has fewer where lines were over the limit
  size     INTEGER NOT NULL,   -- characters of JSON
  at       INTEGER NOT NULL,   -- when the newest of them arrived, microseconds since 1970 UTC
  body     ANY NOT NULL,       -- JSON array of lines: text, or compressed by zlib
  UNIQUE (part, item, step, number, attempt, first)
) STRICT;
CREATE INDEX lines_by_run ON lines (run);
CREATE TABLE IF NOT EXISTS published (
  run      INTEGER NOT NULL,
  first    INTEGER NOT NULL,
  count    INTEGER NOT NULL,
  size     INTEGER NOT NULL,
  body     ANY NOT NULL,
  PRIMARY KEY (run, first)
) STRICT, WITHOUT ROWID;
PRAGMA application_id = {_OURS};
PRAGMA user_version = {_VERSION};
"""
_CHUNKS = (
    "SELECT id, size, address, number, first, body FROM lines WHERE run = ? AND id {} ?"
    " ORDER BY id {}"
)
_OF_ATTEMPT = "part = ? AND item = ? AND step = ? AND number = ? AND attempt = ?"

_INSERT = f"INSERT INTO lines VALUES ({', '.join('?' * 13)})"
_INSERT_IF_NEW = f"{_INSERT} ON CONFLICT DO NOTHING"


@dataclass(slots=True)
class _Extent:
    """How far an attempt's lines, or a run's published values, reach."""

    count: int = 0
    size: int = 0
    is_full: bool = False

    def line_text(self, line: Line) -> str | None:
        """Return the JSON of a line to store, or of the note that says that it is too much."""
        if self.is_full:
            return None
        if self.size > SIZE_LIMIT:
            self.is_full = True
            note = f"more than {SIZE_LIMIT:,} bytes; what follows was dropped"
            return json_of({**line, "stream": "yarnloom", "text": note})
        text = json_of(line)
        self.size += len(text)
        return text

    def published_text(self, text: str) -> str | None:
        """Return the JSON of an entry to store, or of the note that says that it is too much."""
        if self.is_full:
            return None
        self.size += len(text)
        if self.size <= PUBLISHED_LIMIT:
            return text
        self.is_full = True
        note = f"more than {PUBLISHED_LIMIT:,} bytes published; what follows was dropped"
        return json.dumps({**json.loads(text), "dropped": True, "value": note})


class LogFile:
    """The open log file of a data folder; made if it is missing.

    Raises:
        FolderUnusable: it is damaged, of a newer version, or of something else.
    """

    def __init__(self, folder: Path) -> None:
        self.path = folder / LOG_FILE
        self._extents: OrderedDict[AttemptKey | int, _Extent] = OrderedDict()
        self._open()

    def _open(self) -> None:
        try:
            os.close(private(str(self.path), os.O_RDWR | os.O_CREAT))
            self._connection = sqlite3.connect(
                self.path, isolation_level=None, check_same_thread=False
            )
            try:
                self._set_up()
            except BaseException:
                self._connection.close()
                raise
            found = self.path.stat()
        except (sqlite3.Error, OSError) as error:
            text = " ".join(str(error).split())
            raise FolderUnusable(
                f"the logs in {self.path} cannot be opened: {text}. Move that file away to go on "
                "without old log lines, or restore it from a copy."
            ) from error
        self._identity = (found.st_dev, found.st_ino)

    def _set_up(self) -> None:
        execute = self._connection.execute
        (ours,) = execute("PRAGMA application_id").fetchone()
        (version,) = execute("PRAGMA user_version").fetchone()
        (tables,) = execute("SELECT count(*) FROM sqlite_schema").fetchone()
        if (tables or ours or version) and ours != _OURS:
            raise sqlite3.DatabaseError("it is a database of something else")
        if version not in (0, _VERSION):
            age = "newer" if version > _VERSION else "older"
            raise sqlite3.DatabaseError(f"it is of version {version}, {age} than this program")
        execute("PRAGMA auto_vacuum = INCREMENTAL")
        execute("PRAGMA journal_mode = WAL")
        execute(f"PRAGMA journal_size_limit = {_WAL_LIMIT}")
        execute("PRAGMA synchronous = FULL")
        execute("PRAGMA busy_timeout = 5000")
        execute("PRAGMA cache_size = -4000")
        if not version:
            self._connection.executescript(f"BEGIN;\n{_TABLES}\nCOMMIT;")
        if faults := integrity.look_for_damage(self._connection, _QUICK_SECONDS):
            raise sqlite3.DatabaseError(f"it is damaged: {faults[0]}")

    def open_again_if_replaced(self) -> bool:
        """Open the file anew if it was moved, removed or replaced; return whether it was.

        Raises:
            FolderUnusable: it cannot be opened.
        """
        with contextlib.suppress(OSError):
            found = self.path.stat()
            if (found.st_dev, found.st_ino) == self._identity:
                return False
        self._connection.close()
        self._extents.clear()
        self._open()
        return True

    def close(self) -> None:
        """Close the file."""
        self._connection.close()

    # Writing

    def write(self, batch: list[Printed]) -> None:
        """Store a batch durably, in one transaction. Lines that are stored already are left out.

        Raises:
            CannotStore: none of it was stored.
        """
        with self._telling_faults(), self._transaction():
            published: dict[int, list[str]] = {}
            new: list[tuple[Printed, Columns]] = []
            for printer, pieces in _by_attempt(batch).items():
                if printer.key not in self._extents and (row := only_chunk(pieces)):
                    new.append((pieces[0], row))
                    continue
                self._insert_new(new)
                self._write_lines(printer, pieces, published.setdefault(printer.run, []))
            self._insert_new(new)
            for run, entries in published.items():
                self._write_published(run, entries)

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[None]:
        try:
            self._connection.execute("BEGIN IMMEDIATE")
            yield
            self._connection.execute("COMMIT")
        except BaseException:
            self._extents.clear()
            with contextlib.suppress(sqlite3.Error):
                self._connection.execute("ROLLBACK")
            raise

    @contextlib.contextmanager
    def _telling_faults(self) -> Iterator[None]:
        """Raise CannotStore in place of what SQLite raises."""
        try:
            yield
        except sqlite3.Error as error:
            raise CannotStore(f"{self.path}: {error}") from error

    def _write_lines(self, printer: Printer, pieces: list[Printed], published: list[str]) -> None:
        extent = self._extent_of_lines(printer.key)
        chunks = [Chunk(extent.count)]
        for piece in pieces:
            for line in piece.lines[max(0, extent.count - piece.first) :]:
                if piece.first > extent.count or chunks[-1].size > CHUNK_SIZE:
                    # A chunk ends where lines between were lost, and where it is large enough.
                    extent.count = max(piece.first, extent.count)
                    chunks.append(Chunk(extent.count))
                extent.count += 1
                chunks[-1].count += 1
                chunks[-1].at = piece.at
                if line.get("stream") == PUBLISHED:
                    published.append(published_text(printer, line))
                if text := extent.line_text(line):
                    chunks[-1].texts.append(text)
                    chunks[-1].size += len(text)
        for chunk in chunks:
            if chunk.count:
                self._connection.execute(_INSERT, row_of(printer, chunk))

    def _insert_new(self, new: list[tuple[Printed, Columns]]) -> None:
        """Write the first lines of attempts of which nothing is known, and empty the list.

        Most short attempts print once, so nothing is asked about them first.
        """
        rows = [row for _, row in new]
        if rows and self._connection.executemany(_INSERT_IF_NEW, rows).rowcount < len(rows):
            for piece, _ in new:  # some are stored already, perhaps with fewer lines
                self._write_lines(piece.printer, [piece], [])
        new.clear()

    def _write_published(self, run: int, entries: list[str]) -> None:
        extent = self._extent_of_published(run)
        for some in chunks_of(entries):
            before = extent.size
            texts = [text for text in map(extent.published_text, some) if text]
            if texts:
                row = (run, extent.count, len(texts), extent.size - before, packed(texts))
                self._connection.execute("INSERT INTO published VALUES (?, ?, ?, ?, ?)", row)
                extent.count += len(texts)

    def _extent_of_lines(self, key: AttemptKey) -> _Extent:
        if key not in self._extents:
            ask = f"SELECT max(first + count), sum(size) FROM lines WHERE {_OF_ATTEMPT}"
            self._remember(key, self._connection.execute(ask, key).fetchone(), SIZE_LIMIT)
        self._extents.move_to_end(key)
        return self._extents[key]

    def _extent_of_published(self, run: int) -> _Extent:
        if run not in self._extents:
            ask = "SELECT max(first + count), sum(size) FROM published WHERE run = ?"
            self._remember(run, self._connection.execute(ask, (run,)).fetchone(), PUBLISHED_LIMIT)
        self._extents.move_to_end(run)
        return self._extents[run]

    def _remember(
        self, key: AttemptKey | int, row: tuple[int | None, int | None], limit: int
    ) -> None:
        count, size = row[0] or 0, row[1] or 0
        self._extents[key] = _Extent(count, size, size > limit)
        while len(self._extents) > _REMEMBERED:
            self._extents.popitem(last=False)

    # Reading

    def lines(self, key: AttemptKey, after: int, limit: int) -> list[Line]:
        """Return lines of an attempt from an index on, each with its index as `line`.

        Where lines are missing, since they were not stored yet when the service was killed, a
        line of the stream `yarnloom` says so.

        Raises:
            CannotStore: the file cannot be read.
        """
        ask = (
            f"SELECT first, count, body FROM lines WHERE {_OF_ATTEMPT} AND first >= coalesce("
            f"(SELECT max(first) FROM lines WHERE {_OF_ATTEMPT} AND first <= ?), 0) ORDER BY first"
        )
        lines: list[Line] = []
        end = after
        with self._telling_faults():
            for first, count, body in self._connection.execute(ask, (*key, *key, after)):
                if first > end:
                    text = f"{first - end:,} lines were lost here, when the service ended suddenly"
                    lines.append({"line": first - 1, "stream": "yarnloom", "text": text})
                lines += lines_after(first, body, after)
                end = first + count
                if len(lines) >= limit:
                    break
        return lines[:limit]

    def lines_after(self, run: int, after: Mark, wanted: Wanted) -> LogPage:
        """Return lines of all steps of a run from a mark on.

        About `SEARCHED` characters are looked through; the next page goes on from there.

        Raises:
            CannotStore: the file cannot be read.
        """
        lines: list[Line] = []
        size, end = 0, after
        with self._telling_faults():
            rows = self._connection.execute(_CHUNKS.format(">=", ""), (run, after.chunk))
            for id_, size_of_chunk, *chunk in rows:
                if size > SEARCHED:
                    return LogPage(lines, end, end)
                lines += [one for one in wanted.among(id_, *chunk) if mark_of(one) > after]
                size, end = size + size_of_chunk, Mark(id_ + 1)
                if len(lines) > wanted.limit:
                    del lines[wanted.limit :]
                    return LogPage(lines, mark_of(lines[-1]), mark_of(lines[-1]))
        return LogPage(lines, None, end)

    def lines_before(self, run: int, before: Mark | None, wanted: Wanted) -> LogPage:
        """Return the newest lines of all steps of a run, or the newest before a mark.

        About `SEARCHED` characters are looked through; the page before goes on from there.

        Raises:
            CannotStore: the file cannot be read.
        """
        lines: list[Line] = []
        before = before or Mark(2**62)
        size, lowest, end = 0, before, Mark()
        with self._telling_faults():
            bound = before.chunk if before.line else before.chunk - 1
            rows = self._connection.execute(_CHUNKS.format("<=", "DESC"), (run, bound))
            for id_, size_of_chunk, *chunk in rows:
                if size > SEARCHED:
                    return LogPage(lines, lowest, end)
                lines[:0] = [one for one in wanted.among(id_, *chunk) if mark_of(one) <= before]
                size, lowest, end = size + size_of_chunk, Mark(id_), max(end, Mark(id_ + 1))
                if len(lines) > wanted.limit:
                    del lines[: -wanted.limit]
                    first = mark_of(lines[0])
                    return LogPage(lines, first._replace(line=first.line - 1), end)
        return LogPage(lines, None, end)

    def published(self, run: int, after: int, limit: int) -> list[Line]:
        """Return what a run published from an entry on, each with its index as `line`.

        Raises:
            CannotStore: the file cannot be read.
        """
        ask = (
            "SELECT first, body FROM published WHERE run = ? AND first >= coalesce("
            "(SELECT max(first) FROM published WHERE run = ? AND first <= ?), 0) ORDER BY first"
        )
        entries: list[Line] = []
        with self._telling_faults():
            for first, body in self._connection.execute(ask, (run, run, after)):
                entries += lines_after(first, body, after)
                if len(entries) >= limit:
                    break
        return entries[:limit]

    def written_at(self, key: AttemptKey) -> int | None:
        """Return when the newest line of an attempt arrived, in microseconds since 1970 UTC.

        Raises:
            CannotStore: the file cannot be read.
        """
        ask = f"SELECT max(at) FROM lines WHERE {_OF_ATTEMPT}"
        with self._telling_faults():
            (at,) = self._connection.execute(ask, key).fetchone()
        return None if at is None else int(at)


def verify_logs(folder: Path) -> list[str]:
    """Return what is wrong with the log file of a data folder; nothing where there is none."""
    path = folder / LOG_FILE
    if not path.is_file():
        return []
    try:
        uri = f"{path.absolute().as_uri()}?mode=ro"
        with contextlib.closing(sqlite3.connect(uri, uri=True)) as connection:
            faults = integrity.look_for_damage(connection, None) or []
            for table in ("lines", "published"):
                for (body,) in connection.execute(f"SELECT body FROM {table}"):
                    unpacked(body)
    except (sqlite3.Error, zlib.error, ValueError) as error:
        faults = [str(error)]
    return [f"{LOG_FILE} is damaged: {fault}" for fault in faults]


def _by_attempt(batch: Iterable[Printed]) -> dict[Printer, list[Printed]]:
    """Return the batch by attempt, each attempt's lines in the order in which they came."""
    by_attempt: dict[Printer, list[Printed]] = {}
    for printed in batch:
        by_attempt.setdefault(printed.printer, []).append(printed)
    return by_attempt
