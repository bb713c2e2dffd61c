"""Validators: whether a value is one of a JSON Schema, answered fast and within bounds.

Built on `jsonschema-rs`, which remembers what it has looked at, so that no schema makes it
explode. Patterns and formats are those of Pydantic, since a worker checks the same value with it:
the two must agree. No schema causes I/O: a schema refers to itself only.
"""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any
from urllib.parse import unquote

import jsonschema_rs
from pydantic_core import SchemaError, SchemaValidator, core_schema

from yarnloom.errors import Problem
from yarnloom.values import VALUE_LIMIT, JsonObject, JsonValue, depth_problem, pointer

Schema = JsonObject

DIALECT = "https://json-schema.org/draft/2020-12/schema"
"""The only version of JSON Schema that is read: the one that Pydantic writes."""

REMEMBERED = 1_000
_MOST_IN_PLACE = 10_000
_PATTERN_WEIGHT = 20


class Pattern:
    """The keyword `pattern`, with the regular expressions that Pydantic uses.

    They take linear time. One that they cannot express, such as a look-ahead, is left to the
    worker, where Pydantic can be told to use another engine.
    """

    def __init__(
        self, parent_schema: Schema, value: JsonValue, schema_path: list[str | int]
    ) -> None:
        self._match = compile_pattern(value)

    def validate(self, instance: JsonValue) -> None:
        """Raise ValueError if a text does not match."""
        if self._match and isinstance(instance, str) and not self._match(instance):
            raise ValueError("it does not match")


@lru_cache(maxsize=REMEMBERED)
def compile_pattern(pattern: str) -> Callable[[JsonValue], bool] | None:
    """Return what tells whether a text matches; None for a pattern that is left to the worker."""
    try:
        return SchemaValidator(core_schema.str_schema(pattern=pattern)).isinstance_python
    except (SchemaError, TypeError):
        return None


def _format(schema: core_schema.CoreSchema) -> Callable[[str], bool]:
    return SchemaValidator(schema).isinstance_python


FORMATS: dict[str, Callable[[str], bool]] = {
    "date": _format(core_schema.date_schema()),
    "time": _format(core_schema.time_schema()),
    "date-time": _format(core_schema.datetime_schema()),
    "duration": _format(core_schema.timedelta_schema()),
    "uuid": _format(core_schema.uuid_schema()),
    "email": lambda text: "@" in text,
}
"""Formats of texts that are checked, as Pydantic reads them; all others are for people."""

_NOT_CHECKED = (
    *("idn-email", "hostname", "idn-hostname", "ipv4", "ipv6", "uri", "uri-reference", "iri"),
    *("iri-reference", "uri-template", "json-pointer", "relative-json-pointer", "regex"),
)


def _anything(_: str) -> bool:
    return True


class Validators:
    """The newest validators, by schema.

    A schema is a dict that nobody changes, so it is known by its identity, then by its text.
    """

    def __init__(self) -> None:
        self._known: OrderedDict[int, tuple[Schema, jsonschema_rs.Draft202012Validator]] = (
            OrderedDict()
        )

    def get(self, schema: Schema) -> jsonschema_rs.Draft202012Validator:
        """Return the validator of a schema.

        Raises:
            ValueError: the schema cannot be used; the message says why.
        """
        known = self._known.get(id(schema))
        if known is not None and known[0] is schema:
            return known[1]
        built = _build(json.dumps(schema, sort_keys=True))
        self._known[id(schema)] = (schema, built)
        while len(self._known) > REMEMBERED:
            self._known.popitem(last=False)
        return built


_VALIDATORS = Validators()


@lru_cache(maxsize=REMEMBERED)
def _build(text: str) -> jsonschema_rs.Draft202012Validator:
    schema = json.loads(text)
    return jsonschema_rs.Draft202012Validator(
        _without_patterns_for_workers(schema),
        formats={**dict.fromkeys(_NOT_CHECKED, _anything), **FORMATS},
        validate_formats=True,
        keywords={"pattern": Pattern},
        pattern_options=jsonschema_rs.RegexOptions(),
        offline=True,
    )


