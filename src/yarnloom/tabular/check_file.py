"""Checking a whole file of rows: what comes of it are its rows as JSON texts, or its errors.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.plan.validators import Schema
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

    Attributes:
        problems: the first errors, at most `ERRORS_TOLD`.
        count: how many rows were good.
        unused: columns that the schema does not know and that are left out.
    """

    def __init__(
        self,
        path: Path,
        dialect: Dialect,
        schema: Schema,
        on_progress: Callable[[int, int], None] = lambda rows, place: None,
    ) -> None:
        self._reader = Reader(path, dialect)
        self._dialect = dialect
        self._converter = RowConverter(schema)
        self._on_progress = on_progress
        self.problems: list[RowProblem] = []
        self.count = 0

    @property
    def unused(self) -> list[str]:
        """Columns that are left out."""
        return self._converter.unused

    def texts(self) -> Iterator[str]:
        """Every row as JSON text, up to the first error; the others are found, not given."""
        try:
            yield from self._rows(self._reader.records())
        except UnreadableFile as fault:
            self.problems.append(RowProblem(fault.line, None, str(fault)))

    def _rows(self, records: Iterator[Record]) -> Iterator[str]:
        if self._dialect.kind == CSV and not self._take_header(records):
            return
        for seen, record in enumerate(records, 1):
            if seen % PROGRESS_ROWS == 0:
                self._on_progress(seen, self._reader.place)
            text = self._text_of(record)
            if text is not None and not self.problems:
                self.count += 1
                yield text
            if len(self.problems) >= ERRORS_TOLD:
                del self.problems[ERRORS_TOLD:]
                return

    def _take_header(self, records: Iterator[Record]) -> bool:
        header = next(records, None)
        if header is None:
            self.problems.append(RowProblem(0, None, "it is empty; expected a line with columns"))
            return False
        if header.fault:
            self.problems.append(RowProblem(header.line, None, header.fault))
            return False
        self._note(header, self._converter.take_header(header.value))
        return not self.problems

    def _text_of(self, record: Record) -> str | None:
        if record.fault:
            self._note(record, [CellFault(None, record.fault)])
            return None
        convert = self._converter
        csv = self._dialect.kind == CSV
        row: JsonValue = (
            convert.from_cells(record.value) if csv else convert.from_value(record.value)
        )
        if isinstance(row, list):
            self._note(record, row)
            return None
        text = dump(row[0] if isinstance(row, tuple) else row)
        if size_of(text) > VALUE_LIMIT:
            message = f"the row is {size_of(text):,} bytes; at most {VALUE_LIMIT:,} are kept of one"
            self._note(record, [CellFault(None, message)])
            return None
        return text

    def _note(self, record: Record, faults: list[CellFault]) -> None:
        self.problems += [RowProblem(record.line, fault.column, fault.message) for fault in faults]
