"""JSON Schemas: problems in words, defaults, and whether types fit."""

from __future__ import annotations

from typing import Any, Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel, TypeAdapter

from yarnloom.plan.schemas import Fit, fit, with_defaults
from yarnloom.plan.value_problems import problems_of


class Point(BaseModel):
    """A closed object."""

    x: int
    y: float = 0.0


class Wide(BaseModel):
    """Like Point, with another field."""

    x: int
    y: float
    name: str


class Nested(BaseModel):
    """A model in a model, which JSON Schema keeps apart."""

    point: Point
    more: list[Point] = []


class Tree(BaseModel):
    """A model in itself."""

    inner: list[Tree] = []


def schema(annotation: Any, mode: Any = "validation") -> dict[str, Any]:
    """The schema of a type."""
    return TypeAdapter(annotation).json_schema(mode=mode)


FITS, CANNOT, UNKNOWN = Fit.FITS, Fit.CANNOT, Fit.UNKNOWN


@pytest.mark.parametrize(
    ("given_type", "wanted", "verdict"),
    [
        (int, int, FITS),
        (int, float, FITS),
        (float, int, UNKNOWN),
        (int, str, CANNOT),
        (str, int, CANNOT),
        (bool, int, CANNOT),
        (int, bool, CANNOT),
        (None, int, CANNOT),
        (int, None, CANNOT),
        (int, int | None, FITS),
        (int | None, int, UNKNOWN),
        (int | str, float | str, FITS),
        (int | str, list[int], CANNOT),
        (Any, int, UNKNOWN),
        (int, Any, FITS),
        (Any, Any, FITS),
        (list[int], list[int], FITS),
        (list[int], list[float], FITS),
        (list[int], list[str], UNKNOWN),  # an empty list is a list of anything
        (list[int], int, CANNOT),
        (list[int], dict[str, int], CANNOT),
        (list[list[int]], list[list[int]], FITS),
        (list[Any], list[int], UNKNOWN),
        (list[int], list[Any], FITS),
        (dict[str, int], dict[str, float], FITS),
        (dict[str, int], dict[str, str], UNKNOWN),
        (dict[str, int], list[int], CANNOT),
        (Point, Point, FITS),
        (Wide, Point, FITS),
        (Point, Wide, CANNOT),
        (Point, dict[str, float], UNKNOWN),
        (dict[str, int], Point, UNKNOWN),
        (list[Point], list[Point], FITS),
        (Point | None, Point, UNKNOWN),
        (Point | None, Point | None, FITS),
        (Point | None, dict[str, float] | None, UNKNOWN),
        (list[Point], list[Wide], UNKNOWN),
        (list[Wide], list[Point], FITS),
        (list[int | None], list[int], UNKNOWN),
        (list[int], list[int | None], FITS),
        (dict[str, Point], dict[str, Point], FITS),
        (dict[str, Point], dict[str, int], UNKNOWN),
        (dict[str, list[int]], dict[str, list[float]], FITS),
        (Point, int, CANNOT),
        (Point, list[int], CANNOT),
        (int, Point, CANNOT),
        (str, Point | None, CANNOT),
        (str, Point | str, FITS),
        (bytes, str, FITS),
        (Literal["a"], Literal["a", "b"], FITS),
        (Literal["a", "b"], Literal["a"], UNKNOWN),
        (Literal["a"], Literal["b"], CANNOT),
        (Literal[1], float, FITS),
        (tuple[int, int], list[int], UNKNOWN),
        (set[int], list[int], FITS),
        (int | str, int | str, FITS),
        (int | str, int, UNKNOWN),
        (Nested, Nested, FITS),
        (Tree, Tree, UNKNOWN),
        (Literal["a", "b"], str, FITS),
        (Literal["a", "b"], Literal["a", "b", "c"], FITS),
        (Literal["a", "d"], Literal["a", "b"], UNKNOWN),
        (Literal["a"], int, CANNOT),
        (str, Literal["a"], UNKNOWN),
    ],
)
def test_whether_types_fit(given_type: Any, wanted: Any, verdict: Fit) -> None:
    """The verdict is three-valued: it fits, it cannot, or only the value will show."""
    assert fit(schema(given_type, "serialization"), schema(wanted)) is verdict


TYPES = [int, float, str, bool, None, list[int], list[str], dict[str, int], int | None, Point]


@given(st.data())
def test_a_verdict_is_never_wrong(data: st.DataObject) -> None:
    """What fits is never refused, and what cannot is never accepted, for any value."""
    given_type, wanted = data.draw(st.sampled_from(TYPES)), data.draw(st.sampled_from(TYPES))
    value = data.draw(st.from_type(given_type) if given_type else st.none())
    plain = TypeAdapter(given_type).dump_python(value, mode="json")
    given_schema = schema(given_type, "serialization")
    if problems_of(plain, given_schema):
        return  # NaN and infinity are no JSON
    accepted = not problems_of(plain, schema(wanted))
    verdict = fit(given_schema, schema(wanted))

    assert not (verdict is FITS and not accepted), plain
    assert not (verdict is CANNOT and accepted and plain not in ([], {})), plain


def test_every_problem_has_its_place() -> None:
    """Missing, mistyped and surplus fields are all named, each by its JSON Pointer."""
    wanted = {**schema(Wide), "additionalProperties": False}

    found = {p.where: p.message for p in problems_of({"x": "one", "nam": "b", "y": 1}, wanted)}

    assert found == {
        "/x": "found 'one'; expected an integer",
        "/nam": "not expected here; did you mean 'name'?",
        "/name": "missing; expected text",
    }


def test_limits_are_said_in_words() -> None:
    """A limit is named with what was found."""
    (problem,) = problems_of(1999, {"type": "integer", "minimum": 2000})

    assert problem.message == "found 1999; expected at least 2000"


def test_formats_are_checked() -> None:
    """A date that is none is found when a run is started, not when a step reads it."""
    (problem,) = problems_of("2027-02-30", {"type": "string", "format": "date"})

    assert problem.message == "found '2027-02-30'; expected the format date"


def test_defaults_are_filled_in_also_inside() -> None:
    """Defaults come from the schema alone; what is given stays."""

    class Outer(BaseModel):
        point: Point
        region: str = "north"

    filled = with_defaults({"point": {"x": 1}}, Outer.model_json_schema())

    assert filled == {"point": {"x": 1, "y": 0.0}, "region": "north"}
