"""Which step comes behind which: the threads of a graph."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.drawing.part_words import View, inner


@dataclass(slots=True)
class ThreadEnds:
    """The steps that a part begins and ends with, by address."""

    first: list[str] = field(default_factory=list)
    last: list[str] = field(default_factory=list)


def threads(view: View) -> list[tuple[str, str]]:
    """Pairs of steps, by address: the second begins when the first has ended."""
    found: list[tuple[str, str]] = []
    _ends(view, found)
    return found


def _ends(view: View, found: list[tuple[str, str]]) -> ThreadEnds:
    for follow_up in view.get("follow_ups", {}).values():
        _ends(follow_up, found)
    match view["kind"]:
        case "step":
            return ThreadEnds([view["address"]], [view["address"]])
        case "parallel" | "choose":
            return _branches(view, found)
        case "fallback":
            # Readers wait for both: only one of them gives the output.
            first, instead = (_ends(one, found) for one in view["parts"])
            found += [(before, after) for before in first.last for after in instead.first]
            return ThreadEnds(first.first, [*first.last, *instead.last])
    ends = ThreadEnds()
    for one in inner(view):
        behind = _ends(one, found)
        found += [(before, after) for before in ends.last for after in behind.first]
        ends.first = ends.first or behind.first
        ends.last = behind.last or ends.last
    return ends


def _branches(view: View, found: list[tuple[str, str]]) -> ThreadEnds:
    by_label = {part["label"]: _ends(part, found) for part in view["parts"]}
    awaited = {label for part in view["parts"] for label in part.get("waits_for", ())}
    ends = ThreadEnds()
    for part in view["parts"]:
        mine = by_label[part["label"]]
        waits_for = part.get("waits_for", ())
        for label in waits_for:
            found += [(before, after) for before in by_label[label].last for after in mine.first]
        ends.first += [] if waits_for else mine.first
        ends.last += [] if part["label"] in awaited else mine.last
    return ends
