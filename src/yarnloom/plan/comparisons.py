"""Which values a condition can compare, by their types."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.plan.schemas import Fit, describe, fit, of_constants, resolve, show
from yarnloom.plan.sources import Constant, ListOf, Source
from yarnloom.plan.validators import Schema

TEXT: Schema = {"type": "string"}
NUMBER: Schema = {"type": "number"}
CONDITION: Schema = {"type": "boolean"}
IN_TEXT: Schema = {"anyOf": [TEXT, NUMBER, CONDITION]}
"""The types that a text can hold."""


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a comparison.

    Attributes:
        source: where its value comes from.
        schema: its type; empty if it is not known.
        words: the source, for messages.
    """

    source: Source
    schema: Schema
    words: str

    @property
    def spelled(self) -> str:
        """The source with its type, for messages."""
        if isinstance(self.source, Constant):
            return show(self.source.value)
        return f"{self.words} ({describe(self.schema)})"


def why_incomparable(left: Side, operator: str, right: Side) -> str:
    """Say why a comparison can never be true; empty if it can, or that is not known."""
    for side in (left, right):
        if isinstance(side.source, Constant) and side.source.value is None:
            return "a comparison with null is never true; write .is_null()"
    if operator == "in":
        return _why_never_in(left, right)
    if operator in ("==", "!="):
        never = _never_equal(left, right)
        return f"{left.spelled} and {right.spelled} are never equal" if never else ""
    schemas = without_null(left.schema), without_null(right.schema)
    for scale in (NUMBER, TEXT):
        if all(fit(schema, scale) is not Fit.CANNOT for schema in schemas):
            return ""
    return (
        f"{left.spelled} and {right.spelled} cannot be compared by {operator}; "
        "expected two numbers, or two texts"
    )


def _never_equal(left: Side, right: Side) -> bool:
    for side, other in ((left, right), (right, left)):
        if isinstance(side.source, Constant):
            given = of_constants([side.source.value])
            return fit(given, without_null(other.schema)) is Fit.CANNOT
    one, other_one = without_null(left.schema), without_null(right.schema)
    return fit(one, other_one) is Fit.CANNOT and fit(other_one, one) is Fit.CANNOT


def _why_never_in(left: Side, right: Side) -> str:
    source = right.source
    if isinstance(source, Constant) and not isinstance(source.value, list):
        return f"is_in(...): found {show(source.value)}; expected a list"
    if fit(without_null(right.schema), {"type": "array"}) is Fit.CANNOT:
        return f"is_in(...): found {right.spelled}; expected a list"
    parts = source.of if isinstance(source, ListOf) else ()
    if isinstance(source, Constant):
        parts = tuple(map(Constant, source.value))
    for part in parts:
        if isinstance(part, Constant) and _never_equal(left, Side(part, {}, "")):
            return f"is_in(...): {left.spelled} is never {show(part.value)}"
    return ""


def without_null(schema: Schema) -> Schema:
    """The type of a value that is not null; empty if that is not known."""
    plain = {**resolve(schema, schema), "$defs": schema.get("$defs", {})}
    if "anyOf" not in plain:
        return {} if plain.get("type") == "null" else plain
    others = [
        without_null({**resolve(one, plain), "$defs": plain["$defs"]})
        for one in plain["anyOf"]
        if resolve(one, plain).get("type") != "null"
    ]
    return {**plain, "anyOf": others} if others else {}
