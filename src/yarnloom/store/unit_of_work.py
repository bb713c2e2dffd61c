"""The unit of work: what one transaction reads and changes.

The engine changes rows as plain objects; nothing is written until `flush`, so that a row that
changes three times in one transaction is written once. Rows that are likely to be needed again
(runs, parts and steps in progress) stay here between transactions: there is one writer, so they
cannot go stale. After a failed transaction `forget` drops them all.

Decision: `docs/decisions/01-one-writer.md`.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import fields
from operator import attrgetter, itemgetter
from typing import Any, Generic, TypeVar

from yarnloom.errors import Gone, NotFound, YarnloomError
from yarnloom.store.restored_copies import Past
from yarnloom.store.rows import AttemptRow, PartRow, RunRow, StepRow
from yarnloom.store.select import Columns

Row = TypeVar("Row", RunRow, PartRow, StepRow, AttemptRow)

Watched = tuple[Row, Any, Any]
"""A row, and what its watched columns were before, None if it is new, and are; one is no tuple."""

LARGEST_GRANT = 1_000
"""Items that may be given with one grant: what one says of them lies no farther apart."""

KEEP_ROWS = 4_000
KEEP_TEXT = 4_096

_COUNT_COMMIT = (
    "UPDATE service SET value = CASE key WHEN 'commits' THEN ? ELSE ? END"
    " WHERE key IN ('commits', 'latest')"
)


class StoreFailed(YarnloomError):
    """The records could not be read or written: the disk is full, or worse."""

    code = "store-failed"


class RecordTable(Generic[Row]):
    """The rows of one table that a transaction has in hand."""

    def __init__(self, unit: Unit, name: str, row_class: type[Row]) -> None:
        names = [field.name for field in fields(row_class)]
        columns = [_column(one) for one in names]
        fixed = row_class.FIXED
        key = columns[0]
        places = ", ".join("?" * len(columns))
        self._unit = unit
        self._name = name
        self._row_class: Callable[..., Row] = row_class
        self._select = f"SELECT {', '.join(columns)} FROM {name} WHERE "
        self._insert_sql = f"INSERT INTO {name} ({', '.join(columns)}) VALUES ({places})"
        self._columns = columns[fixed:]
        self._row_name = row_class.__name__
        self._key = attrgetter(names[0])
        self._key_column = key
        self._all = attrgetter(*names)
        self._changing = attrgetter(*names[fixed:])
        self._written: dict[int, Columns] = {}  # of each row, what may change, as stored
        self._updates: dict[tuple[int, ...], str] = {}
        self.rows: dict[int, Row] = {}
        self._new: dict[int, Row] = {}
        self._changed: dict[int, Row] = {}
        self._used: list[int] = []
        self._watch: Callable[[Columns], Columns] = _nothing
        self._watched: list[Watched[Row]] = []

    def watch(self, names: Sequence[str]) -> None:
        """Remember of each row that is written what these columns were before, and are."""
        self._watch = itemgetter(*[self._columns.index(name) for name in names])

    def take_watched(self) -> list[Watched[Row]]:
        """Return the watched changes since the last call, in order."""
        found, self._watched = self._watched, []
        return found

    def get(self, key: int) -> Row | None:
        """The row with that key, or None."""
        row = self.rows.get(key)
        return row if row is not None else self.one(f"{self._key_column} = ?", key)

    def need(self, key: int) -> Row:
        """The row with that key, which is known to exist."""
        row = self.get(key)
        if row is None:
            raise LookupError(f"no row {key} of {self._row_name}")
        return row

    def one(self, where: str, *values: Any) -> Row | None:
        """The row for a condition that at most one row meets."""
        found = self.select(where, *values)
        return found[0] if found else None

    def select(self, where: str, *values: Any) -> list[Row]:
        """The rows for a condition, as they stand in this transaction.

        Pending changes are written first, so that the condition sees them.
        """
        self._unit.flush()
        found = []
        for record in self._unit.execute(self._select + where, values):
            known = self.rows.get(record[0])
            if known is None:
                known = self.rows[record[0]] = self._row_class(*record)
                self._written[record[0]] = self._changing(known)
                self._used.append(record[0])
            found.append(known)
        return found

    def add(self, row: Row) -> Row:
        """Take in a new row."""
        key = self._key(row)
        self.rows[key] = self._new[key] = row
        self._unit.changes += 1
        return row

    def touch(self, row: Row) -> None:
        """Say that a row was changed."""
        key = self._key(row)
        self._unit.changes += 1
        if key not in self._new:
            self._changed[key] = row

    def rewrite(self, row: Row, **values: Any) -> None:
        """Change what is fixed otherwise, such as a step's input."""
        self._unit.flush()
        settings = ", ".join(f"{name} = ?" for name in values)
        sql = f"UPDATE {self._name} SET {settings} WHERE {self._key_column} = ?"
        self._unit.change(sql, (*values.values(), self._key(row)))
        for name, value in values.items():
            setattr(row, name, value)
        self._written[self._key(row)] = self._changing(row)

    @property
    def dirty(self) -> bool:
        """Whether anything is still to be written."""
        return bool(self._new or self._changed)

    def write(self) -> None:
        """Write what is new and what changed."""
        if self._new:
            self._unit.executemany(self._insert_sql, map(self._all, self._new.values()))
            for key, row in self._new.items():
                self._written[key] = self._changing(row)
                self._note_watched(row, None, self._written[key])
            self._used += self._new
            self._new.clear()
        if self._changed:
            for columns, rows in self._by_change().items():
                self._unit.executemany(self._update_of(columns), rows)
            self._used += self._changed
            self._changed.clear()

    def _by_change(self) -> dict[tuple[int, ...], list[Columns]]:
        """Group the changed rows by the columns that differ from the stored row.

        Only these are set: SQLite writes every index anew of which a column is set.
        """
        found: dict[tuple[int, ...], list[Columns]] = {}
        for key, row in self._changed.items():
            now: Columns = self._changing(row)
            columns: tuple[int, ...] = _differing(self._written.get(key), now)
            if columns:
                changed = (*[now[at] for at in columns], key)
                found.setdefault(columns, []).append(changed)
                self._note_watched(row, self._written.get(key), now)
                self._written[key] = now
        return found

    def _note_watched(self, row: Row, before: Columns | None, after: Columns) -> None:
        if self._watch is not _nothing:
            was = None if before is None else self._watch(before)
            if was != (now := self._watch(after)):
                self._watched.append((row, was, now))

    def _update_of(self, columns: tuple[int, ...]) -> str:
        sql = self._updates.get(columns)
        if sql is None:
            settings = ", ".join(f"{self._columns[at]} = ?" for at in columns)
            sql = f"UPDATE {self._name} SET {settings} WHERE {self._key_column} = ?"
            self._updates[columns] = sql
        return sql

    def trim(self, finished: Callable[[Row], bool]) -> None:
        """After a commit: let go of rows that are finished, or too many, or large.

        Of those that were read or written since the last one.
        """
        if len(self.rows) > KEEP_ROWS:
            self.forget()
        for key in self._used:
            row = self.rows.get(key)
            if row is not None and finished(row):
                del self.rows[key]
                self._written.pop(key, None)
        self._used.clear()

    def forget(self) -> None:
        """Forget rows that are written."""
        self.rows.clear()
        self._written.clear()

    def clear(self) -> None:
        """Drop everything, written or not."""
        self.forget()
        self._new.clear()
        self._changed.clear()
        self._used.clear()
        self._watched.clear()


