"""Converting rows by a JSON Schema: a row's model becomes a flat list of converters.

Whether a value fits is left to the validators of `plan`, as are the words for what is wrong.
"""

from __future__ import annotations

import copy
import json
import math
import re
from dataclasses import dataclass
from typing import Any

from yarnloom.errors import nearest
from yarnloom.plan.schemas import describe, resolve
from yarnloom.plan.validators import Schema, is_valid
from yarnloom.plan.value_problems import problems_of
from yarnloom.values import JsonObject, JsonValue, decode

MOST_COLUMNS = 1_000
_NOT_GIVEN: Any = object()
_UNFIT: Any = object()
_INTEGER = re.compile(r"[+-]?[0-9]+\Z")
_NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?\Z")
_YES, _NO = frozenset({"true", "yes", "1"}), frozenset({"false", "no", "0"})
# How a cell is tried where several types are possible: the strictest first.
_ORDER = ("integer", "number", "boolean", "object", "array", "string")


@dataclass(frozen=True, slots=True)
class CellFault:
    """What is wrong in a row: in which column, if in one."""

    column: str | None
    message: str


class RowConverter:
    """Turns records into rows, as a schema wants them.

    Args:
        schema: of one row, with its definitions.
        decimal: the decimal mark in cells.
        thousands: the mark between groups of three digits; empty for nothing.
    """

    def __init__(self, schema: Schema, decimal: str = ".", thousands: str = "") -> None:
        self._root = schema
        self._marks = _Marks(decimal, thousands)
        self._schema = resolve(schema, schema)
        self._definitions = schema.get("$defs", {})
        properties = self._schema.get("properties", {})
        self.fields = {
            name: _Field(name, one, schema, self._marks) for name, one in properties.items()
        }
        self._required = frozenset(self._schema.get("required", ()))
        self._closed = self._schema.get("additionalProperties") is False
        self._open = self._schema.get("additionalProperties") not in (None, False)
        self._whole = {**self._schema, "$defs": self._definitions}
        self._filled = [field for field in self.fields.values() if field.default is not _NOT_GIVEN]
        self._columns: list[tuple[str, _Field | None]] = []
        self.unused: list[str] = []

    # CSV

    def take_header(self, names: list[str]) -> list[CellFault]:
        """Fit the columns of a CSV file to the fields; everything that is wrong with them.

        Upper and lower case, and spaces around names, make no difference.
        """
        names = self._known_names(names)
        if not self.fields and not self._open:
            text = describe(self._schema, self._root)
            return [CellFault(None, f"a CSV file has rows with columns; expected {text} each")]
        if len(names) > MOST_COLUMNS:
            return [
                CellFault(None, f"found {len(names):,} columns; at most {MOST_COLUMNS:,} are read")
            ]
        # Each wrong name is named once: a misspelt one is not missing, too.
        found = []
        missing = [name for name in self.fields if name not in names]
        for place, name in enumerate(names, 1):
            if not name.strip():
                found.append(CellFault(None, f"column {place} has no name"))
            elif names.index(name) != place - 1:
                found.append(CellFault(name, "two columns have this name"))
            elif name in self.fields:
                pass
            elif self._closed or "did you mean" in (hint := nearest(name, missing)):
                hint = nearest(name, missing or self.fields)
                found.append(CellFault(name, f"there is no such column{hint}"))
            elif not self._open:
                self.unused.append(name)
        guessed = [name for name in missing if any(repr(name) in one.message for one in found)]
        for name in missing:
            if name in self._required and name not in guessed:
                wanted = self.fields[name].described
                found.append(CellFault(name, f"this column is missing; expected {wanted}"))
        if len(names) == 1 and found and (other := _other_delimiter(names[0])):
            text = f"the columns look separated by {other}; give that as the delimiter"
            found = [CellFault(None, text)]
        known = self.fields
        self._columns = [(name, known.get(name)) for name in names if name in known or self._open]
        self._places = [i for i, name in enumerate(names) if name in known or self._open]
        self._width = len(names)
        return found

    def _known_names(self, names: list[str]) -> list[str]:
        """The names of columns, as the fields are called that they mean."""
        by_word = {_word(name): name for name in self.fields}
        exact = set(names) & self.fields.keys()
        return [
            known
            if name not in self.fields
            and (known := by_word.get(_word(name), ""))
            and known not in exact
            else name
            for name in names
        ]

    def from_cells(self, cells: list[str]) -> JsonObject | list[CellFault]:
        """A row from a CSV record, or everything that is wrong with it."""
        if len(cells) != self._width:
            text = f"found {_cells(len(cells))}; the header has {self._width}"
            return [CellFault(None, text)]
        row: JsonObject = {}
        faults: list[CellFault] = []
        for place, (name, field) in zip(self._places, self._columns, strict=True):
            if field is None:
                row[name] = cells[place]
                continue
            value = field.from_cell(cells[place])
            if value is _UNFIT:
                faults.append(CellFault(name, field.cell_fault(cells[place])))
            elif value is not _NOT_GIVEN:
                row[name] = value
        if faults:
            return faults
        found: JsonObject | list[CellFault] = self.from_value(row)
        return found

    # JSON Lines

    def from_value(self, value: JsonValue) -> JsonValue:
        """A row from JSON, or a list of everything that is wrong with it.

        What is a list itself comes in a tuple, so that it is told from faults.
        """
        if not is_valid(value, self._whole):
            return [
                CellFault(_column(one.where), one.message)
                for one in problems_of(value, self._whole)
            ]
        if isinstance(value, dict):
            self._fill(value)
        return (value,) if isinstance(value, list) else value

    def _fill(self, row: JsonObject) -> None:
        for field in self._filled:
            if field.name not in row:
                row[field.name] = copy.deepcopy(field.default)


