"""Jobs about long lists, done outside of the engine."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.commands.command import Command
from yarnloom.store import Kept
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class ListJob:
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
    facts: JsonObject


@dataclass(frozen=True, slots=True)
class EndListJob(Command):
    """A list job is done.

    Attributes:
        lists: what came of it, durable: of `gather` by kind, of `read` as `list`.
        fault: why the list cannot be used.
    """

    part: int
    serial: int
    lists: dict[str, Kept] = field(default_factory=dict)
    fault: str | None = None
