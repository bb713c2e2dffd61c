"""One transaction: makes the objects of which its use cases consist."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import fields
from typing import Any, TypeVar, get_type_hints

T = TypeVar("T")

_NEEDED: dict[type, tuple[type, ...]] = {}
"""By class the classes of its fields."""


class Transaction:
    """One transaction.

    A use case is a method of a dataclass whose fields name all that it touches: aggregates, which
    own what is written, and other such classes. One object of each is made, when it is needed.

    Args:
        parts: the aggregates, and what else lasts as long as the transaction.
    """

    def __init__(self, parts: Iterable[object]) -> None:
        self._made: dict[type, Any] = {type(part): part for part in parts}

    def of(self, kind: type[T]) -> T:
        """Return the object of a class."""
        made: T | None = self._made.get(kind)
        if made is None:
            made = self._made[kind] = kind(*[self.of(needed) for needed in _needed_by(kind)])
        return made


def _needed_by(kind: Any) -> tuple[type, ...]:
    """Return the classes of the fields of a dataclass."""
    if kind not in _NEEDED:
        hints = get_type_hints(kind)
        _NEEDED[kind] = tuple(hints[field.name] for field in fields(kind))
    return _NEEDED[kind]