def _nothing(_: Columns) -> Columns:
    """What is looked at of a row that nobody watches."""
    return ()


class Unit:
    """One writer's view of the store; transactions begin by themselves at the first statement."""

    def __init__(self, connection: sqlite3.Connection, past: Past) -> None:
        self._connection = connection
        self._past = past
        self._cursor = connection.cursor()
        self.open = False
        self._changed_before = 0
        self.changes = 0  # rises with every change, written or not
        self.runs = RecordTable(self, "runs", RunRow)
        self.parts = RecordTable(self, "parts", PartRow)
        self.steps = RecordTable(self, "steps", StepRow)
        self.attempts = RecordTable(self, "attempts", AttemptRow)
        # In the order that foreign keys need.
        self._tables: tuple[RecordTable[Any], ...] = (
            self.runs,
            self.parts,
            self.steps,
            self.attempts,
        )
        self._later: list[tuple[str, Sequence[Columns]]] = []
        self._next = self._newest_ids()

    def _newest_ids(self) -> dict[str, int]:
        newest = {
            name: max(
                self._connection.execute(sql).fetchone()[0] or 0
                for sql in (f"SELECT max(id) FROM {name}", *_without_rows(column))
            )
            for name, column in (("parts", "part"), ("steps", "step"), ("attempts", "attempt"))
        }
        # Not max(number): a removed run's number is never given out again.
        row = self._connection.execute(
            "SELECT seq FROM sqlite_sequence WHERE name = 'runs'"
        ).fetchone()
        newest["runs"] = row[0] if row else 0
        return {table: max(one, self._past.above.get(table, 0)) for table, one in newest.items()}

    def was_given_out(self, number: int) -> bool:
        """Whether there is or was a run of that number."""
        return 0 < number <= self._next["runs"]

    def run(self, number: int) -> RunRow:
        """Return a run by number.

        Raises:
            NotFound: there never was one.
            Gone: it was removed.
        """
        run = self.runs.get(number)
        if run is None and self.was_given_out(number):
            raise Gone(f"run {number} was removed")
        if run is None:
            raise NotFound(f"there is no run {number}", hint="`yarnloom runs` lists what there is")
        return run

    def around(self, part: PartRow) -> PartRow:
        """Return the part around a part."""
        assert part.parent is not None
        return self.parts.need(part.parent)

    def new_id(self, table: str) -> int:
        """The next id of a table."""
        return self.new_ids(table, 1)

    def new_ids(self, table: str, count: int) -> int:
        """The first of so many ids in a row of a table."""
        number = self._next[table] + count
        try:
            self._past.reserve(table, number)
        except OSError as error:
            raise StoreFailed(f"no numbers can be reserved: {error.strerror}") from error
        self._next[table] = number
        return number - count + 1

    def add_later(self, sql: str, rows: Sequence[Columns]) -> None:
        """Run a statement for many rows with the next flush, after what the tables have."""
        self.changes += 1
        self._later.append((sql, rows))

    def begin_epoch(self) -> None:
        """The records went back: numbers go on above all that may have been given out."""
        self._past.begin_epoch(self.change)
        self._next = {
            table: max(one, self._past.above.get(table, 0)) for table, one in self._next.items()
        }

    def begin(self) -> None:
        """Begin the transaction, if it has not begun."""
        if not self.open:
            self._cursor.execute("BEGIN IMMEDIATE")
            self._changed_before = self._connection.total_changes
            self.open = True

    def execute(self, sql: str, values: Iterable[Any] = ()) -> list[Any]:
        """Run one statement in the transaction; all rows that it gives."""
        with _store_errors():
            self.begin()
            return self._cursor.execute(sql, tuple(values)).fetchall()

    def change(self, sql: str, values: Iterable[Any] = ()) -> None:
        """Run one statement that changes something."""
        self.changes += 1
        self.execute(sql, values)

    def executemany(self, sql: str, rows: Iterable[Columns]) -> None:
        """Run one statement for many rows in the transaction."""
        with _store_errors():
            self.begin()
            self._cursor.executemany(sql, rows)

    def least(self, sql: str) -> int | None:
        """The one number that a statement finds, as things stand in the transaction."""
        self.flush()
        ((least,),) = self.execute(sql)
        return None if least is None else int(least)

    def reread(self) -> None:
        """Rows were changed beside this: write what is pending, and read them anew."""
        self.flush()
        for table in self._tables:
            table.forget()

    def flush(self) -> None:
        """Write what changed, without committing."""
        for table in self._tables:
            if table.dirty:
                table.write()
        if self._later:
            later, self._later = self._later, []
            for sql, rows in later:
                self.executemany(sql, rows)

    def commit(self) -> float | None:
        """Make everything durable; how many seconds that took, or None if there was nothing."""
        self.flush()
        if not self.open:
            return None
        changed = self._connection.total_changes != self._changed_before
        begun = time.perf_counter()
        with _store_errors():
            if changed:
                values = (str(self._past.commits + 1), str(self._past.latest))
                self._cursor.execute(_COUNT_COMMIT, values)
            self._cursor.execute("COMMIT")
        spent = time.perf_counter() - begun
        self.open = False
        if changed:
            self._past.committed()
        self.runs.trim(lambda row: row.ended_at is not None)
        self.parts.trim(lambda row: row.ended_at is not None)
        self.steps.trim(lambda row: row.ended_at is not None or len(row.input) > KEEP_TEXT)
        self.attempts.trim(lambda row: row.ended_at is not None)
        return spent

    def rollback(self) -> None:
        """Undo everything, and forget every row."""
        self.open = False
        self._later.clear()
        for table in self._tables:
            table.clear()
        with _store_errors():
            if self._connection.in_transaction:
                self._cursor.execute("ROLLBACK")
            self._next = self._newest_ids()


