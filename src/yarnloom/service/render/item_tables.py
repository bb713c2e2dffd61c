"""Items of an each as rows of a table: the fields of their values, and their outcomes."""

from __future__ import annotations

import json
from collections.abc import Iterable

from yarnloom.engine.records.parts import ExportedItem
from yarnloom.protocol import part_answers
from yarnloom.service.render.answers import show
from yarnloom.values import JsonValue

PREFIX = "yarnloom."
OUTCOME = (
    "line",
    "item",
    "name",
    "address",
    "state",
    "reason",
    "error",
    "begun_at",
    "ended_at",
    "output",
)
"""Fields of an item beside its value; as columns each behind `PREFIX`."""


def columns_of(values: Iterable[JsonValue]) -> list[str]:
    """The columns for the values of items: the names of all fields, where they are objects."""
    return list(
        dict.fromkeys(name for value in values if isinstance(value, dict) for name in value)
    )


def cells_of(item: ExportedItem, columns: list[str]) -> list[JsonValue]:
    """An item as cells: its value's fields by column, what has no column together, its outcome."""
    value = item.value
    fields = value if isinstance(value, dict) else {}
    shown = show(part_answers.ExportedItem, item)
    rest = {name: one for name, one in fields.items() if name not in columns}
    whole = rest or None if isinstance(value, dict) else value
    return [
        *(_cell(fields.get(name)) for name in columns),
        _cell(whole),
        *(_cell(shown[name]) for name in OUTCOME),
    ]


def header_of(columns: list[str]) -> list[str]:
    """The names of these cells."""
    return [*columns, f"{PREFIX}value", *(f"{PREFIX}{name}" for name in OUTCOME)]


def _cell(value: JsonValue) -> JsonValue:
    """A value in a table: text as it is, null as nothing, else JSON."""
    if value is None or isinstance(value, str):
        return value or ""
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))
