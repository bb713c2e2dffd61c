"""Schemas of what the product itself gives a step, and questions about schemas."""

from __future__ import annotations

from collections.abc import Iterable

from yarnloom.media_types import FILE_FORMAT, HASH
from yarnloom.plan.comparisons import TEXT
from yarnloom.plan.references import NOT_GIVEN
from yarnloom.plan.schemas import HOLE, of_constants, resolve
from yarnloom.plan.validators import Schema
from yarnloom.values import JsonValue

ERROR: Schema = {
    "type": "object",
    "properties": {"type": TEXT, "message": TEXT},
    "required": ["type", "message"],
}


ONE_FAILURE: Schema = {
    "type": "object",
    "properties": {
        "address": TEXT,
        "task": {"anyOf": [TEXT, {"type": "null"}]},
        "attempts": {"type": "integer"},
        "error": ERROR,
    },
    "required": ["address", "task", "attempts", "error"],
}


FAILURE: Schema = {
    "type": "object",
    "properties": {
        "first": ONE_FAILURE,
        "count": {"type": "integer"},
        "failures": {"type": "array", "items": ONE_FAILURE},
    },
    "required": ["first", "count", "failures"],
}


FAILURES: Schema = {
    "type": "array",
    "items": {
        "type": "object",
        "properties": {"name": TEXT, "address": TEXT, "error": ERROR},
        "required": ["name", "address", "error"],
    },
}


FILE: Schema = {
    "type": "object",
    "format": FILE_FORMAT,
    "properties": {
        "sha256": {**TEXT, "pattern": HASH},
        "name": {**TEXT, "minLength": 1, "maxLength": 200},
        "media_type": {**TEXT, "maxLength": 200},
        "size": {"type": "integer", "minimum": 0},
    },
    "required": ["sha256", "name", "media_type", "size"],
    "additionalProperties": False,
}


def closed_values(schema: Schema, root: Schema) -> list[JsonValue] | None:
    """Every value that a schema allows; None if there is no end of them."""
    schema = resolve(schema, root)
    if "const" in schema:
        return [schema["const"]]
    if "enum" in schema:
        return list(schema["enum"])
    if "anyOf" in schema:
        variants = [closed_values(one, root) for one in schema["anyOf"]]
        known = [one for one in variants if one is not None]
        return [value for one in known for value in one] if len(known) == len(variants) else None
    closed: dict[str, list[JsonValue]] = {"boolean": [True, False], "null": [None]}
    return closed.get(str(schema.get("type")))


def _is_among(value: JsonValue, values: Iterable[JsonValue]) -> bool:
    return any(type(value) is type(other) and value == other for other in values)


def _is_of(schema: Schema, kind: str) -> bool:
    return schema.get("type") == kind


def of_default(default: JsonValue) -> Schema:
    """The type of what is read in place of a part that was skipped."""
    return HOLE if default is NOT_GIVEN else of_constants([default])
