"""Bad rows set aside in a file of their own, which reads like the one that they come from.

It has the columns of the source, then `yarnloom.line` and `yarnloom.reason`, in the source's
encoding and with its delimiter. So it can be corrected by hand and given again in place of the
source: the two columns, and what keeps cells from being taken for formulas, are undone then.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType

from yarnloom.tabular.read_rows import CSV, Dialect
from yarnloom.values import JsonObject, JsonValue

LINE, REASON, VALUE = "yarnloom.line", "yarnloom.reason", "yarnloom.value"
_FORMULAS = ("=", "+", "-", "@", "＝", "＋", "－", "＠")
_PASSED_OVER = " \t\r\n\v\f\0\xa0\ufeff\u200b\u200e\u200f"


def made_safe(cell: JsonValue) -> JsonValue:
    """Return a cell that no spreadsheet takes for a formula: an apostrophe before what could be."""
    # Spreadsheets pass over spaces, and over marks that nobody sees, before they look.
    if not isinstance(cell, str):
        return cell
    return f"'{cell}" if _is_dangerous(cell) else cell


def escaped(cell: str) -> str:
    """Return a cell made safe so that it can be undone: one with an apostrophe gets another."""
    return f"'{cell}" if _is_dangerous(cell.lstrip("'")) else cell


def as_it_was(cell: str) -> str:
    """Undo `escaped`."""
    return cell[1:] if cell[:1] == "'" and _is_dangerous(cell.lstrip("'")) else cell


def _is_dangerous(cell: str) -> bool:
    return cell.startswith(("\t", "\r")) or cell.lstrip(_PASSED_OVER).startswith(_FORMULAS)


def without_notes(value: JsonValue) -> JsonValue:
    """Return what a JSON line was before it was set aside."""
    if not isinstance(value, dict) or LINE not in value:
        return value
    if VALUE in value:
        try:
            return json.loads(value[VALUE])
        except ValueError:
            return value[VALUE]
    return {name: one for name, one in value.items() if name not in (LINE, REASON)}


class BadRows:
    """Writes bad rows to a file.

    Args:
        path: of the file.
        dialect: of the source.
    """

    def __init__(self, path: Path, dialect: Dialect) -> None:
        self._dialect = dialect
        encoding = dialect.encoding
        self._file = path.open("w", encoding=encoding, errors="surrogateescape", newline="")
        self._rows = csv.writer(self._file, delimiter=dialect.delimiter)
        self.count = 0

    def __enter__(self) -> BadRows:
        """Write until the end of the block."""
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        """Write out what is left."""
        self._file.close()

    def take_header(self, columns: Sequence[str]) -> None:
        """Write the columns of a CSV file."""
        self._rows.writerow([*columns, LINE, REASON])

    def add(self, line: int, raw: JsonValue, reason: str) -> None:
        """Write a bad row: its cells, or the text of its line."""
        self.count += 1
        if self._dialect.kind == CSV:
            cells = [escaped(cell) for cell in raw or ()]
            reason = reason.encode(self._dialect.encoding, "replace").decode(self._dialect.encoding)
            self._rows.writerow([*cells, line, reason])
            return
        notes: JsonObject = {LINE: line, REASON: reason}
        row = {**raw, **notes} if isinstance(raw, dict) else {**notes, VALUE: _text(raw)}
        self._file.write(json.dumps(row, ensure_ascii=False) + "\n")


def _text(raw: JsonValue) -> str:
    return raw if isinstance(raw, str) else json.dumps(raw, ensure_ascii=False)
