"""Answers of the API: a model reads a record, and its JSON is what is sent."""

from __future__ import annotations

from pydantic import BaseModel
from pydantic_core import PydanticSerializationError

from yarnloom.values import JsonObject, JsonValue, dump


def encode(model: type[BaseModel], value: object) -> bytes:
    """Return an answer as JSON.

    Args:
        model: of the answer.
        value: a record with the model's fields, or a dict of them.
    """
    answer = model.model_validate(value)
    try:
        return answer.__pydantic_serializer__.to_json(answer, by_alias=True, exclude_unset=True)
    except (PydanticSerializationError, ValueError):
        return dump(_plain(answer))  # a value is deeper, or a number longer, than the codec takes


def show(model: type[BaseModel], value: object) -> JsonObject:
    """Return an answer as a JSON object; the arguments are those of `encode`."""
    shown: JsonObject = _plain(model.model_validate(value))
    return shown


def _plain(value: object) -> JsonValue:
    """Return models as dicts of the fields that are set; values of tasks stay as they are."""
    # `model_dump` would copy values of tasks of megabytes, and convert them.
    if isinstance(value, BaseModel):
        fields = type(value).model_fields
        names = value.model_fields_set
        shown = {
            field.serialization_alias or field.alias or name: _plain(getattr(value, name))
            for name, field in fields.items()
            if name in names
        }
        return shown | (value.model_extra or {})
    if isinstance(value, list) and value and isinstance(value[0], BaseModel):
        return [_plain(item) for item in value]
    if isinstance(value, dict) and any(isinstance(item, BaseModel) for item in value.values()):
        return {name: _plain(item) for name, item in value.items()}
    return value
