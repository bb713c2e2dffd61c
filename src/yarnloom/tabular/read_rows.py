"""Reading rows from a file: CSV (RFC 4180) through Python's csv module, and JSON Lines.

Both give records with the line on which each begins. What cannot be read is said with its line;
no more than one record is held.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.errors import ValueRefused
from yarnloom.media_types import JSON_LINES
from yarnloom.values import VALUE_LIMIT, JsonValue, decode

CSV, LINES = "csv", "json-lines"
DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
LONGEST_LINE = 4 * VALUE_LIMIT
_HEAD = 4_096
_MARKS = (
    (b"\xff\xfe\x00\x00", "UTF-32 (little endian)"),
    (b"\x00\x00\xfe\xff", "UTF-32 (big endian)"),
    (b"\xff\xfe", "UTF-16 (little endian)"),
    (b"\xfe\xff", "UTF-16 (big endian)"),
)
_KINDS = (
    (b"PK\x03\x04", "a ZIP archive, or a spreadsheet (.xlsx, .ods)"),
    (b"\xd0\xcf\x11\xe0", "an old spreadsheet (.xls)"),
    (b"\x1f\x8b", "compressed with gzip"),
    (b"%PDF", "a PDF document"),
    (b"\x89PNG", "a picture (PNG)"),
    (b"\xff\xd8\xff", "a picture (JPEG)"),
    (b"GIF8", "a picture (GIF)"),
)
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"

csv.field_size_limit(VALUE_LIMIT)


class UnreadableFile(Exception):
    """Nothing more can be read of a file.

    Attributes:
        line: where, from 1; 0 for the file as a whole.
    """

    def __init__(self, message: str, line: int = 0) -> None:
        super().__init__(message)
        self.line = line


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a file is to be read: as `csv` or as `json-lines`.

    Attributes:
        kind: one of both.
        delimiter: the mark between the cells of CSV.
        encoding: of CSV, as Python calls it.
        decimal: the decimal mark in cells.
        thousands: the mark between groups of three digits in cells; empty for nothing.
    """

    kind: str
    delimiter: str = ","
    encoding: str = "utf-8"
    decimal: str = "."
    thousands: str = ""


@dataclass(frozen=True, slots=True)
class Record:
    """One record of a file.

    Attributes:
        line: on which it begins, from 1.
        value: of CSV its cells; of JSON Lines what stands there.
        fault: why it cannot be used; then it has no value.
        raw: what stood there, as far as it could be read.
    """

    line: int
    value: JsonValue
    fault: str = ""
    raw: JsonValue = None


def dialect_of(name: str, media_type: str, delimiter: str | None = None, **options: str) -> Dialect:
    """How a file is read, by its media type, else by its name; CSV unless it says otherwise."""
    lines = (JSON_LINES, "application/x-ndjson", "application/jsonlines")
    if media_type in lines or name.lower().endswith((".jsonl", ".ndjson")):
        return Dialect(LINES)
    tabs = media_type == "text/tab-separated-values" or name.lower().endswith(".tsv")
    return Dialect(CSV, delimiter or ("\t" if tabs else ","), **options)


