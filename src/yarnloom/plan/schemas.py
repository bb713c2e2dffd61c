"""JSON Schema at work: filling defaults, following a path, comparing types, describing them.

The service has no user code, so all that it knows of types are the schemas that Pydantic wrote.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable
from enum import Enum
from functools import lru_cache

from yarnloom.errors import nearest
from yarnloom.media_types import FILE_FORMAT, ROWS_FORMAT
from yarnloom.plan.validators import Schema, is_valid
from yarnloom.values import JsonObject, JsonValue


class Fit(Enum):
    """Whether every value of one type is a value of another."""

    FITS = "fits"
    CANNOT = "cannot"
    UNKNOWN = "unknown"


def with_defaults(value: JsonValue, schema: Schema, root: Schema | None = None) -> JsonValue:
    """The value with every default that its schema names filled in; the original is untouched."""
    root = root or schema
    schema = resolve(schema, root)
    properties = schema.get("properties")
    if not isinstance(value, dict) or not isinstance(properties, dict):
        return value
    filled = dict(value)
    for name, inner in properties.items():
        if name in filled:
            filled[name] = with_defaults(filled[name], inner, root)
        elif "default" in inner:
            filled[name] = copy.deepcopy(inner["default"])
    return filled


def resolve(schema: Schema, root: Schema) -> Schema:
    """The schema that a local `$ref` points at, or the schema itself."""
    for _ in range(32):
        target = schema.get("$ref")
        if not isinstance(target, str) or not target.startswith("#/"):
            break
        found: JsonValue = root
        for key in target[2:].split("/"):
            found = found.get(key, {}) if isinstance(found, dict) else {}
        schema = {**found, **{key: value for key, value in schema.items() if key != "$ref"}}
    return schema


def field_schema(schema: Schema, path: tuple[str | int, ...]) -> tuple[Schema | None, str]:
    """The schema of a field inside a value.

    Of a value that may be of several types the field's may be, too; where it may be null, the field
    may be.

    Args:
        schema: of the value.
        path: names of fields, and positions in lists.

    Returns:
        The field's schema (self-contained: it carries the root's definitions), and an empty text;
        or None and what is wrong with the path. An open object gives an empty schema.
    """
    root = schema
    for depth, name in enumerate(path):
        inside = f" in {'.'.join(map(str, path[:depth]))!r}" if depth else ""
        field, wrong = _field_of(resolve(schema, root), name, root, inside)
        if field is None:
            return None, wrong
        schema = field
    schema, definitions = resolve(schema, root), root.get("$defs")
    return ({**schema, "$defs": definitions} if definitions and schema else schema), ""


def _field_of(
    schema: Schema, name: str | int, root: Schema, inside: str
) -> tuple[Schema | None, str]:
    """The schema of a field of a value, still with references to the root's definitions."""
    if "anyOf" in schema:
        return _field_of_any(schema, name, root, inside)
    if isinstance(name, int):
        return _item_at(as_list(schema), name, inside)
    properties = schema.get("properties", {})
    if name in properties:
        return properties[name], ""
    if _types(schema) and "object" not in _types(schema):
        return None, f"{describe(schema, root)}{inside} has no fields; found [{name!r}]"
    if "properties" not in schema or schema.get("additionalProperties"):
        values = schema.get("additionalProperties")
        return (values if isinstance(values, dict) and "properties" not in schema else {}), ""
    return None, f"there is no {name!r}{inside}{nearest(name, properties)}"


def _item_at(schema: Schema, position: int, inside: str) -> tuple[Schema | None, str]:
    first = schema.get("prefixItems", [])
    if position < len(first):
        return first[position], ""
    if _types(schema) and "array" not in _types(schema):
        return None, f"{describe(schema)}{inside} has no positions; found [{position}]"
    if first and schema.get("maxItems") == len(first):
        return None, f"there is no position {position}{inside}; there are {len(first)}, from 0"
    items = schema.get("items", {})
    return (items if isinstance(items, dict) else {}), ""


