"""References: where a step's input comes from, when it is not a constant.

A reference stands for a value that is known only in the run. Comparing references gives a
condition, and `[...]` reaches a field. Every one keeps its JSON form (`docs/plan-format.md`) and
has no other attribute: one of the same name as a field would be read for the field.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from enum import Enum
from typing import Any, Literal, NoReturn

from yarnloom.errors import LoomError
from yarnloom.values import JsonObject, JsonValue


class NotGiven(Enum):
    """A default that was not given, which differs from null."""

    NOT_GIVEN = "not given"


NOT_GIVEN = NotGiven.NOT_GIVEN


class Reference:
    """A value that is known only in the run, or a condition on such values.

    Fields are reached by `[...]`. Comparisons (`==`, `!=`, `<`, `<=`, `>`, `>=`, `is_in`,
    `is_null`) give conditions; `&`, `|` and `~` combine conditions.
    """

    __slots__ = ("_json",)

    def __init__(self, json: JsonObject) -> None:
        self._json = json

    def __getitem__(self, name: str | int) -> Reference:
        """Return a reference to a field by name, or to an item of a list by position, from 0."""
        if type(name) not in (str, int) or (isinstance(name, int) and name < 0):
            raise TypeError(
                f"found [{name!r:.40}] behind {self!r}; expected a name or a position from 0"
            )
        if _is_composed(self._json):
            raise TypeError(f"{self!r} has no fields; reach into the references that it is made of")
        return Reference({**self._json, "fields": [*self._json.get("fields", ()), name]})

    def __eq__(self, other: object) -> Any:
        return _comparison(self, "==", other)

    def __ne__(self, other: object) -> Any:
        return _comparison(self, "!=", other)

    def __lt__(self, other: object) -> Reference:
        return _comparison(self, "<", other)

    def __le__(self, other: object) -> Reference:
        return _comparison(self, "<=", other)

    def __gt__(self, other: object) -> Reference:
        return _comparison(self, ">", other)

    def __ge__(self, other: object) -> Reference:
        return _comparison(self, ">=", other)

    def __and__(self, other: object) -> Reference:
        return _combination("all", self, other)

    def __rand__(self, other: object) -> Reference:
        return _combination("all", other, self)

    def __or__(self, other: object) -> Reference:
        return _combination("any", self, other)

    def __ror__(self, other: object) -> Reference:
        return _combination("any", other, self)

    def __invert__(self) -> Reference:
        return Reference({"not": value_json(self)})

    def is_in(self, values: object) -> Any:
        """Return a condition: the value equals one of a list, which may hold references."""
        if isinstance(values, set | frozenset):
            values = sorted(values, key=repr)
        return Reference({"compare": [value_json(self), "in", value_json(values)]})

    def is_null(self) -> Any:
        """Return a condition: the value is null, or was not given."""
        return Reference({"is_null": value_json(self)})

    def __bool__(self) -> bool:
        """Refuse to be true or false, since the value is known only in the run.

        Raises:
            TypeError: always.
        """
        raise TypeError(
            f"{self!r} is known only in the run, so it is neither true nor false here. Combine "
            "conditions with &, | and ~ instead of `and`, `or` and `not`, compare twice instead of "
            "a < b < c, use .is_in([...]) instead of `in`, and choose(...) or only_if= instead of "
            "`if`."
        )

    def __iter__(self) -> NoReturn:
        """Refuse to be iterated.

        Raises:
            TypeError: always.
        """
        raise TypeError(f"{self!r} is known only in the run; go through it with each(over=...)")

    def __contains__(self, value: object) -> NoReturn:
        raise TypeError(f"{self!r} is known only in the run; write .is_in([...]) for `in`")

    def __getattr__(self, name: str) -> NoReturn:
        if name.startswith("_"):
            raise AttributeError(name)
        raise AttributeError(
            f"{self!r} has no attribute {name!r}; fields are reached by [...]: [{name!r}]"
        )

    __hash__ = None  # type: ignore[assignment]  # equal only in the run

    def __repr__(self) -> str:
        return f"<reference {self._json}>"


def _is_composed(json: JsonObject) -> bool:
    return not json.keys().isdisjoint(("compare", "is_null", "all", "any", "not", "text"))


def reference_json(reference: Reference) -> JsonObject:
    """Return the JSON form of a reference."""
    return reference._json


def value_json(value: object) -> JsonObject:
    """Return a value in the form of a plan: references resolve in the run, all else is constant.

    Lists and objects may hold references at any depth. Other values are left as they are, for the
    compiler to turn them into JSON.
    """
    if isinstance(value, Reference):
        return value._json
    if isinstance(value, list | tuple) and _holds_references(value):
        return {"list": [value_json(inner) for inner in value]}
    if isinstance(value, Mapping) and _holds_references(value):
        return {"object": {name: value_json(inner) for name, inner in value.items()}}
    return {"constant": value}


def _holds_references(value: object) -> bool:
    if isinstance(value, Reference):
        return True
    if isinstance(value, Mapping):
        return any(map(_holds_references, value.values()))
    return isinstance(value, list | tuple) and any(map(_holds_references, value))


def _comparison(left: object, operator: str, right: object) -> Reference:
    return Reference({"compare": [value_json(left), operator, value_json(right)]})


def _combination(how: Literal["all", "any"], left: object, right: object) -> Reference:
    parts: list[JsonObject] = []
    for operand in (left, right):
        json = value_json(operand)
        # a & b & c stays one list.
        parts += json[how] if json.keys() == {how} else [json]
    return Reference({how: parts})


def param(path: str) -> Any:
    """The value of a param, e.g. `param("year")` or, inside one, `param("region.name")`.

    A param that was not given and has no default leaves the input out, so that the task's own
    default holds.
    """
    return Reference({"param": path})


def output(
    label: str, *, default: JsonValue = NOT_GIVEN, only: Literal["done"] | None = None
) -> Any:
    """The output of the part with that label, looked for among the siblings, then outwards.

    Args:
        label: the part's label; `"tables.plot"` looks into the parallel `tables`.
        default: what to read where the part was skipped by its `only_if`; else that is null.
        only: "done" leaves out the items of an each that are not done; else they are null.
    """
    json: JsonObject = {"output": label}
    if default is not NOT_GIVEN:
        json["default"] = default
    if only is not None:
        json["only"] = only
    return Reference(json)


def bad_rows(param: str) -> Any:
    """The file of the bad rows of a param that takes rows; null where all were good.

    Args:
        param: its name, e.g. `"readings"`.
    """
    return Reference({"bad_rows": param})


def item(path: str | None = None, *, of: str | None = None) -> Any:
    """The item that an each is at, or with a path a field inside it.

    Args:
        path: e.g. `"code"`, or `"region.name"`.
        of: the label of an outer each; the innermost one unless given.
    """
    json: JsonObject = {"item": True if path is None else path}
    return Reference(json if of is None else {**json, "of": of})


def failures(label: str) -> Any:
    """The items of an each that failed: a list of `{"name", "address", "error"}`."""
    return Reference({"failures": label})


def failure() -> Any:
    """In a follow-up or an `instead`: what failed, as a `yarnloom.Failure`.

    It is null in `on_end` if nothing failed.
    """
    return Reference({"failure": True})


def planned_at() -> Any:
    """The time that the run was planned for, a `datetime` with zone or text.

    Of a run that a schedule started its planned time, in the schedule's zone, however late it
    began; else the time that it was to start at, or was started.
    """
    return Reference({"planned_at": True})


NAME_IN_TEXT = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")


def text(template: str, /, **names: object) -> Any:
    """A text with values put in: `text("Dear {name}", name=item("name"))`.

    Args:
        template: the text; `{name}` becomes the value of that name, `{{` and `}}` for braces.
        names: for each name a reference or constant: text, a number, true or false.

    Raises:
        LoomError: a name in the template has no value, or the other way round.
    """
    used: list[str] = []
    for match in NAME_IN_TEXT.finditer(template):
        if match[0] in ("{", "}"):
            raise LoomError(
                f"text({template!r:.60}): found a single {match[0]!r}; "
                f"write {match[0] * 2!r} for a brace"
            )
        if match[1] is not None:
            used.append(match[1])
    for name in used:
        if not name.isidentifier():
            raise LoomError(f"text({template!r:.60}): found {{{name}}}; expected a plain name")
        if name not in names:
            raise LoomError(f"text({template!r:.60}): {{{name}}} has no value; give {name}=...")
    if unused := sorted(names.keys() - set(used)):
        raise LoomError(f"text({template!r:.60}): {unused[0]}= is not used in it")
    return Reference({"text": template, "names": {name: value_json(names[name]) for name in names}})


def fill_template(template: str, values: Mapping[str, str]) -> str:
    """Return a template with its names replaced."""

    def filled(match: re.Match[str]) -> str:
        return values[match[1]] if match[1] is not None else match[0][0]

    return NAME_IN_TEXT.sub(filled, template)


previous: Any = Reference({"previous": True})
"""The output of the part before, in a sequence."""
