"""Checking a whole file of rows: what comes of it are its rows as JSON texts, and its errors.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.plan.validators import Schema
from yarnloom.tabular.bad_rows import LINE, REASON, BadRows, as_it_was, without_notes
from yarnloom.tabular.convert_rows import CellFault, RowConverter, dump
from yarnloom.tabular.read_rows import CSV, Dialect, Reader, Record, UnreadableFile
from yarnloom.values import VALUE_LIMIT, JsonValue, size_of

ERRORS_TOLD = 20
PROGRESS_ROWS = 5_000


@dataclass(frozen=True, slots=True)
class RowProblem:
    """One mistake in a file of rows.

    Attributes:
        line: where its row begins, from 1; 0 for the file as a whole.
        column: its name in the header, or the field's; None for the whole row.
        message: what was found, what was expected.
    """

    line: int
    column: str | None
    message: str

    def __str__(self) -> str:
        where = f"line {self.line:,}" if self.line else "the file"
        where += f", column {self.column!r}" if self.column else ""
        return f"{where}: {self.message}"


class RowCheck:
    """Goes through a file once.

    Args:
        path: the file.
        dialect: how it is read.
        schema: of one row.
        on_progress: told now and then how many rows and bytes have been read.
        aside: takes bad rows; None gives no row behind the first error.

    Attributes:
        problems: the first errors, at most `ERRORS_TOLD`.
        errors: how many there are.
        bad: how many rows have any.
        count: how many rows were good.
        lines: by good row, from 0, the line that it begins on; a row that is not named begins a
            line behind the one before.
        fatal: whether the file cannot be read, or not to its end.
        unused: columns that the schema does not know and that are left out.
    """

    def __init__(
        self,
        path: Path,
        dialect: Dialect,
        schema: Schema,
        on_progress: Callable[[int, int], None] = lambda rows, place: None,
        aside: BadRows | None = None,
    ) -> None:
        self._reader = Reader(path, dialect)
        self._dialect = dialect
        self._converter = RowConverter(schema, dialect.decimal, dialect.thousands)
        self._on_progress = on_progress
        self._aside = aside
        self._was_aside = False
        self._last_line = -1
        self.problems: list[RowProblem] = []
        self.errors = self.bad = self.count = 0
        self.lines: list[tuple[int, int]] = []
        self.fatal = False

    @property
    def sets_aside(self) -> bool:
        """Whether bad rows are set aside."""
        return self._aside is not None

    @property
    def remark(self) -> str:
        """What the bytes say against how they are read."""
        return "" if self.fatal else self._reader.remark()

    @property
    def unused(self) -> list[str]:
        """Columns that are left out."""
        return self._converter.unused

    def texts(self) -> Iterator[str]:
        """Every good row as JSON text; unless bad ones are set aside up to the first error."""
        try:
            yield from self._rows(self._reader.records())
        except UnreadableFile as fault:
            self.fatal = True
            self._say(RowProblem(fault.line, None, str(fault)))

    def _rows(self, records: Iterator[Record]) -> Iterator[str]:
        if self._dialect.kind == CSV and not self._take_header(records):
            self.fatal = True
            return
        for seen, record in enumerate(records, 1):
            if seen % PROGRESS_ROWS == 0:
                self._on_progress(seen, self._reader.place)
            text = self._text_of(record)
            if text is not None and (self._aside is not None or not self.problems):
                if record.line != self._last_line + 1:
                    self.lines.append((self.count, record.line))
                self._last_line = record.line
                self.count += 1
                yield text

    def _take_header(self, records: Iterator[Record]) -> bool:
        header = next(records, None)
        if header is None:
            self._say(RowProblem(0, None, "it is empty; expected a line with columns"))
            return False
        if header.fault:
            self._say(RowProblem(header.line, None, header.fault))
            return False
        columns: list[str] = header.value
        self._was_aside = columns[-2:] == [LINE, REASON]
        columns = columns[:-2] if self._was_aside else columns
        for fault in self._converter.take_header(columns):
            self._say(RowProblem(header.line, fault.column, fault.message))
        if self._aside is not None:
            self._aside.take_header(columns)
        return not self.problems

    def _text_of(self, record: Record) -> str | None:
        if record.fault:
            self._note(record, [CellFault(None, record.fault)])
            return None
        convert = self._converter
        row: JsonValue
        if self._dialect.kind == CSV:
            cells: list[str] = record.value
            row = convert.from_cells(self._as_it_was(cells) if self._was_aside else cells)
        else:
            row = convert.from_value(without_notes(record.value))
        if isinstance(row, list):
            self._note(record, row)
            return None
        text = dump(row[0] if isinstance(row, tuple) else row)
        if size_of(text) > VALUE_LIMIT:
            message = f"the row is {size_of(text):,} bytes; at most {VALUE_LIMIT:,} are kept of one"
            self._note(record, [CellFault(None, message)])
            return None
        return text

    @staticmethod
    def _as_it_was(cells: list[str]) -> list[str]:
        """The cells of a row that was set aside once, without what was said of it."""
        return [as_it_was(cell) for cell in cells[:-2]]

    def _note(self, record: Record, faults: list[CellFault]) -> None:
        """Count a bad row, and set it aside."""
        problems = [RowProblem(record.line, fault.column, fault.message) for fault in faults]
        self.bad += 1
        for problem in problems:
            self._say(problem)
        if self._aside is not None:
            raw = record.raw
            if self._was_aside and isinstance(raw, list):
                raw = self._as_it_was(raw)
            reason = "; ".join(
                f"{problem.column}: {problem.message}" if problem.column else problem.message
                for problem in problems
            )
            self._aside.add(record.line, without_notes(raw), reason)

    def _say(self, problem: RowProblem) -> None:
        self.errors += 1
        if len(self.problems) < ERRORS_TOLD:
            self.problems.append(problem)
