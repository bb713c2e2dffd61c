"""Files and rows: bytes that pass between steps by reference, as a task sees them.

A file is an object `{"sha256", "name", "media_type", "size"}`; its bytes are kept by the service
under that hash. Rows are a list that is too long for a value: `{"list", "count", "size"}` names a
file with one JSON value a line; given by a user they are a file too, of CSV or JSON Lines, until
the service has checked them.
"""

from __future__ import annotations

import contextlib
import json
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextvars import ContextVar
from itertools import islice
from pathlib import Path
from typing import IO, Annotated, Any, ClassVar, Literal, Protocol, TypeVar, get_args, overload

from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, TypeAdapter
from pydantic_core import CoreSchema, core_schema

from yarnloom.media_types import (
    FILE_FORMAT,
    HASH,
    JSON_LINES,
    PLAIN,
    ROWS_FORMAT,
    hash_of,
    media_type_of,
)
from yarnloom.row_options import DECIMALS, DELIMITERS, ENCODINGS, THOUSANDS, BadRowsText, Encoding
from yarnloom.values import JsonObject, JsonValue, encode

T = TypeVar("T")


class Asks(Protocol):
    """Whoever can be asked for a file's bytes, and to keep them: a step's line to its worker."""

    def ask(self, question: JsonObject) -> JsonObject:
        """Ask, and wait for the answer."""


class File(BaseModel):
    """A file that the service keeps: a param, an input or an output, by reference.

    In a task `path()`, `open()` and the others give its bytes; `ctx.save_file` makes one.

    Attributes:
        sha256: the SHA-256 of its bytes, 64 hexadecimal digits.
        name: what it is called; two files with the same bytes may have different names.
        media_type: e.g. `text/csv`.
        size: in bytes.
    """

    model_config = ConfigDict(
        frozen=True,
        extra="forbid",
        # The description stands in every plan that takes a file, so it is a short one.
        json_schema_extra={"format": FILE_FORMAT, "description": "A file kept by the service."},
    )

    sha256: Annotated[str, Field(pattern=HASH)]
    name: Annotated[str, Field(min_length=1, max_length=200)]
    media_type: Annotated[str, Field(max_length=200)] = PLAIN
    size: Annotated[int, Field(ge=0)]

    def path(self) -> Path:
        """Where its bytes are on this machine, to be read only. They are fetched at first use."""
        return SHELF.get().path(self.sha256)

    @overload
    def open(self, mode: Literal["rb"] = "rb") -> IO[bytes]: ...
    @overload
    def open(self, mode: Literal["r"], encoding: str = "utf-8") -> IO[str]: ...
    def open(self, mode: str = "rb", encoding: str = "utf-8") -> IO[Any]:
        """Open it for reading: `"rb"` as bytes, `"r"` as text."""
        if mode not in ("rb", "r"):
            raise ValueError(f"a file is opened with 'rb' or 'r', not {mode!r}")
        # Line ends stay as they are: the csv module wants them so.
        return (
            self.path().open("rb")
            if mode == "rb"
            else self.path().open(encoding=encoding, newline="")
        )

    def read_bytes(self) -> bytes:
        """All of it."""
        return self.path().read_bytes()

    def read_text(self, encoding: str = "utf-8") -> str:
        """All of it as text."""
        return self.path().read_text(encoding=encoding)


