"""Fields of answers: what all their models share.

A model reads the record of the same fields (`engine/records`): whole microseconds become RFC 3339
text, enums become their words. The same models read an answer that has arrived.
"""

from __future__ import annotations

from typing import Annotated, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, Discriminator, Tag, model_validator

from yarnloom.units import iso_time
from yarnloom.values import JsonValue

T = TypeVar("T")


def _as_text(value: JsonValue) -> JsonValue:
    return iso_time(value) if isinstance(value, int) else value


def _whole_number_text(value: JsonValue) -> JsonValue:
    return str(value) if isinstance(value, int) else value


Moment = Annotated[str, BeforeValidator(_as_text)]
"""A time as RFC 3339 text in UTC; of a record whole microseconds since 1970."""

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
