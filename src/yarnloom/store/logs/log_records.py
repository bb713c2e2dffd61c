"""Lines of attempts, and what a reader asks of them."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import NamedTuple

from yarnloom.store.select import Record
from yarnloom.units import whole_number

quoted = json.encoder.encode_basestring_ascii


Line = Record


class AttemptKey(NamedTuple):
    """The key of an attempt's lines; see the columns of `lines`."""

    part: int
    item: int
    step: int
    number: int
    attempt: int


class Printer(NamedTuple):
    """An attempt that prints.

    Attributes:
        key: of its lines.
        run: its run's number.
        address: `RUN/PART`.
    """

    key: AttemptKey
    run: int
    address: str


class Printed(NamedTuple):
    """Lines of an attempt, as a worker reports them.

    Attributes:
        printer: the attempt.
        first: how many lines came before these.
        lines: each with `at` (RFC 3339), `stream` and `text`, or `value` where it is published.
        at: when they arrived, in microseconds since 1970 UTC.
    """

    printer: Printer
    first: int
    lines: list[Line]
    at: int


class Mark(NamedTuple):
    """A place in a run's log: the chunks before one lie before it, and so many lines of that."""

    chunk: int = 0
    line: int = 0

    def __str__(self) -> str:
        return f"{self.chunk}-{self.line}"

    @classmethod
    def of(cls, text: str) -> Mark | None:
        """Return the mark that a text is; None if it is none."""
        chunk, _, line = text.partition("-")
        found = whole_number(chunk), whole_number(line)
        return None if found[0] is None or found[1] is None else cls(found[0], found[1])


@dataclass(frozen=True, slots=True)
class LogPage:
    """Lines of a run, in the order in which they arrived.

    Attributes:
        lines: each with `mark` behind it, `address`, `attempt` and its index as `line`.
        next: where the page behind begins, or ends that before, the way that was asked; None
            where nothing is left.
        end: behind all that was looked through.
    """

    lines: list[Line]
    next: Mark | None
    end: Mark


FEW = 100


PUBLISHED = "published"
"""The stream of values that a task publishes; other streams hold text."""
