"""A graph as lines of text: one for each part, indented by what it stands in."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.drawing.part_words import View, facts, follow_ups, inner, standing

# How the parts in a part are marked: one after another, side by side, repeated.
_MARKS = {"sequence": "  ", "parallel": "║ ", "each": "┆ ", "choose": "◇ "}


@dataclass(frozen=True, slots=True)
class OutlineLine:
    """One part.

    Attributes:
        indent: marks of the parts that it stands in.
        label: its label.
        facts: what it is.
        state: its state; None in a plan.
        standing: its state in words.
    """

    indent: str
    label: str
    facts: str
    state: str | None
    standing: str


def outline(view: View) -> list[OutlineLine]:
    """A graph's parts in plan order."""
    found: list[OutlineLine] = []
    _inside(view, "", found)
    return found


def _inside(view: View, indent: str, found: list[OutlineLine]) -> None:
    """The lines of what is in a part."""
    for one in inner(view):
        if view["kind"] == "each":
            _inside(one, indent, found)
        elif one["kind"] == "fallback":
            _fallback(one, indent, found)
        else:
            _part(one, indent, found)
    for name, follow_up in follow_ups(view):
        found.append(OutlineLine(indent, name, "", follow_up.get("state"), standing(follow_up)))
        _inside(follow_up, indent + "  ", found)


def _fallback(view: View, indent: str, found: list[OutlineLine]) -> None:
    """The part itself, its fallback, and the follow-ups of either."""
    first, instead = view["parts"]
    own = {name: value for name, value in view.items() if name in ("only_if", "waits_for")}
    _part(first | own, indent, found)
    found.append(OutlineLine(indent + "  ", "instead", "", instead.get("state"), standing(instead)))
    _inside(instead, indent + "    ", found)
    for name, follow_up in follow_ups(view):
        found.append(OutlineLine(indent, name, "", follow_up.get("state"), standing(follow_up)))
        _inside(follow_up, indent + "  ", found)


def _part(view: View, indent: str, found: list[OutlineLine]) -> None:
    found.append(
        OutlineLine(
            indent, view["label"], " · ".join(facts(view)), view.get("state"), standing(view)
        )
    )
    _inside(view, indent + _MARKS.get(view["kind"], "  "), found)