def _without_patterns_for_workers(schema: JsonValue) -> JsonValue:
    """A schema without those patterns of property names that are left to the worker."""
    if isinstance(schema, list):
        return [_without_patterns_for_workers(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    names = schema.get("patternProperties")
    if isinstance(names, dict) and not all(map(compile_pattern, names)):
        left_out = ("patternProperties", "additionalProperties", "unevaluatedProperties")
        schema = {key: one for key, one in schema.items() if key not in left_out}
    return {key: _without_patterns_for_workers(one) for key, one in schema.items()}


def is_valid(value: JsonValue, schema: Schema) -> bool:
    """Return whether a value is one of a schema; stops at the first mistake."""
    return bool(_VALIDATORS.get(schema).is_valid(value))


def errors_of(value: JsonValue, schema: Schema) -> Iterator[jsonschema_rs.ValidationError]:
    """Yield what is wrong with a value, in the validator's own words."""
    yield from _VALIDATORS.get(schema).iter_errors(value)


def schema_problem(schema: JsonValue) -> Problem | None:
    """Return what is wrong with a schema itself, with its place in it, or None."""
    if problem := depth_problem(schema):
        return problem
    text = json.dumps(schema, sort_keys=True)
    if len(text) > VALUE_LIMIT:
        return Problem("", f"it is {len(text):,} bytes; at most {VALUE_LIMIT:,} are read")
    return _schema_problem(text)


@lru_cache(maxsize=REMEMBERED)
def _schema_problem(text: str) -> Problem | None:
    # Looking costs milliseconds, and the same few schemas come with every plan that is read.
    schema = json.loads(text)
    if problem := _dialect_problem(schema):
        return problem
    try:
        jsonschema_rs.meta.validate(schema)
    except jsonschema_rs.ValidationError as error:
        text = f"found {str(error.instance)[:60]!r}, which JSON Schema does not allow there"
        return Problem(pointer(*error.instance_path), text)
    if problem := reference_problem(schema):
        return problem
    try:
        _build(text)
    except (ValueError, jsonschema_rs.ValidationError) as error:
        return Problem("", str(error).partition("\n")[0][:300])
    return None


def _dialect_problem(schema: JsonValue) -> Problem | None:
    """Return where a schema names another dialect; to look one up could mean to fetch it."""
    for where, part in _subschemas(schema, ""):
        if part.get("$schema", DIALECT) not in (DIALECT, f"{DIALECT}#"):
            text = f"found {part['$schema']!r:.80}; expected {DIALECT!r}, or no $schema"
            return Problem(where + pointer("$schema"), text)
    return None


def weight(schema: Schema) -> int:
    """Return how much one value of a schema can cost to check, at most, in plain checks."""
    known = dict(_subschemas(schema, ""))
    costs: dict[str, int] = {}
    return max((_weight(where, known, costs) for where in known), default=1)


def _weight(where: str, known: dict[str, Schema], costs: dict[str, int]) -> int:
    if where not in costs:
        one = known[where]
        costs[where] = 1  # a circle, which no schema has that is in use, ends here
        names = one.get("patternProperties", {})
        own = 1 + _PATTERN_WEIGHT * ("pattern" in one or "format" in one) + 5 * len(names)
        own += sum(1 + len(str(one[key])) // 50 for key in ("enum", "const") if key in one)
        costs[where] = own + sum(_weight(at, known, costs) for at in _in_place(where, one))
    return costs[where]


def patterns_for_workers(schema: JsonValue) -> list[str]:
    """Return the patterns in a schema that only a worker can check."""
    found = []
    for _, one in _subschemas(schema, ""):
        patterns = [one.get("pattern"), *one.get("patternProperties", ())]
        found += [p for p in patterns if isinstance(p, str) and compile_pattern(p) is None]
    return found


# References: within the schema only, and never in a circle

_ONE = (
    *("not", "if", "then", "else", "items", "contains", "additionalProperties", "propertyNames"),
    *("unevaluatedItems", "unevaluatedProperties", "contentSchema"),
)
_LISTS = ("allOf", "anyOf", "oneOf", "prefixItems")
_MAPS = ("$defs", "definitions", "properties", "patternProperties", "dependentSchemas")
_IN_PLACE = ("not", "if", "then", "else", *_LISTS[:3], "dependentSchemas")
_FOREIGN = ("$dynamicRef", "$dynamicAnchor", "$recursiveRef", "$recursiveAnchor", "$anchor")


def _subschemas(schema: JsonValue, where: str) -> Iterator[tuple[str, Schema]]:
    """Every schema in a schema, itself included, with its pointer; values in it are none."""
    if not isinstance(schema, dict):
        return
    yield where, schema
    for _, at, inner in _children(schema, where):
        yield from _subschemas(inner, at)


def _children(schema: Schema, where: str) -> Iterator[tuple[str, str, Any]]:
    for key, one in schema.items():
        if key in _ONE:
            yield key, where + pointer(key), one
        elif key in _LISTS and isinstance(one, list):
            for place, inner in enumerate(one):
                yield key, where + pointer(key, place), inner
        elif key in _MAPS and isinstance(one, dict):
            for name, inner in one.items():
                yield key, where + pointer(key, name), inner


def reference_problem(schema: Schema) -> Problem | None:
    """Return the first reference of a schema that leads out of it, nowhere, or in a circle.

    A schema from a client must not make the service fetch anything, so only `#` and pointers as
    `#/$defs/Harbour` are followed.
    """
    known = dict(_subschemas(schema, ""))
    for where, one in known.items():
        for key in _FOREIGN:
            if key in one:
                text = f"{key} is not read; refer with $ref to a place as #/$defs/NAME"
                return Problem(where + pointer(key), text)
        if "$id" in one and where:
            text = "an $id inside a schema is not read; refer with $ref to a place as #/$defs/NAME"
            return Problem(where + pointer("$id"), text)
        if "$ref" in one and (wrong := _wrong_reference(one["$ref"], known)):
            return Problem(where + pointer("$ref"), wrong)
    return _circle(known)


def _wrong_reference(target: JsonValue, known: dict[str, Schema]) -> str | None:
    if not isinstance(target, str) or not (target == "#" or target.startswith("#/")):
        return f"found {target!r:.80}; a schema refers to itself only, as #/$defs/NAME"
    if _place_of(target) not in known:
        return f"found {target!r:.80}; there is no schema at that place"
    return None


def _place_of(target: str) -> str:
    return unquote(target[1:])


def _circle(known: dict[str, Schema]) -> Problem | None:
    """A schema that asks for itself of the same value would never be decided."""
    costs: dict[str, int] = {}
    for begin, first in known.items():
        stack = [(begin, iter(_in_place(begin, first)))]
        open_places = {begin}
        while stack:
            where, targets = stack[-1]
            target = next(targets, None)
            if target is None:
                stack.pop()
                open_places.discard(where)
                costs[where] = 1 + sum(costs.get(one, 1) for one in _in_place(where, known[where]))
                if costs[where] > _MOST_IN_PLACE:
                    text = f"it has more than {_MOST_IN_PLACE:,} variants of one value"
                    return Problem(where, text)
            elif target in open_places:
                return Problem(where, "it refers in a circle, so no value could be decided")
            elif target not in costs and target in known:
                stack.append((target, iter(_in_place(target, known[target]))))
                open_places.add(target)
    return None


def _in_place(where: str, schema: Schema) -> list[str]:
    """The schemas that the same value is held against, too."""
    found = [at for key, at, _ in _children(schema, where) if key in _IN_PLACE]
    if isinstance(target := schema.get("$ref"), str):
        found.append(_place_of(target))
    return found