class Rows(Sequence[T]):
    """A list that may be far too long for memory: rows of a file, or the outputs of an each.

    `Rows[Contact]` as a workflow's param takes CSV or JSON Lines, checked whole before the run
    starts; as a task's input also the output of an each, however large. Going through it holds
    one row at a time; `ctx.track(rows)` goes on where it was. In a unit test give the task a
    list, or `Rows([...])`.
    """

    def __init__(
        self,
        rows: Sequence[T] | JsonObject = (),
        read: Callable[[bytes], T] | None = None,
        first: int = 0,
    ) -> None:
        self._given = rows
        self._read: Callable[[bytes], T] = read or json.loads
        self._first = first

    @property
    def reference(self) -> JsonObject | None:
        """What stands for it in JSON; None of rows that are in memory."""
        return self._given if isinstance(self._given, dict) else None

    def __len__(self) -> int:
        """How many there are."""
        whole = self._given.get("count", 0) if isinstance(self._given, dict) else len(self._given)
        return max(0, whole - self._first)

    def __iter__(self) -> Iterator[T]:
        """One after the other."""
        if not isinstance(self._given, dict):
            yield from self._given[self._first :]
            return
        with SHELF.get().path(self._given["list"]).open("rb") as lines:
            for line in islice(lines, self._first, None):
                yield self._read(line)

    @classmethod
    def of(
        cls,
        file: File,
        *,
        delimiter: str | None = None,
        encoding: Encoding | None = None,
        decimal: Literal[".", ","] | None = None,
        thousands: str | None = None,
        bad: BadRowsText | None = None,
        at_most_bad: int | str | None = None,
    ) -> Rows[Any]:
        """Rows of a file that was uploaded, as a param of a run.

        Args:
            file: of CSV or JSON Lines, by its media type or name.
            delimiter: of CSV: what stands between cells; a comma unless given.
            encoding: of CSV: "utf-8" (default), "cp1252", "latin-1" or "utf-16".
            decimal: of CSV: the decimal mark in cells; a point unless given.
            thousands: of CSV: the mark between groups of three digits in cells.
            bad: "refuse" (default) starts nothing if a row is bad; "collect" starts with the good
                rows, and keeps the bad ones in a file.
            at_most_bad: how many rows may be bad, a count or a share as "5%"; with more nothing is
                started.
        """
        options = {
            "delimiter": delimiter,
            "encoding": encoding,
            "decimal": decimal,
            "thousands": thousands,
            "bad": bad,
            "at_most_bad": at_most_bad,
        }
        given = {name: value for name, value in options.items() if value is not None}
        return cls({**file.model_dump(), **given})

    def starting_at(self, index: int) -> Rows[T]:
        """The rows from one on."""
        return Rows(self._given, self._read, self._first + index)

    @overload
    def __getitem__(self, index: int) -> T: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[T]: ...
    def __getitem__(self, index: int | slice) -> T | Sequence[T]:
        """One row, or some; those before are passed over."""
        if isinstance(index, slice):
            return list(islice(self, *index.indices(len(self))))
        place = index + len(self) if index < 0 else index
        if not 0 <= place < len(self):
            raise IndexError(f"row {index} of {len(self):,}")
        return next(iter(self.starting_at(place)))

    def __repr__(self) -> str:
        return f"<Rows: {len(self):,}>"

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        """Takes a list, a reference, or rows; gives what was taken."""
        (row,) = get_args(source) or (Any,)
        one: TypeAdapter[Any] = TypeAdapter(row)
        whole: TypeAdapter[Any] = TypeAdapter(list[row])  # type: ignore[valid-type]

        def take(value: JsonValue, take_list: Callable[[Any], list[Any]]) -> Rows[Any]:
            if isinstance(value, Rows):
                return value
            if not isinstance(value, dict):
                return Rows(take_list(value))
            if "list" not in value:
                raise ValueError("these rows have not been checked; start a run with them")
            return Rows(value, one.validate_json)

        def give(value: Rows[Any]) -> Any:
            if value.reference is not None and not value._first:
                return value.reference
            return whole.dump_python(list(value), mode="json")

        return core_schema.no_info_wrap_validator_function(
            take,
            core_schema.list_schema(handler.generate_schema(row)),
            serialization=core_schema.plain_serializer_function_ser_schema(give),
            metadata={
                "pydantic_js_functions": [lambda core, shown: rows_schema(shown(core)["items"])]
            },
        )


