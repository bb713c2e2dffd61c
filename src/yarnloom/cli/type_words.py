"""JSON Schemas of params in the words of people: "list of text", "whole number, 2020 to 2099"."""

from __future__ import annotations

import json

from yarnloom.media_types import FILE_FORMAT, ROWS_FORMAT
from yarnloom.plan.schemas import resolve
from yarnloom.values import JsonObject

_WORDS = {
    "string": "text",
    "integer": "whole number",
    "number": "number",
    "boolean": "true or false",
    "null": "nothing",
    "object": "object",
    "array": "list",
}
_FORMATS = {
    FILE_FORMAT: "file",
    "date": "date",
    "date-time": "date and time",
    "time": "time of day",
    "duration": "duration",
    "uuid": "UUID",
    "email": "e-mail address",
    "uri": "address",
    "password": "secret text",
}


def type_words(schema: JsonObject, root: JsonObject, depth: int = 0) -> str:
    """Return a type in words.

    Args:
        schema: of the value.
        root: has the definitions.
        depth: its depth; fields of objects are named down to two.
    """
    name = str(schema.get("$ref", "")).rpartition("/")[2]
    schema = resolve(schema, root)
    # The most telling keyword first: choices, then formats, then plain types.
    if "const" in schema:
        return json.dumps(schema["const"], ensure_ascii=False)
    if "enum" in schema:
        return " or ".join(json.dumps(value, ensure_ascii=False) for value in schema["enum"])
    if variants := schema.get("anyOf") or schema.get("oneOf"):
        return " or ".join(dict.fromkeys(type_words(kind, root, depth) for kind in variants))
    form = schema.get("format")
    if form == ROWS_FORMAT:
        return "rows: a list, or a file of them"
    kinds = schema.get("type", [])
    kinds = [kinds] if isinstance(kinds, str) else kinds
    if form in _FORMATS:
        return _FORMATS[form]
    if "array" in kinds:
        inner = schema.get("items")
        return f"list of {type_words(inner, root, depth + 1)}" if inner else "list"
    if "object" in kinds or "properties" in schema:
        return _object_words(schema, root, name, depth)
    words = " or ".join(_WORDS.get(kind, kind) for kind in kinds) or "any value"
    return words + _bounds(schema)


def _object_words(schema: JsonObject, root: JsonObject, name: str, depth: int) -> str:
    fields = schema.get("properties", {})
    name = name or schema.get("title", "object")
    if fields and depth < 2:
        required = schema.get("required", ())
        known = ", ".join(field if field in required else f"[{field}]" for field in fields)
        return f"{name} ({known})"
    values = schema.get("additionalProperties")
    if not fields and isinstance(values, dict):
        return f"object of {type_words(values, root, depth + 1)} by name"
    return str(name)


def _bounds(schema: JsonObject) -> str:
    low = schema.get("minimum", schema.get("exclusiveMinimum"))
    high = schema.get("maximum", schema.get("exclusiveMaximum"))
    above = "above" if "exclusiveMinimum" in schema else "from"
    below = "below" if "exclusiveMaximum" in schema else "to"
    bounds = [f"{above} {low}"] if low is not None else []
    bounds += [f"{below} {high}"] if high is not None else []
    return f", {' '.join(bounds)}" if bounds else ""
