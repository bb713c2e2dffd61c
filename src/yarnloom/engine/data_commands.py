"""What can be submitted to the engine about files, rows and long lists, and what it answers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from yarnloom.store import Kept


@dataclass(frozen=True, slots=True)
class RowsToCheck:
    """A file among the params whose rows must be checked before the run is started.

    Attributes:
        at: the param's JSON Pointer.
        source: the file: its hash, and how it is to be read.
        kind: hash of the schema, and of how it is to be read.
        schema: of one row.
    """

    at: str
    source: dict[str, Any]
    kind: str
    schema: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Unchecked:
    """Answer to `StartRun` in place of a run: submit `KeepRows` for each of these first."""

    rows: tuple[RowsToCheck, ...]


@dataclass(frozen=True, slots=True)
class KeepFile:
    """Keep a file whose bytes are durable at their place; the answer is the file.

    Attributes:
        attempt: the attempt that saved it, whose run uses it then; None for nobody's.
    """

    kept: Kept
    name: str
    media_type: str
    who: str
    attempt: int | None = None


@dataclass(frozen=True, slots=True)
class KeepRows:
    """Keep the list that came of a file whose rows were checked."""

    rows: RowsToCheck
    kept: Kept


@dataclass(frozen=True, slots=True)
class Chore:
    """Something that an each waits for and that would hold up the engine.

    Attributes:
        part: the each.
        kind: `read` its list from a file, or `gather` what its items gave into files.
        serial: tells it from others of the same each.
        facts: what is needed to do it.
    """

    part: int
    kind: str
    serial: int
    facts: dict[str, Any]


@dataclass(frozen=True, slots=True)
class EndChore:
    """A chore is done.

    Attributes:
        lists: what came of it, durable: of `gather` by kind, of `read` as `list`.
        fault: why the list cannot be used.
    """

    part: int
    serial: int
    lists: dict[str, Kept] = field(default_factory=dict)
    fault: str | None = None