def rows_schema(row: JsonObject) -> JsonObject:
    """The JSON Schema of rows: a list of them, or a reference."""
    text, count = {"type": "string"}, {"type": "integer", "minimum": 0}
    return {
        "type": ["array", "object"],
        "format": ROWS_FORMAT,
        "items": row,
        "properties": {
            "sha256": {**text, "pattern": HASH},
            "name": {**text, "maxLength": 200},
            "media_type": {**text, "maxLength": 200},
            "size": count,
            "delimiter": {"enum": list(DELIMITERS)},
            "encoding": {"enum": list(ENCODINGS)},
            "decimal": {"enum": list(DECIMALS)},
            "thousands": {"enum": list(THOUSANDS)},
            "bad": {"enum": ["refuse", "collect"]},
            "at_most_bad": {"type": ["string", "integer"]},
            "list": {**text, "pattern": HASH},
            "count": count,
            "first_line": count,
            "lines": {**text, "pattern": HASH},
            "bad_count": count,
            "bad_rows": {"type": "object"},
            "remark": text,
        },
        "additionalProperties": False,
    }


# Where the bytes are


class Shelf:
    """The files of one attempt, on this machine.

    Args:
        line: asked for what is not here yet, and to keep what is new.
    """

    def __init__(self, line: Asks) -> None:
        self._line = line
        self.paths: dict[str, Path] = {}

    def path(self, sha256: str) -> Path:
        """Where a file's bytes are."""
        if sha256 not in self.paths:
            answer = self._line.ask({"kind": "fetch_file", "sha256": sha256})
            self.paths[sha256] = Path(answer["path"])
        return self.paths[sha256]

    def question(self, path: Path, name: str, media_type: str) -> JsonObject:
        """What asks to keep a file."""
        return {"kind": "save_file", "path": str(path), "name": name, "media_type": media_type}

    @contextlib.contextmanager
    def to_keep(
        self, given: Path | str | bytes, name: str, media_type: str
    ) -> Iterator[JsonObject]:
        """The question for a path, or for bytes, which are in a file of their own meanwhile."""
        if isinstance(given, bytes):
            with tempfile.NamedTemporaryFile(prefix="yarnloom-") as file:
                file.write(given)
                file.flush()
                kind = media_type or media_type_of(name)
                yield self.question(Path(file.name), name or "data", kind)
            return
        path = Path(given).absolute()
        name = name or path.name
        yield self.question(path, name, media_type or media_type_of(name))

    @contextlib.contextmanager
    def of_lines(self, rows: Iterable[Any], name: str) -> Iterator[tuple[JsonObject, int]]:
        """The question that keeps rows, and how many there are."""
        with tempfile.NamedTemporaryFile(prefix="yarnloom-") as file:
            path = Path(file.name)
            count = write_lines(path, rows)
            yield self.question(path, name, JSON_LINES), count


class TempFolder:
    """Keeps files for unit tests, where no service does: one folder for the whole process."""

    _folder: ClassVar[tempfile.TemporaryDirectory[str] | None] = None

    def answer(self, question: JsonObject) -> JsonObject:
        """Keep a file, or say where one is."""
        if TempFolder._folder is None:
            TempFolder._folder = tempfile.TemporaryDirectory(prefix="yarnloom-files-")
        folder = Path(TempFolder._folder.name)
        if question["kind"] == "fetch_file":
            return {"path": str(folder / question["sha256"])}
        kept = folder / "incoming"
        shutil.copyfile(question["path"], kept)
        sha256 = hash_of(kept)
        kept.replace(folder / sha256)
        return {
            "sha256": sha256,
            "name": question["name"],
            "media_type": question["media_type"],
            "size": (folder / sha256).stat().st_size,
        }


class _Nobody:
    """The shelf's other end outside of steps."""

    def ask(self, question: JsonObject) -> JsonObject:
        """Keep it in a folder of this process."""
        return TempFolder().answer(question)


SHELF: ContextVar[Shelf] = ContextVar("yarnloom_shelf", default=Shelf(_Nobody()))  # noqa: B039


# Lists


def write_lines(path: Path, values: Iterable[Any]) -> int:
    """Write values as JSON Lines; how many there were.

    Raises:
        ValueRefused: one is not JSON, or too large.
    """
    count = 0
    with path.open("w", encoding="utf-8") as file:
        for count, value in enumerate(values, 1):
            plain = value.model_dump(mode="json") if isinstance(value, BaseModel) else value
            file.write(encode(plain, f"row {count - 1:,}") + "\n")
    return count
