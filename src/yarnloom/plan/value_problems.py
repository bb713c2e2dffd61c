"""Mistakes: everything that is wrong with a value, each with its place, in words for people.

Whether there is a mistake is asked first (`is_valid`), which is fast for any value. Only then the
mistakes are looked for, at most `MOST_SHOWN`, and in a large value part by part, so that 180,000
wrong items cost no more than 20. A value that its schema marks as secret is never shown.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import Any

from jsonschema_rs import ValidationError

from yarnloom.errors import Problem, nearest
from yarnloom.plan.marked_values import has_secrets
from yarnloom.plan.schemas import describe, resolve, show
from yarnloom.plan.validators import Schema, errors_of, is_valid
from yarnloom.values import JsonValue, pointer

MOST_SHOWN = 20
FEW_VALUES = 400
"""A value with at most so many values in it is looked at as a whole."""

_OF_PARTS = frozenset({"properties", "items", "$defs"})
_SECRET = "a value that is secret"


def problems_of(
    value: JsonValue, schema: Schema, at: str = "", limit: int = MOST_SHOWN
) -> list[Problem]:
    """Return what is wrong with a value, each mistake with its JSON Pointer.

    Args:
        value: what was given.
        schema: JSON Schema 2020-12.
        at: the pointer of the value itself.
        limit: the most mistakes that are returned.
    """
    if is_valid(value, schema):
        return []
    return list(islice(_mistakes(value, schema, at), limit))


def _mistakes(value: JsonValue, schema: Schema, at: str) -> Iterator[Problem]:
    if _is_small(value):
        for error in errors_of(value, schema):
            yield from _explain(error, value, schema, at)
        return
    inner = resolve(schema, schema)
    found = False
    for part, one, where in _parts(value, inner):
        part_schema = _with_definitions(one, schema)
        if not is_valid(part, part_schema):
            found = True
            yield from _mistakes(part, part_schema, at + where)
    for problem in _own_mistakes(value, inner, schema, at):
        found = True
        yield problem
    if not found:
        yield Problem(
            at, f"found {_seen(value, inner, schema)}; expected {describe(inner, schema)}"
        )


def _own_mistakes(value: JsonValue, schema: Schema, root: Schema, at: str) -> Iterator[Problem]:
    """What is wrong with a large value itself, and not with one of its parts."""
    known = dict.fromkeys(schema.get("properties", {}), True)
    for key, one in schema.items():
        alone = {key: one, "properties": known} if key == "additionalProperties" else {key: one}
        if key in _OF_PARTS or is_valid(value, _with_definitions(alone, root)):
            continue
        if key in ("required", "additionalProperties") and isinstance(value, dict):
            some = dict.fromkeys(islice(value, 2 * FEW_VALUES)) if key != "required" else {}
            some |= {name: None for name in schema.get("required", ()) if name in value}
            for error in islice(errors_of(some, alone), MOST_SHOWN):
                described = {**alone, "properties": schema.get("properties", {})}
                yield from _explain(error, some, described, at)
        else:
            wanted = (
                _LIMITS[key].format(one) if key in _LIMITS else f"expected {describe(schema, root)}"
            )
            yield Problem(at, f"found {_seen(value, schema, root)}; {wanted}")


def _parts(value: JsonValue, schema: Schema) -> Iterator[tuple[Any, Any, str]]:
    """The parts of a value that have a schema of their own, with that and their pointers."""
    if isinstance(value, dict):
        for name, one in schema.get("properties", {}).items():
            if name in value and isinstance(one, dict):
                yield value[name], one, pointer(name)
    elif isinstance(value, list) and isinstance(schema.get("items"), dict):
        for place, part in enumerate(value):
            yield part, schema["items"], pointer(place)


def _with_definitions(schema: Schema, root: Schema) -> Schema:
    return {**schema, "$defs": root["$defs"]} if "$defs" in root else schema


def _is_small(value: JsonValue) -> bool:
    count, stack = 0, [value]
    while stack:
        one = stack.pop()
        if isinstance(one, dict | list):
            count += len(one)
            if count > FEW_VALUES:
                return False
            stack += one.values() if isinstance(one, dict) else one
    return True


def _explain(
    error: ValidationError, value: JsonValue, schema: Schema, at: str
) -> Iterator[Problem]:
    """One finding in our words; a missing or surplus field points at the field."""
    kind: Any = error.kind
    where = at + pointer(*error.instance_path)
    around = _as_object(_inside(schema, error.schema_path[:-1]))
    found = _seen(_inside(value, error.instance_path), around, schema)
    match kind.name:
        case "required":
            wanted = around.get("properties", {}).get(kind.property, {})
            text = f"missing; expected {describe(_as_object(wanted), schema)}"
            yield Problem(where + pointer(kind.property), text)
        case "additionalProperties" if around.get("additionalProperties") is False:
            known = around.get("properties", {})
            for name in kind.unexpected:
                yield Problem(where + pointer(name), f"not expected here{nearest(name, known)}")
        case "type" | "anyOf" | "oneOf" | "enum" | "const":
            yield Problem(where, f"found {found}; expected {describe(around, schema)}")
        case name if name in _LIMITS:
            yield Problem(where, f"found {found}; {_LIMITS[name].format(around.get(name))}")
        case name:
            yield Problem(where, f"found {found}; expected what {name!r} of its schema allows")


def _inside(value: JsonValue, path: list[str | int]) -> Any:
    """What is at a path inside a value or schema; an empty object where nothing is."""
    for key in path:
        try:
            value = value[key]
        except (KeyError, IndexError, TypeError):
            return {}
    return value


def _as_object(schema: JsonValue) -> Schema:
    return schema if isinstance(schema, dict) else {}


def _seen(value: JsonValue, schema: Schema, root: Schema) -> str:
    """A value as a message may show it."""
    if schema.get("writeOnly"):
        return _SECRET
    if not has_secrets(root) and _is_small(value):
        return show(value)
    if isinstance(value, dict) and value:
        return f"an object with {len(value)} field{'s' if len(value) > 1 else ''}"
    if isinstance(value, list) and value:
        return f"a list with {len(value)} item{'s' if len(value) > 1 else ''}"
    return show(value)


_LIMITS = {
    "minimum": "expected at least {}",
    "maximum": "expected at most {}",
    "exclusiveMinimum": "expected more than {}",
    "exclusiveMaximum": "expected less than {}",
    "minLength": "expected at least {} characters",
    "maxLength": "expected at most {} characters",
    "pattern": "expected text that matches {}",
    "minItems": "expected at least {} items",
    "maxItems": "expected at most {} items",
    "uniqueItems": "expected items that differ",
    "multipleOf": "expected a multiple of {}",
    "format": "expected the format {}",
}