class _Field:
    """One field of a row."""

    def __init__(self, name: str, schema: Schema, root: Schema, marks: _Marks) -> None:
        self.name = name
        self._marks = marks
        schema = resolve(schema, root)
        self.default = schema.get("default", _NOT_GIVEN)
        self.described = describe(schema, root)
        definitions = {"$defs": root["$defs"]} if "$defs" in root else {}
        self._whole = {**schema, **definitions}
        variants = [resolve(one, root) for one in schema.get("anyOf", [schema])]
        self._nullable = any("null" in _types(variant) for variant in variants)
        types = {kind for variant in variants for kind in _types(variant)} - {"null"}
        if any({"enum", "const"} & variant.keys() for variant in variants):
            types |= {_type_of(value) for variant in variants for value in _choices(variant)}
        # A cell is text; which type it becomes is the first of these that it can be read as.
        self._any = not types
        self._types = [kind for kind in _ORDER if kind in types] or ["string"]

    def fits(self, value: JsonValue) -> bool:
        """Whether a value is one of the field."""
        return is_valid(value, self._whole)

    def from_cell(self, cell: str) -> JsonValue:
        """The value of a cell; an empty one is null or the default where that is possible."""
        if cell == "":
            if self._nullable:
                return None
            if self.default is not _NOT_GIVEN:
                return _NOT_GIVEN
        for kind in self._types:
            value = _converted(cell, kind, self._marks)
            if value is not _UNFIT and self.fits(value):
                return value
        return _UNFIT

    def cell_fault(self, cell: str) -> str:
        """What is wrong with a cell."""
        shown = f"found {cell[:57] + '…' if len(cell) > 60 else cell!r}" if cell else "it is empty"
        for kind in self._types:
            value = _converted(cell, kind, self._marks)
            if value is not _UNFIT and (found := problems_of(value, self._whole)):
                return found[0].message if cell else f"{shown}; expected {self.described}"
        hint = '; give the decimal mark ","' if self._decimal_comma(cell) else ""
        return f"{shown}; expected {self.described}{hint}"

    def _decimal_comma(self, cell: str) -> bool:
        pointed = cell.strip().replace(",", ".", 1)
        comma = self._marks.decimal == "." and "," in cell
        return comma and "number" in self._types and bool(_NUMBER.match(pointed))


@dataclass(frozen=True, slots=True)
class _Marks:
    """The marks in numbers: the decimal one, and the mark between groups of three digits."""

    decimal: str
    thousands: str

    def plain(self, text: str) -> str:
        """A number as JSON writes it; unfit text stays unfit."""
        whole, mark, rest = text.partition(self.decimal)
        if self.thousands and self.thousands in whole:
            sign = whole[:1] if whole[:1] in "+-" else ""
            first, *groups = whole.removeprefix(sign).split(self.thousands)
            if not (1 <= len(first) <= 3 and all(len(group) == 3 for group in groups)):
                return "?"
            whole = sign + first + "".join(groups)
        if self.decimal != "." and "." in whole + rest:
            return "?"
        return whole + ("." if mark else "") + rest


_PLAIN_MARKS = _Marks(".", "")


def _word(name: str) -> str:
    return name.strip().lstrip("\ufeff").casefold()


def _converted(cell: str, kind: str, marks: _Marks = _PLAIN_MARKS) -> JsonValue:
    """A cell as a JSON value of some type, or `_UNFIT`."""
    text = cell.strip()
    if kind in ("integer", "number") and marks is not _PLAIN_MARKS and marks != _PLAIN_MARKS:
        text = marks.plain(text)
    match kind:
        case "string":
            return cell
        case "integer":
            # Python refuses to read thousands of digits, which no column has.
            return int(text) if len(text) < 1_000 and _INTEGER.match(text) else _UNFIT
        case "number":
            if not _NUMBER.match(text) or len(text) >= 1_000:
                return _UNFIT
            number = int(text) if _INTEGER.match(text) else float(text)
            return number if math.isfinite(number) else _UNFIT
        case "boolean":
            word = text.lower()
            return True if word in _YES else False if word in _NO else _UNFIT
    try:
        return decode(text)
    except Exception:
        return _UNFIT


def _types(schema: Schema) -> set[str]:
    found = schema.get("type", [])
    return {found} if isinstance(found, str) else set(found)


def _choices(schema: Schema) -> list[JsonValue]:
    return [*schema.get("enum", ()), *([schema["const"]] if "const" in schema else [])]


def _type_of(value: JsonValue) -> str:
    names = {bool: "boolean", int: "integer", float: "number", str: "string", list: "array"}
    return names.get(type(value), "object")


def _column(where: str) -> str | None:
    """The column for a JSON Pointer into a row."""
    name = where.removeprefix("/")
    return name.replace("~1", "/").replace("~0", "~") or None


def _cells(count: int) -> str:
    return "1 cell" if count == 1 else f"{count} cells"


def _other_delimiter(header: str) -> str | None:
    words = {";": "semicolons", "\t": "tabs", "|": "bars", ",": "commas"}
    return next((word for mark, word in words.items() if mark in header), None)


def dump(row: JsonValue) -> str:
    """A row as compact JSON text."""
    return json.dumps(row, ensure_ascii=False, separators=(",", ":"))
