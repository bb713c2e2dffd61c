"""Rows that cannot be shown: each is marked, and the others are whole."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import TypeVar

from yarnloom.store import Row

R = TypeVar("R")

LONGEST = 300
"""Letters of the error that are shown."""


@dataclass(frozen=True, slots=True)
class Unreadable:
    """A row that cannot be shown.

    Attributes:
        kept: the columns that name it.
        unreadable: why it cannot be shown.
    """

    kept: Mapping[str, object]
    unreadable: str


def readable(rows: Iterable[Row], read: Callable[[Row], R], *keep: str) -> list[R | Unreadable]:
    """Return the record of every row, or `Unreadable` where there is none.

    Args:
        rows: of one kind.
        read: makes the record of a row.
        keep: the columns that name a row.
    """
    found: list[R | Unreadable] = []
    for row in rows:
        try:
            found.append(read(row))
        except Exception as error:
            text = f"this record cannot be shown: {type(error).__name__}: {error}"[:LONGEST]
            found.append(Unreadable({name: row[name] for name in keep}, text))
    return found
