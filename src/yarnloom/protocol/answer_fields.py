"""Fields of answers: what all their models share.

A model reads the record of the same fields (`engine/records`): whole microseconds become RFC 3339
text, enums become their words. The same models read an answer that has arrived.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, TypeVar

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Tag,
    ValidationInfo,
    model_validator,
)
from pydantic_core import CoreSchema, core_schema

from yarnloom.units import iso_time
from yarnloom.values import JsonValue

T = TypeVar("T")


READING: dict[str, str] = {"times": "objects"}
"""The validation context of a client, which gets times as `datetime`."""


class _MomentSchema:
    """RFC 3339 text for who answers, a `datetime` for who reads."""

    def __get_pydantic_core_schema__(self, *_: object) -> CoreSchema:
        """Validate either way."""
        return core_schema.with_info_plain_validator_function(_moment)

    def __get_pydantic_json_schema__(self, *_: object) -> dict[str, str]:
        """Return the schema of the text."""
        return {"type": "string", "format": "date-time"}


def _moment(value: JsonValue, info: ValidationInfo) -> JsonValue:
    if isinstance(value, int):
        return iso_time(value)
    if not isinstance(value, str):
        raise ValueError("expected a time")
    return datetime.fromisoformat(value) if info.context is READING else value


def _whole_number_text(value: JsonValue) -> JsonValue:
    return str(value) if isinstance(value, int) else value


Moment = Annotated[datetime, _MomentSchema()]
"""A time in UTC; of a record whole microseconds since 1970, and RFC 3339 text on its way."""

Cursor = Annotated[str, BeforeValidator(_whole_number_text)]
"""Where the next page begins."""


class Answer(BaseModel):
    """What an answer holds, or a part of one."""

    model_config = ConfigDict(from_attributes=True)


class Unreadable(Answer):
    """A record that cannot be shown: what names it, and why."""

    model_config = ConfigDict(extra="allow")

    unreadable: str

    @model_validator(mode="before")
    @classmethod
    def _from_record(cls, value: JsonValue) -> JsonValue:
        kept = getattr(value, "kept", None)
        return value if kept is None else {**kept, "unreadable": value.unreadable}


def _tag(value: JsonValue) -> str:
    is_unreadable = "unreadable" in value if isinstance(value, dict) else hasattr(value, "kept")
    return "unreadable" if is_unreadable else "whole"


OrUnreadable = Annotated[
    Annotated[T, Tag("whole")] | Annotated[Unreadable, Tag("unreadable")], Discriminator(_tag)
]
"""One of a list; a record that cannot be shown does not hide the others."""
