"""What a schema marks in a value: secrets, files, rows. The one walk through both at once."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from yarnloom.media_types import FILE_FORMAT, ROWS_FORMAT
from yarnloom.plan.schemas import resolve
from yarnloom.plan.validators import Schema
from yarnloom.values import JsonObject, JsonValue, pointer

Found = tuple[str, Any, Schema]
_KEPT = ("list", "count")
_OPTIONS = ("delimiter", "encoding", "decimal", "thousands", "bad", "at_most_bad")
_BY_REFERENCE = (FILE_FORMAT, ROWS_FORMAT)


def seal(value: JsonValue, schema: Schema, sealed: Callable[[str], Any]) -> JsonValue:
    """The value with what `sealed` makes of every text in it that its schema marks as secret."""

    def visit(one: JsonValue, marked: Schema, _at: str) -> JsonValue:
        return sealed(one) if marked.get("writeOnly") is True and isinstance(one, str) else one

    return _walk(value, schema, schema, visit, "") if has_secrets(schema) else value


def has_secrets(schema: JsonValue) -> bool:
    """Whether anything in a schema is marked as secret."""
    return _mentions(schema, "writeOnly", True)


def with_definitions(schema: Schema) -> JsonValue:
    """A schema with every local reference replaced by what it points at, as far as it is flat."""

    def follow(one: JsonValue, seen: frozenset[str]) -> JsonValue:
        if isinstance(one, list):
            return [follow(inner, seen) for inner in one]
        if not isinstance(one, dict):
            return one
        target = one.get("$ref", "")
        if target and target not in seen:
            return follow(resolve(one, schema), seen | {target})
        return {name: follow(inner, seen) for name, inner in one.items() if name != "$defs"}

    return follow(schema, frozenset())


def has_secret_rows(schema: JsonValue) -> bool:
    """Whether rows in a schema have secrets, which nothing would seal there."""
    if isinstance(schema, dict):
        if schema.get("format") == ROWS_FORMAT and has_secrets(schema):
            return True
        return any(map(has_secret_rows, schema.values()))
    return isinstance(schema, list) and any(map(has_secret_rows, schema))


def has_files(schema: JsonValue) -> bool:
    """Whether anything in a schema is a file, or rows."""
    return any(_mentions(schema, "format", one) for one in _BY_REFERENCE)


def files_in(value: JsonValue, schema: Schema) -> Iterator[Found]:
    """Every file in a value: its JSON Pointer, and itself."""
    yield from _find(value, schema, FILE_FORMAT)


def rows_in(value: JsonValue, schema: Schema) -> Iterator[Found]:
    """Everything in a value that stands for rows of a file, with its pointer and schema."""
    yield from _find(value, schema, ROWS_FORMAT)


def as_given(value: JsonValue, schema: Schema) -> JsonValue:
    """The value with each file by its hash alone, to compare starts by."""

    def visit(one: JsonValue, marked: Schema, _at: str) -> JsonValue:
        if not isinstance(one, dict) or marked.get("format") not in _BY_REFERENCE:
            return one
        names = ("sha256", *_OPTIONS) if "sha256" in one else _KEPT
        return {name: one[name] for name in names if name in one}

    return _walk(value, schema, schema, visit, "")


def with_lists(
    value: JsonValue, schema: Schema, list_for: Callable[[JsonObject, Schema], JsonObject]
) -> JsonValue:
    """The value with what `list_for` gives added to everything that stands for rows."""

    def visit(one: JsonValue, marked: Schema, _at: str) -> JsonValue:
        if isinstance(one, dict) and marked.get("format") == ROWS_FORMAT:
            return {**unchecked(one), **list_for(one, marked)}
        return one

    return _walk(value, schema, schema, visit, "")


def with_loaded(value: JsonValue, schema: Schema, load: Callable[[JsonObject], Any]) -> JsonValue:
    """The value with `load` of each object that stands for a list, where rows are not asked for."""

    def visit(one: JsonValue, marked: Schema, _at: str) -> JsonValue:
        wanted = marked.get("format") in _BY_REFERENCE
        return one if wanted or not isinstance(one, dict) else load(one)

    return _walk(value, schema, schema, visit, "")


def unchecked(rows: JsonObject) -> JsonObject:
    """Rows as they were given, without what a check found."""
    if "sha256" not in rows:
        return rows
    return {name: one for name, one in rows.items() if name not in _KEPT}


def _find(value: JsonValue, schema: Schema, kind: str) -> Iterator[Found]:
    found: list[Found] = []
    if not _mentions(schema, "format", kind):
        return

    def visit(one: JsonValue, marked: Schema, at: str) -> JsonValue:
        if isinstance(one, dict) and marked.get("format") == kind:
            found.append((at, one, marked))
        return one

    _walk(value, schema, schema, visit, "")
    yield from {at: (at, one, marked) for at, one, marked in found}.values()


def _mentions(schema: JsonValue, key: str, value: JsonValue) -> bool:
    """Whether a schema has a key with that value anywhere."""
    if isinstance(schema, dict):
        return schema.get(key) == value or any(
            _mentions(one, key, value) for one in schema.values()
        )
    return isinstance(schema, list) and any(_mentions(one, key, value) for one in schema)


def _walk(
    value: JsonValue,
    schema: JsonValue,
    root: Schema,
    visit: Callable[[JsonValue, Schema, str], JsonValue],
    at: str,
) -> JsonValue:
    """A copy of a value, in which each place is what `visit` makes of it; outer places first."""
    if not isinstance(schema, dict):
        schema = {}
    schema = resolve(schema, root)
    variants = [*schema.get("anyOf", ()), *schema.get("oneOf", ()), *schema.get("allOf", ())]
    if isinstance(value, dict):
        # Of "rows, or null" the first is meant.
        meant = [one for one in variants if resolve(one, root).get("format") in _BY_REFERENCE]
        variants = meant or variants
    for variant in variants:
        value = _walk(value, variant, root, visit, at)
    if not variants:
        if schema.get("format") == ROWS_FORMAT and "$defs" in root:
            schema = {**schema, "$defs": {**root["$defs"], **schema.get("$defs", {})}}
        value = visit(value, schema, at)
    if schema.get("format") in _BY_REFERENCE and isinstance(value, dict):
        return value
    if isinstance(value, list) and "items" in schema:
        return [
            _walk(one, schema["items"], root, visit, at + pointer(index))
            for index, one in enumerate(value)
        ]
    if isinstance(value, dict):
        known, others = schema.get("properties", {}), schema.get("additionalProperties")
        return {
            name: _walk(one, known.get(name, others), root, visit, at + pointer(name))
            for name, one in value.items()
        }
    return value