def _field_of_any(
    schema: Schema, name: str | int, root: Schema, inside: str
) -> tuple[Schema | None, str]:
    """The schema of a field of a value that is of one of several types."""
    variants = [resolve(one, root) for one in schema["anyOf"]]
    nulls = [one for one in variants if _types(one) == {"null"}]
    fields = [_field_of(one, name, root, inside) for one in variants if one not in nulls]
    missing = [wrong for field, wrong in fields if field is None]
    if missing and (len(missing) == len(fields) or schema.get("$comment") == EACH_OF):
        return None, missing[0]
    # Where one type has the field and another does not say, anything is possible.
    if missing or not fields or any(not field for field, _ in fields):
        return {}, ""
    known = [field for field, _ in fields if field is not None]
    if len(known) == 1 and not nulls:
        return known[0], ""
    return {**{k: v for k, v in schema.items() if k == "$comment"}, "anyOf": [*known, *nulls]}, ""


def fit(given: Schema, wanted: Schema) -> Fit:
    """Whether every value that `given` allows is one that `wanted` allows.

    Sound in both directions, not complete: where the schemas say too little, or use keywords that
    are not looked at, the answer is UNKNOWN and the value is checked when it is there.
    """
    return _fit(given, wanted, given, wanted, 0)


def _fit(given: Schema, wanted: Schema, root: Schema, wanted_root: Schema, depth: int) -> Fit:
    given, wanted = as_list(resolve(given, root)), as_list(resolve(wanted, wanted_root))
    if "anyOf" in given and HOLE in given["anyOf"]:
        # Whether a reader can take the null is asked apart, by `holes`.
        others = [one for one in given["anyOf"] if one != HOLE]
        given = others[0] if len(others) == 1 else {**given, "anyOf": others}
        given = resolve(given, root)
    if not _meaning(wanted):
        return Fit.FITS
    if not _meaning(given) or depth > 8:
        return Fit.UNKNOWN
    if "anyOf" in given:
        fits_of = (_fit(one, wanted, root, wanted_root, depth + 1) for one in given["anyOf"])
        # Of branches every one may come; of a type's choices perhaps only those that fit are meant.
        return _all(fits_of) if given.get("$comment") == EACH_OF else _each(fits_of)
    if "anyOf" in wanted:
        return _any(_fit(given, one, root, wanted_root, depth + 1) for one in wanted["anyOf"])
    if {"const", "enum"} & given.keys():
        values = given.get("enum", [given.get("const")])
        target = {**wanted, "$defs": wanted_root.get("$defs", {})}
        fits = [is_valid(value, target) for value in values]
        if all(fits):
            return Fit.FITS
        # Of a type's choices one that fits may be meant; constants are all there.
        return Fit.UNKNOWN if any(fits) and given.get("$comment") != EACH_OF else Fit.CANNOT
    given_types, wanted_types = _types(given), _types(wanted)
    if not given_types or not wanted_types:
        return Fit.UNKNOWN
    if not any(_type_in(given_type, wanted_types) for given_type in given_types) and not (
        "number" in given_types and "integer" in wanted_types
    ):
        return Fit.CANNOT
    if not all(_type_in(given_type, wanted_types) for given_type in given_types):
        return Fit.UNKNOWN
    if given_types == {"object"}:
        return _fit_objects(given, wanted, root, wanted_root, depth)
    if given_types == {"array"} and "items" in wanted:
        inner = _fit(given.get("items", {}), wanted["items"], root, wanted_root, depth + 1)
        # An empty list is a list of anything, so items that differ are no proof.
        return inner if inner is Fit.FITS else Fit.UNKNOWN
    return Fit.FITS if _plain(wanted) or _meaning(given) == _meaning(wanted) else Fit.UNKNOWN


def _fit_objects(
    given: Schema, wanted: Schema, root: Schema, wanted_root: Schema, depth: int
) -> Fit:
    have, need = given.get("properties", {}), set(wanted.get("required", ()))
    sure = set(given.get("required", ()))
    closed = given.get("additionalProperties") is False or bool(have)
    if closed and need - have.keys():
        return Fit.CANNOT
    # What is not always there may be missing, so that only some values would fit.
    verdicts = [Fit.FITS if need <= sure else Fit.UNKNOWN]
    for name, inner in wanted.get("properties", {}).items():
        if name in have:
            verdict = _fit(have[name], inner, root, wanted_root, depth + 1)
            certain = name in sure
            verdicts.append(verdict if certain or verdict is Fit.FITS else Fit.UNKNOWN)
    surplus = have.keys() - wanted.get("properties", {}).keys()
    if wanted.get("additionalProperties") is False and surplus:
        verdicts.append(Fit.CANNOT if surplus & sure else Fit.UNKNOWN)
    if isinstance(values := wanted.get("additionalProperties"), dict):
        values_given = given.get("additionalProperties")
        if isinstance(values_given, dict) and not have:
            inner = _fit(values_given, values, root, wanted_root, depth + 1)
            verdicts.append(inner if inner is Fit.FITS else Fit.UNKNOWN)
        elif values_given is not False or surplus:
            verdicts.append(Fit.UNKNOWN)
    return _all(verdicts)


