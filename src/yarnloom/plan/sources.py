"""What inputs, conditions and lists of a plan are made of: params, outputs, items, compositions."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from yarnloom.plan.references import NOT_GIVEN
from yarnloom.values import JsonValue


@dataclass(frozen=True, slots=True)
class Constant:
    """A value known when the plan is written."""

    value: JsonValue


@dataclass(frozen=True, slots=True)
class FromParam:
    """A value taken from the params, along a path of fields."""

    path: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class FromOutput:
    """A value taken from the output of another node.

    Attributes:
        node: the node that is read.
        default: what is read where it was skipped; NOT_GIVEN for null.
        only_done: of an each: whether items that are not done are left out.
        maybe: in a follow-up: whether it may not have been reached.
    """

    node: int
    default: JsonValue = NOT_GIVEN
    only_done: bool = False
    maybe: bool = False


@dataclass(frozen=True, slots=True)
class FromItem:
    """A value taken from the item that an each is at.

    Attributes:
        node: the each.
        path: fields inside the item; empty for all of it.
    """

    node: int
    path: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class FromFailures:
    """The failed items of an each."""

    node: int


@dataclass(frozen=True, slots=True)
class FromFailure:
    """In a follow-up: what failed."""


@dataclass(frozen=True, slots=True)
class FromBadRows:
    """The file of the bad rows of a param."""

    path: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class FromPlannedAt:
    """The time that the run was planned for."""


@dataclass(frozen=True, slots=True)
class FieldOf:
    """A field inside the value of a reference; a position in a list is a number."""

    of: Source
    path: tuple[str | int, ...]


@dataclass(frozen=True, slots=True)
class Comparison:
    """A condition: two values compared; `operator` is one of `OPERATORS`."""

    left: Source
    operator: str
    right: Source


@dataclass(frozen=True, slots=True)
class IsNull:
    """A condition: a value is null, or was not given."""

    of: Source


@dataclass(frozen=True, slots=True)
class Combination:
    """A condition made of others: `all` or `any` of them, or `not` the one."""

    how: Literal["all", "any", "not"]
    of: tuple[Source, ...]


@dataclass(frozen=True, slots=True)
class ListOf:
    """A list of values, some of which are references."""

    of: tuple[Source, ...]


@dataclass(frozen=True, slots=True)
class ObjectOf:
    """An object of values by name, some of which are references."""

    names: tuple[str, ...]
    of: tuple[Source, ...]


@dataclass(frozen=True, slots=True)
class TextOf:
    """A text with values put in: `{name}` in the template becomes the value of a name."""

    template: str
    names: tuple[str, ...]
    of: tuple[Source, ...]


OPERATORS = ("==", "!=", "<", "<=", ">", ">=", "in")


Condition = Comparison | IsNull | Combination


Composed = Condition | ListOf | ObjectOf | TextOf


FromRun = FromParam | FromBadRows | FromPlannedAt


Reference = Constant | FromRun | FromOutput | FromItem | FromFailures | FromFailure


Source = Reference | FieldOf | Composed


def sources_in(source: Source | str | None) -> Iterator[Source]:
    """Yield a source and all that it is made of."""
    match source:
        case None | str():
            return
        case FieldOf(of) | IsNull(of):
            inner: tuple[Source, ...] = (of,)
        case Comparison(left, _, right):
            inner = (left, right)
        case Combination() | ListOf() | ObjectOf() | TextOf():
            inner = source.of
        case _:
            inner = ()
    yield source
    for one in inner:
        yield from sources_in(one)
