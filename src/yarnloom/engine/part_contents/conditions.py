"""Conditions and texts: values compared and put together.

Null makes a comparison unknown, which here is None; unknown stays unknown under `not`.
"""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.plan import (
    NOT_GIVEN,
    Combination,
    Comparison,
    Condition,
    IsNull,
    Source,
    TextOf,
    fill_template,
)
from yarnloom.plan.schemas import describe, show
from yarnloom.values import JsonValue

ValueOf = Callable[[Source], JsonValue]
"""Gives the value of a source; `NOT_GIVEN` if there is none."""


def decide(condition: Condition, value_of: ValueOf) -> bool | None:
    """Decide a condition; None if it is unknown.

    Raises:
        ItemFault: something in it cannot be compared.
    """
    match condition:
        case Comparison(left, operator, right):
            return _compare(value_of(left), operator, value_of(right))
        case IsNull(of):
            return value_of(of) in (None, NOT_GIVEN)
        case Combination(how, of):
            truths = [_truth(source, value_of) for source in of]
    if how == "not":
        return None if truths[0] is None else not truths[0]
    # One that is false decides `all`, one that is true `any`, whatever is unknown.
    if (deciding := how == "any") in truths:
        return deciding
    return None if None in truths else not deciding


def _truth(source: Source, value_of: ValueOf) -> bool | None:
    if isinstance(source, Comparison | IsNull | Combination):
        return decide(source, value_of)
    value = value_of(source)
    if value is None or value is NOT_GIVEN:
        return None
    if isinstance(value, bool):
        return value
    raise ItemFault(f"a condition reads {show(value)}; expected true or false")


def _compare(left: JsonValue, operator: str, right: JsonValue) -> bool | None:
    # Unknown, and not false: its negation is not true either.
    if None in (left, right) or NOT_GIVEN in (left, right):
        return None
    if operator == "in":
        if not isinstance(right, list):
            raise ItemFault(f"is_in(...) got {show(right)}; expected a list")
        return any(equal(left, one) for one in right)
    if operator in ("==", "!="):
        return equal(left, right) is (operator == "==")
    both_text = isinstance(left, str) and isinstance(right, str)
    if not both_text and not (_is_number(left) and _is_number(right)):
        raise ItemFault(
            f"{show(left)} and {show(right)} cannot be compared by {operator}; "
            "expected two numbers, or two texts"
        )
    match operator:
        case "<":
            return bool(left < right)
        case "<=":
            return bool(left <= right)
        case ">":
            return bool(left > right)
    return bool(left >= right)


def _is_number(value: JsonValue) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def equal(left: JsonValue, right: JsonValue) -> bool:
    """Say whether two values are the same JSON: 1 equals 1.0, and not true or "1"."""
    if _is_number(left) and _is_number(right):
        return bool(left == right)
    if type(left) is not type(right):
        return False
    if isinstance(left, dict):
        return left.keys() == right.keys() and all(
            equal(value, right[name]) for name, value in left.items()
        )
    if isinstance(left, list):
        return len(left) == len(right) and all(map(equal, left, right))
    return bool(left == right)


def fill_text(source: TextOf, value_of: ValueOf) -> str:
    """Put values into a text: text as it is, numbers, true and false as JSON.

    Raises:
        ItemFault: a value is null, a list or an object.
    """
    shown = {}
    for name, part in zip(source.names, source.of, strict=True):
        value = value_of(part)
        if isinstance(value, bool):
            shown[name] = "true" if value else "false"
        elif isinstance(value, str | int | float):
            shown[name] = str(value)
        else:
            what = "null" if value in (None, NOT_GIVEN) else describe_kind(value)
            raise ItemFault(
                f"text(...): {{{name}}} is {what}; expected text, a number, true or false"
            )
    return fill_template(source.template, shown)


def describe_kind(value: JsonValue) -> str:
    """A list or object in words."""
    return describe({"type": "array" if isinstance(value, list) else "object"})
