"""References: where a step's input comes from, when it is not a constant."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Any, Literal

from yarnloom.values import JsonObject, JsonValue


class NotGiven(Enum):
    """A default that was not given, which differs from null."""

    NOT_GIVEN = "not given"


NOT_GIVEN = NotGiven.NOT_GIVEN


class Reference:
    """Something that stands for a value not known before the run."""

    __slots__ = ()

    def to_json(self) -> JsonObject:
        """The reference as it stands in a plan."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True)
class Param(Reference):
    """A param of the workflow, or a field inside one."""

    path: str

    def to_json(self) -> JsonObject:
        """`{"param": "region.name"}`."""
        return {"param": self.path}


@dataclass(frozen=True, slots=True)
class Output(Reference):
    """The output of a labelled part."""

    label: str
    default: JsonValue = NOT_GIVEN
    only: str | None = None

    def to_json(self) -> JsonObject:
        """`{"output": "fetch"}`, with `"default"` and `"only"` where they are given."""
        found: JsonObject = {"output": self.label}
        if self.default is not NOT_GIVEN:
            found["default"] = self.default
        if self.only is not None:
            found["only"] = self.only
        return found


@dataclass(frozen=True, slots=True)
class Previous(Reference):
    """The output of the part before, in a sequence."""

    def to_json(self) -> JsonObject:
        """`{"previous": true}`."""
        return {"previous": True}


@dataclass(frozen=True, slots=True)
class Item(Reference):
    """The item of an each, or a field inside it."""

    path: str | None = None
    of: str | None = None

    def to_json(self) -> JsonObject:
        """`{"item": true}`, `{"item": "code"}`, `{"item": "code", "of": "harbours"}`."""
        found: JsonObject = {"item": True if self.path is None else self.path}
        return found if self.of is None else {**found, "of": self.of}


@dataclass(frozen=True, slots=True)
class Failures(Reference):
    """Which items of an each failed."""

    label: str

    def to_json(self) -> JsonObject:
        """`{"failures": "harbours"}`."""
        return {"failures": self.label}


@dataclass(frozen=True, slots=True)
class FailureOf(Reference):
    """In a follow-up: what failed."""

    def to_json(self) -> JsonObject:
        """`{"failure": true}`."""
        return {"failure": True}


@dataclass(frozen=True, slots=True)
class PlannedAt(Reference):
    """The time that the run was planned for."""

    def to_json(self) -> JsonObject:
        """`{"planned_at": true}`."""
        return {"planned_at": True}


def param(path: str) -> Any:
    """The value of a param, e.g. `param("year")` or, inside one, `param("region.name")`.

    A param that was not given and has no default leaves the input out, so that the task's own
    default holds.
    """
    return Param(path)


def output(
    label: str, *, default: JsonValue = NOT_GIVEN, only: Literal["done"] | None = None
) -> Any:
    """The output of the part with that label, looked for among the siblings, then outwards.

    Args:
        label: the part's label; `"tables.plot"` looks into the parallel `tables`.
        default: what to read where the part was skipped by its `only_if`; else that is null.
        only: "done" leaves out the items of an each that are not done; else they are null.
    """
    return Output(label, default, only)


def item(path: str | None = None, *, of: str | None = None) -> Any:
    """The item that an each is at, or with a path a field inside it.

    Args:
        path: e.g. `"code"`, or `"region.name"`.
        of: the label of an outer each; the innermost one unless given.
    """
    return Item(path, of)


def failures(label: str) -> Any:
    """The items of an each that failed: a list of `{"name", "address", "error"}`."""
    return Failures(label)


def failure() -> Any:
    """In a follow-up: what failed, as a `yarnloom.Failure`; null in `on_end` if nothing did."""
    return FailureOf()


def planned_at() -> Any:
    """The time that the run was planned for, a `datetime` with zone or text.

    Of a run that a schedule started its planned time, in the schedule's zone, however late it
    began; else the time that it was to start at, or was started.
    """
    return PlannedAt()


previous: Any = Previous()
"""The output of the part before, in a sequence."""