_OF_RELAYS = (
    "SELECT max(attempt + count - 1) FROM relays",
    "SELECT CAST(value AS INTEGER) FROM service WHERE key = 'never_begun'",
)


def _without_rows(column: str) -> tuple[str, ...]:
    """Return statements for the highest number of items and legs, which have no rows."""
    newest = f"(SELECT * FROM segments ORDER BY attempt DESC LIMIT {LARGEST_GRANT})"
    return (
        f"SELECT max({column} + count - 1) FROM grants",
        *(_OF_RELAYS if column == "attempt" else ()),
        f"SELECT max({column} + span) FROM {newest}",
    )


@contextlib.contextmanager
def _store_errors() -> Iterator[None]:
    try:
        yield
    except (sqlite3.IntegrityError, sqlite3.ProgrammingError):
        raise  # a mistake in this program, not trouble with the disk
    except sqlite3.DatabaseError as error:
        raise StoreFailed(str(error)) from error


def _differing(before: Columns | None, now: Columns) -> tuple[int, ...]:
    """Where two rows differ; everywhere, where nothing is known of the first."""
    if before is None:
        return tuple(range(len(now)))
    pairs = enumerate(zip(before, now, strict=True))
    return tuple([at for at, (was, value) in pairs if value is not was and value != was])


def _column(field: str) -> str:
    return field.rstrip("_")
