"""A graph as a Mermaid flowchart, which many forges and editors show in Markdown."""

from __future__ import annotations

from yarnloom.drawing.part_words import (
    View,
    caption_of,
    facts,
    follow_ups,
    inner,
    is_instead,
    standing,
)
from yarnloom.drawing.state_colours import DYES
from yarnloom.drawing.step_order import threads


def mermaid(view: View) -> str:
    """A flowchart from left to right: a box a step, a subgraph a parallel, each or follow-up."""
    chart = _Chart()
    chart.parts(view, "  ")
    chart.lines += [
        f"  {chart.name(before)} --> {chart.name(after)}" for before, after in threads(view)
    ]
    used = sorted(chart.states)
    chart.lines += [f"  classDef {one} stroke:{DYES[one][0]},stroke-width:2px" for one in used]
    return "\n".join(["flowchart LR", *chart.lines, ""])


class _Chart:
    def __init__(self) -> None:
        self.lines: list[str] = []
        self.states: set[str] = set()
        self._names: dict[str, str] = {}

    def name(self, address: str) -> str:
        """A step's name in the chart."""
        return self._names.setdefault(address, f"n{len(self._names)}")

    def parts(self, view: View, indent: str) -> None:
        """What is in a part."""
        for one in inner(view):
            if view["kind"] == "choose" or is_instead(view, one):
                self.group(one, caption_of(view, one), indent)
            else:
                self.part(one, indent)
        for name, follow_up in follow_ups(view):
            self.group(follow_up, name, indent)

    def part(self, view: View, indent: str) -> None:
        """One part."""
        words = filter(None, [view["label"], *facts(view), standing(view)])
        if view["kind"] == "step":
            state = view.get("state")
            self.states |= {state} if state else set()
            mark = f":::{state}" if state else ""
            text = "<br>".join(map(_escaped, words))
            self.lines.append(f'{indent}{self.name(view["address"])}["{text}"]{mark}')
            for name, follow_up in follow_ups(view):
                self.group(follow_up, name, indent)
        elif view["kind"] in ("parallel", "each", "choose"):
            self.group(view, " · ".join(words), indent)
        else:
            self.parts(view, indent)

    def group(self, view: View, label: str, indent: str) -> None:
        """A frame around parts."""
        name = self.name(f"group {view['address']}")
        self.lines.append(f'{indent}subgraph {name} ["{_escaped(label)}"]')
        self.parts(view, indent + "  ")
        self.lines.append(f"{indent}end")


def _escaped(text: str) -> str:
    """Text in which nothing means anything to Mermaid or HTML."""
    return "".join(one if one.isalnum() or one in " -_.,·" else f"#{ord(one)};" for one in text)
