"""Validators: bounded, without I/O, and of one mind with Pydantic."""

from __future__ import annotations

from typing import Annotated, Any

import pytest
from hypothesis import given
from hypothesis import strategies as some
from pydantic import BaseModel, Field, ValidationError

from yarnloom.plan.validators import (
    is_valid,
    patterns_for_workers,
    reference_problem,
    schema_problem,
    weight,
)
from yarnloom.plan.value_problems import MOST_SHOWN, problems_of

PATTERNS = [r"^\d+$", r"\d", r"^\w+$", r"\w\W", r"^a$", r"a$", r"^\s*$", r"[a-ü]", r"(?i)straße"]
PATTERNS += [r"^[\d-]+$", r"^.{1,3}$", r"\bwater\b", r"\p{L}+", "ä", r"^$"]
TEXTS = [
    "",
    "a",
    "a\n",
    "5",
    "٣",
    "५५",
    "ä",
    "Ä",
    "STRASSE",
    "straße",
    "high water",
    "_",
    " ",
    "\u00a0",
]
TEXTS += ["-5-", "🌊", "🌊🌊🌊", "ß", "ﬁ", "a" * 28 + "b", "łodź"]


@pytest.mark.parametrize("pattern", PATTERNS)
def test_patterns_mean_what_they_mean_to_pydantic(pattern: str) -> None:
    r"""`\d`, `\w`, `$` and letters beyond ASCII: the worker checks the same value again."""

    class Model(BaseModel):
        text: Annotated[str, Field(pattern=pattern)]

    schema = Model.model_json_schema()
    for text in TEXTS:
        try:
            Model(text=text)
            wanted = True
        except ValidationError:
            wanted = False
        assert is_valid({"text": text}, schema) is wanted, text


FORMATTED = ["2027-03-01", "2027-02-30", "07:30", "2027-03-01T07:30:00Z", "2027-03-01T07:30", "P1D"]
FORMATTED += [
    "nothing",
    "",
    "1d",
    "12345",
    "0f4b0b1e-6d3c-4b8a-9d38-0d1f0c8a2f11",
    "07:30:00+01:00",
]


@pytest.mark.parametrize("kind", ["date", "time", "datetime", "timedelta", "UUID"])
def test_formats_mean_what_they_mean_to_pydantic(kind: str) -> None:
    """Those that a worker reads from text."""
    import datetime
    import uuid

    type_ = getattr(datetime, kind, None) or getattr(uuid, kind)

    class Model(BaseModel):
        value: type_  # type: ignore[valid-type]

    schema = Model.model_json_schema()
    for text in FORMATTED:
        try:
            Model.model_validate_json(f'{{"value": "{text}"}}')
            wanted = True
        except ValidationError:
            wanted = False
        assert is_valid({"value": text}, schema) is wanted, text


@pytest.mark.parametrize("pattern", ["(?=a)b", "(?<!a)b", r"(a)\1", "("])
def test_a_pattern_that_cannot_be_compiled_is_left_to_the_worker(pattern: str) -> None:
    """Nothing is refused because of it here."""
    schema = {"type": "string", "pattern": pattern}

    assert is_valid("anything", schema)
    assert not is_valid(5, schema)
    assert patterns_for_workers(schema) == [pattern]


@pytest.mark.parametrize(
    ("schema", "where"),
    [
        ({"$ref": "http://192.0.2.1/schema"}, "/$ref"),
        ({"$ref": "file:///etc/passwd"}, "/$ref"),
        ({"$ref": "other.json#/a"}, "/$ref"),
        ({"properties": {"a": {"$ref": "#/$defs/None"}}}, "/properties/a/$ref"),
        ({"$ref": "#there"}, "/$ref"),
        ({"$dynamicRef": "#x"}, "/$dynamicRef"),
        ({"items": {"$recursiveRef": "#"}}, "/items/$recursiveRef"),
        ({"items": {"$id": "http://a.example/", "$ref": "#"}}, "/items/$id"),
        ({"$defs": {"a": {"$ref": "#/$defs/a"}}}, "/$defs/a"),
        (
            {
                "$defs": {
                    "a": {"anyOf": [{"$ref": "#/$defs/b"}]},
                    "b": {"not": {"$ref": "#/$defs/a"}},
                }
            },
            None,
        ),
    ],
)
def test_a_schema_refers_to_itself_only(schema: dict[str, Any], where: str | None) -> None:
    """Foreign, relative, dynamic, dangling and circular references are refused with their place."""
    problem = schema_problem(schema)

    assert problem is not None
    assert where is None or problem.where == where


