"""Files and rows among params."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.commands.command import Command
from yarnloom.store import Kept
from yarnloom.values import JsonObject


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
    source: JsonObject
    kind: str
    schema: JsonObject


@dataclass(frozen=True, slots=True)
class Unchecked:
    """Answer to `StartRun` in place of a run: submit `KeepRows` for each of these first."""

    rows: tuple[RowsToCheck, ...]


@dataclass(frozen=True, slots=True)
class KeepFile(Command):
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
class RowsOfParam(Command):
    """Return how a file would be checked that is given as a param."""

    is_query = True

    target: str
    param: str
    value: JsonObject


@dataclass(frozen=True, slots=True)
class KeepRows(Command):
    """Keep the list that came of a file whose rows were checked.

    Attributes:
        facts: what is kept beside it, for the params of runs.
        others: files besides, each with its name and media type.
    """

    rows: RowsToCheck
    kept: Kept
    facts: JsonObject = field(default_factory=dict)
    others: tuple[tuple[Kept, str, str], ...] = ()