class Reader:
    """Reads one file.

    Args:
        path: the file.
        dialect: how it is read.

    Attributes:
        size: of the file, in bytes.
    """

    def __init__(self, path: Path, dialect: Dialect) -> None:
        self._path = path
        self._dialect = dialect
        self.size = path.stat().st_size
        self._file: io.FileIO | None = None

    @property
    def place(self) -> int:
        """About how many bytes have been read."""
        return 0 if self._file is None or self._file.closed else self._file.tell()

    def records(self) -> Iterator[Record]:
        """The records, empty lines left out; of CSV the header too, as the first.

        Raises:
            UnreadableFile: nothing more can be read.
        """
        # Unbuffered below: `tell` of what is read in blocks is how far it is.
        with self._path.open("rb", buffering=0) as self._file:
            _refuse_other_kinds(self._file.read(_HEAD), self._dialect.encoding)
            self._file.seek(0)
            yield from self._cells() if self._dialect.kind == CSV else self._values()

    def remark(self) -> str:
        """What the first bytes say of another encoding than the one that was given."""
        encoding = self._dialect.encoding
        with self._path.open("rb") as file:
            head = file.read(64 * 1024)
        if encoding in ("cp1252", "latin-1") and not head.isascii():
            try:
                head[: head.rfind(b"\n") + 1].decode("utf-8")
            except UnicodeDecodeError:
                return ""
            return f"it was read as {encoding}, as was asked; its bytes look like UTF-8"
        return ""

    def _cells(self) -> Iterator[Record]:
        assert self._file is not None
        # What is not UTF-8 comes as lone surrogates, and is found in its cell with its line.
        encoding = self._dialect.encoding
        text = io.TextIOWrapper(
            io.BufferedReader(self._file, 1024 * 1024),
            encoding="utf-8-sig" if encoding == "utf-8" else encoding,
            errors="strict" if encoding == "utf-16" else "surrogateescape",
            newline="",
        )
        rows = csv.reader(_lines_of(text), delimiter=self._dialect.delimiter, strict=True)
        begun = 1
        while True:
            try:
                cells = next(rows, None)
            except csv.Error as error:
                raise UnreadableFile(_told(str(error)), begun) from error
            except _LineTooLong as error:
                raise UnreadableFile(str(error), rows.line_num + 1) from error
            except UnicodeError as error:
                # UTF-16 without a byte-order mark raises the plain error, which has no reason.
                reason = (
                    error.reason
                    if isinstance(error, UnicodeDecodeError)
                    else "it does not begin with a byte-order mark; give the encoding that it is "
                    "in, or save it with the mark"
                )
                wrong = f"it is no text in {encoding}: {reason}"
                raise UnreadableFile(wrong, rows.line_num + 1) from error
            if cells is None:
                return
            if cells:
                whole = "".join(cells)
                plain = whole.isascii() and "\0" not in whole
                fault = "" if plain else _text_fault(whole, encoding)
                yield Record(begun, None if fault else cells, fault, cells)
            begun = rows.line_num + 1

    def _values(self) -> Iterator[Record]:
        assert self._file is not None
        file = io.BufferedReader(self._file, 1024 * 1024)
        line = 0
        while text := file.readline(LONGEST_LINE):
            line += 1
            if line == 1:
                text = text.removeprefix(_BYTE_ORDER_MARK)
            if not text.endswith(b"\n") and len(text) >= LONGEST_LINE:
                raise UnreadableFile(_too_long(), line)
            if not text.strip():
                continue
            try:
                value = decode(text, "this line")
                yield Record(line, value, "", value)
            except ValueRefused as refused:
                raw = text.decode("utf-8", "surrogateescape")
                fault = _text_fault(raw)
                yield Record(line, None, fault or str(refused), raw.rstrip("\r\n"))


def _refuse_other_kinds(head: bytes, encoding: str) -> None:
    """Refuse by name what is no text in an encoding, where its beginning tells."""
    for mark, name in _MARKS:
        if head.startswith(mark) and not (encoding == "utf-16" and len(mark) == 2):
            give = "give the encoding utf-16, or " if "UTF-16" in name else ""
            raise UnreadableFile(f"it is encoded in {name}; {give}save it as UTF-8")
    for mark, name in _KINDS:
        if head.startswith(mark):
            raise UnreadableFile(f"it is {name}; save it as CSV or JSON Lines, in UTF-8")
    if encoding == "utf-16":
        return
    if head and head.count(0) > len(head) // 4:
        name = "UTF-16 without a byte-order mark"
        raise UnreadableFile(f"it is no text, or encoded in {name}; save it as UTF-8")


class _LineTooLong(Exception):
    pass


def _lines_of(text: io.TextIOWrapper) -> Iterator[str]:
    """The lines with their ends, none so long that it fills the memory."""
    while line := text.readline(LONGEST_LINE):
        if len(line) >= LONGEST_LINE and line[-1] not in "\r\n":
            raise _LineTooLong(_too_long())
        yield line


def _too_long() -> str:
    return f"a line is longer than {LONGEST_LINE:,} bytes; is it a file of rows at all?"


def _told(error: str) -> str:
    """What the csv module found, in our words."""
    if "expected after" in error:
        return 'text behind a closing quote; inside quotes a quote is written twice: ""'
    if "unexpected end of data" in error:
        return "a quote is opened and never closed"
    if "field larger" in error:
        return (
            f"a cell is longer than {VALUE_LIMIT:,} characters; a quote may be opened there and "
            "never closed"
        )
    return error


def _text_fault(text: str, encoding: str = "utf-8") -> str:
    """What is wrong with text that was read from bytes; nothing if nothing is."""
    if "\0" in text:
        return f"found a zero byte; is it text in {encoding.upper()}?"
    try:
        text.encode()
    except UnicodeEncodeError as error:
        byte = ord(text[error.start]) - 0xDC00
        if encoding != "utf-8":
            return f"found the byte 0x{byte:02X}, which is not {encoding}"
        return (
            f"found the byte 0x{byte:02X}, which is not UTF-8; it looks like Windows-1252 or "
            "Latin-1. Give the encoding cp1252 or latin-1, or save the file as UTF-8"
        )
    return ""