@pytest.mark.parametrize(
    "schema",
    [
        {"properties": {"next": {"$ref": "#"}}},
        {"$defs": {"A": {"items": {"$ref": "#/$defs/A"}}}, "$ref": "#/$defs/A"},
        {"properties": {"$ref": {"type": "string"}, "$id": {}}},
        {"default": {"$ref": "http://192.0.2.1/"}, "const": {"$dynamicRef": "x"}},
        {"$defs": {"a b": {}}, "$ref": "#/$defs/a%20b"},
    ],
)
def test_what_only_looks_like_a_foreign_reference_is_none(schema: dict[str, Any]) -> None:
    """Recursion through a value's parts, properties of that name, and values."""
    assert reference_problem(schema) is None
    assert schema_problem(schema) is None


def test_a_schema_that_multiplies_is_refused() -> None:
    """Forty levels of three variants each would be looked at one by one."""
    levels = {f"a{n}": {"anyOf": [{"$ref": f"#/$defs/a{n + 1}"}] * 3} for n in range(40)}
    problem = schema_problem({"$defs": {**levels, "a40": {}}, "$ref": "#/$defs/a0"})

    assert problem is not None
    assert "variants of one value" in problem.message


def test_schemas_are_no_deeper_than_values() -> None:
    """And no larger."""
    deep: dict[str, Any] = {}
    for _ in range(197):
        deep = {"items": deep}

    assert "deep" in str(schema_problem(deep))
    assert "bytes" in str(schema_problem({"enum": ["x" * 300_000]}))


@pytest.mark.parametrize(
    ("value", "schema"),
    [
        ("a" * 28 + "b", {"type": "string", "pattern": "^(a+)+$"}),
        (["a"] * 180_000, {"type": "array", "items": {"type": "integer"}}),
        ([*({"a": n} for n in range(2_000)), {"a": 1}], {"type": "array", "uniqueItems": True}),
        ([1] * 50_000, {"type": "array", "maxItems": 5}),
        ({str(n): n for n in range(50_000)}, {"type": "object", "additionalProperties": False}),
        (
            {"a": {"b": ["x"] * 90_000}},
            {"properties": {"a": {"properties": {"b": {"items": {"type": "null"}}}}}},
        ),
        (
            {"a": ["x"] * 90_000},
            {"properties": {"a": {"anyOf": [{"type": "null"}, {"type": "integer"}]}}},
        ),
    ],
)
def test_few_mistakes_are_told_of_many(value: Any, schema: dict[str, Any]) -> None:
    """Looking for all of them took seconds."""
    found = problems_of(value, schema)

    assert 1 <= len(found) <= MOST_SHOWN
    assert all(len(one.message) < 300 for one in found)


JSON = some.recursive(
    some.none() | some.booleans() | some.integers() | some.text(max_size=3),
    lambda inner: (
        some.lists(inner, max_size=3) | some.dictionaries(some.text(max_size=2), inner, max_size=3)
    ),
    max_leaves=20,
)
SCHEMAS = [
    {"type": "object", "properties": {"a": {"type": "integer"}}, "required": ["a"]},
    {"type": "array", "items": {"anyOf": [{"type": "string"}, {"type": "null"}]}, "maxItems": 2},
    {"type": "object", "properties": {"a": {"type": "array"}}, "additionalProperties": False},
    {"enum": [1, "a", None]},
    {"oneOf": [{"type": "integer"}, {"type": "boolean"}]},
]


@given(JSON, some.sampled_from(SCHEMAS))
def test_mistakes_are_found_exactly_where_a_value_is_not_valid(value: Any, schema: Any) -> None:
    """Whether the value is looked at as a whole or part by part."""
    valid = is_valid(value, schema)
    padded = {"a": [0] * 500, "v": value}
    around = {"properties": {"v": schema}}

    assert (problems_of(value, schema) == []) is valid
    assert (problems_of(padded, around) == []) is valid
    assert all(one.where.startswith("/v") for one in problems_of(padded, around))


def test_a_secret_is_never_shown() -> None:
    """Neither itself nor within what is around it."""
    schema = {
        "type": "object",
        "properties": {"token": {"type": "string", "writeOnly": True, "minLength": 99}},
        "required": ["more"],
        "maxProperties": 0,
    }
    for value in ({"token": "hunter2"}, {"token": ["hunter2"]}, {"token": 5, "x": "hunter2"}):
        assert "hunter2" not in str(problems_of(value, schema))


def test_weights_tell_costly_schemas_apart() -> None:
    """A plain one is light, variants and patterns weigh."""
    plain = weight({"type": "array", "items": {"type": "integer"}})
    variants = weight({"anyOf": [{"type": "integer"}] * 50})
    patterns = weight({"items": {"pattern": "a"}})

    assert plain < patterns
    assert plain < variants
