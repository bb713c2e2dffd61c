"""Python objects as JSON, for inputs and params."""

from __future__ import annotations

from typing import Any

from yarnloom.errors import Problem, ValueRefused
from yarnloom.values import JsonObject, JsonValue, dump, pointer

_JSON = (str, int, float, bool, type(None))


def plain_values(given: JsonObject) -> JsonObject:
    """Return inputs as JSON: models, dataclasses, dates and such in their JSON form.

    Files and rows become their references.

    Raises:
        ValueRefused: something has no JSON form; `problems` says where.
    """
    return {name: _plain(value, (name,)) for name, value in given.items()}


def _plain(value: Any, path: tuple[str | int, ...]) -> JsonValue:
    # JSON itself goes through unchanged; a subclass, such as an enum of text, does not.
    if isinstance(value, _JSON) and type(value) in _JSON:
        return value
    if type(value) is dict:
        return {name: _plain(inner, (*path, name)) for name, inner in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(inner, (*path, place)) for place, inner in enumerate(value)]
    if isinstance(value, set | frozenset):  # in one order, so that the same is the same JSON
        return sorted((_plain(inner, path) for inner in value), key=dump)
    if hasattr(value, "reference"):  # a file, or rows of one
        if value.reference is not None:
            return value.reference
        return [_plain(inner, (*path, place)) for place, inner in enumerate(value)]
    from pydantic_core import PydanticSerializationError, to_jsonable_python

    try:
        return to_jsonable_python(value, by_alias=True)
    except (PydanticSerializationError, ValueError, RecursionError):
        message = (
            f"found {value!r:.80}, of the type {type(value).__name__}, which has no JSON form; "
            "expected JSON, a model, a dataclass, a date or such"
        )
        raise ValueRefused(
            "an input cannot be sent", problems=[Problem(pointer(*path), message)]
        ) from None