HOLE: Schema = {"type": "null", "$comment": "hole"}
"""The null in place of what was skipped or failed."""


def holes(given: Schema, wanted: Schema) -> str | None:
    """Where a hole in `given` cannot be taken by `wanted`, as a path; None if nowhere."""
    return _holes(given, wanted, given, wanted, "", 0)


def _holes(
    given: Schema, wanted: Schema, root: Schema, wanted_root: Schema, at: str, depth: int
) -> str | None:
    given, wanted = resolve(given, root), resolve(wanted, wanted_root)
    options = [resolve(one, wanted_root) for one in wanted.get("anyOf", [wanted])]
    # Schemas may contain themselves; deeper than this no advice is of use to anybody.
    if depth > 8 or not _meaning(wanted):
        return None
    for member in given.get("anyOf", [given]):
        if member == HOLE:
            if _fit(HOLE, wanted, HOLE, wanted_root, 0) is Fit.CANNOT:
                return at
            continue
        one = resolve(member, root)
        if "anyOf" in one and one is not given:
            found = _holes(one, wanted, root, wanted_root, at, depth + 1)
            if found is not None:
                return found
            continue
        arrays = [option for option in options if "items" in option]
        objects = [option for option in options if "properties" in option]
        inner: list[tuple[Schema, Schema, str]] = []
        if "items" in one and len(arrays) == 1:
            inner.append((one["items"], arrays[0]["items"], f"{at}/…"))
        if "properties" in one and len(objects) == 1:
            taken = objects[0]["properties"]
            inner += [
                (schema, taken[name], f"{at}/{name}")
                for name, schema in one["properties"].items()
                if name in taken
            ]
        for schema, target, where in inner:
            found = _holes(schema, target, root, wanted_root, where, depth + 1)
            if found is not None:
                return found
    return None


def combine(how: str, schemas: list[Schema], names: list[str] | None = None) -> Schema:
    """A schema made of others: `anyOf`, `items` (of one), or `properties` by name.

    Their definitions are kept apart: each `$ref` is renamed.
    """
    definitions: JsonObject = {}
    inner: list[Schema] = []
    for place, schema in enumerate(schemas):
        own = schema.get("$defs", {})
        bare = {key: one for key, one in schema.items() if key != "$defs"}
        inner.append(_renamed(bare, place) if own else schema)
        definitions |= {f"{place}:{name}": _renamed(one, place) for name, one in own.items()}
    found: Schema
    if how == "anyOf":
        found = {"anyOf": inner}
    elif how == "items":
        found = {"type": "array", "items": inner[0]}
    else:
        properties = dict(zip(names or [], inner, strict=True))
        found = {"type": "object", "properties": properties, "required": list(properties)}
    return {**found, "$defs": definitions} if definitions else found


def each_of(schemas: list[Schema]) -> Schema:
    """A schema of what is of one of several types, all of which occur."""
    different = [one for place, one in enumerate(schemas) if one not in schemas[:place]]
    if len(different) == 1:
        return different[0]
    return {**combine("anyOf", different), "$comment": EACH_OF}


def _renamed(schema: JsonValue, place: int) -> JsonValue:
    """A schema with its references pointing at renamed definitions."""
    if isinstance(schema, list):
        return [_renamed(one, place) for one in schema]
    if not isinstance(schema, dict):
        return schema
    found = {key: _renamed(one, place) for key, one in schema.items()}
    target = found.get("$ref")
    if isinstance(target, str) and target.startswith("#/$defs/"):
        found["$ref"] = f"#/$defs/{place}:{target.removeprefix('#/$defs/')}"
    return found


def as_list(schema: Schema) -> Schema:
    """Rows as the list that they stand for; any other schema itself."""
    if schema.get("format") != ROWS_FORMAT:
        return schema
    return {"type": "array", "items": schema.get("items", {})}


def items_schema(schema: Schema) -> Schema:
    """The schema of the items of a list; of a value that may also be null, too."""
    root = schema
    schema = resolve(schema, root)
    options = [as_list(resolve(one, root)) for one in schema.get("anyOf", [schema])]
    lists = [option for option in options if option.get("type") == "array" and "items" in option]
    if len(lists) != 1 or not isinstance(lists[0]["items"], dict):
        return {}
    found = resolve(lists[0]["items"], root)
    definitions = root.get("$defs")
    return {**found, "$defs": definitions} if definitions else found


def of_constants(values: list[JsonValue]) -> Schema:
    """A schema that allows the values; of objects also which fields all of them have."""
    # Constants of one kind are described by their parts; few others by themselves.
    if values and all(isinstance(value, dict) for value in values):
        names = list(dict.fromkeys(name for value in values for name in value))
        fields = {name: [value[name] for value in values if name in value] for name in names}
        return {
            "type": "object",
            "properties": {name: of_constants(found) for name, found in fields.items()},
            "required": [name for name, found in fields.items() if len(found) == len(values)],
        }
    if values and all(isinstance(value, list) for value in values):
        return {"type": "array", "items": of_constants([one for value in values for one in value])}
    if 0 < len(values) <= FEW:
        return {"enum": values, "$comment": EACH_OF}
    return {}


EACH_OF = "each of these"
"""Marks the choices of a schema as values that all occur."""

FEW = 100
"""So many constants are compared one by one."""


_NOISE = frozenset(
    {"title", "description", "default", "examples", "deprecated", "$defs", "$comment"}
)
_PLAIN = frozenset({"type"})


def _meaning(schema: Schema) -> Schema:
    return {key: value for key, value in schema.items() if key not in _NOISE}


def _plain(schema: Schema) -> bool:
    return _meaning(schema).keys() <= _PLAIN


def _types(schema: Schema) -> set[str]:
    found = schema.get("type", [])
    return {found} if isinstance(found, str) else set(found)


def _type_in(one: str, types: set[str]) -> bool:
    return one in types or (one == "integer" and "number" in types)


def _each(verdicts: Iterable[Fit]) -> Fit:
    """For a value that is one of several: what holds for every one of them."""
    seen = set(verdicts)
    return seen.pop() if len(seen) == 1 else Fit.UNKNOWN


def _all(verdicts: Iterable[Fit]) -> Fit:
    """For a value that has several parts: one that cannot is enough."""
    seen = set(verdicts)
    if seen == {Fit.FITS}:
        return Fit.FITS
    return Fit.CANNOT if Fit.CANNOT in seen else Fit.UNKNOWN


def _any(verdicts: Iterable[Fit]) -> Fit:
    """For a value that may be of several types: one that fits is enough."""
    seen = set(verdicts)
    if Fit.FITS in seen:
        return Fit.FITS
    return Fit.CANNOT if seen == {Fit.CANNOT} else Fit.UNKNOWN


_BY_REFERENCE = {FILE_FORMAT: "a file", ROWS_FORMAT: "rows: a list, or a file of them"}


@lru_cache(maxsize=32)
def _indefinite(name: str) -> str:
    article = "an" if name[:1] in "aeiou" else "a"
    return {"null": "null", "boolean": "true or false"}.get(name, f"{article} {name}")


def describe(schema: Schema, root: Schema | None = None) -> str:
    """A schema in a few words, for messages: "an integer", "'neap' or 'spring'"."""
    schema = resolve(schema, root or schema)
    # The most telling keyword first: a value says more than a format, a format more than a type.
    if "const" in schema:
        return show(schema["const"])
    if "enum" in schema:
        return " or ".join(show(value) for value in schema["enum"])
    if variants := schema.get("anyOf") or schema.get("oneOf"):
        return " or ".join(dict.fromkeys(describe(variant, root) for variant in variants))
    if schema.get("format") in _BY_REFERENCE:
        return _BY_REFERENCE[schema["format"]]
    if "format" in schema and schema.get("type") == "string":
        return f"text with the format {schema['format']}"
    names = _types(schema)
    words = {"string": "text", "array": "a list", "object": "an object"}
    found = [words.get(name) or _indefinite(name) for name in sorted(names)]
    return " or ".join(found) or "a value"


def show(value: JsonValue) -> str:
    """A value in at most about 60 characters."""
    words = {None: "null", True: "true", False: "false"}
    if value is None or isinstance(value, bool):
        return words[value]
    if isinstance(value, dict):
        return f"an object with {len(value)} fields" if len(value) > 3 else repr(value)[:60]
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "…"
