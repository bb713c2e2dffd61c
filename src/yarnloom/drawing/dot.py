"""A graph in the DOT language of graph drawing programs."""

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


def dot(view: View) -> str:
    """A directed graph: a box a step, a cluster a parallel, each or follow-up."""
    lines = [f"digraph {_quoted(view['label'])} {{", "  rankdir=LR;"]
    lines += ['  node [shape=box, style="rounded", fontname="sans-serif"];']
    _parts(view, "  ", lines)
    lines += [f"  {_quoted(before)} -> {_quoted(after)};" for before, after in threads(view)]
    return "\n".join([*lines, "}", ""])


def _parts(view: View, indent: str, lines: list[str]) -> None:
    for one in inner(view):
        if view["kind"] == "choose" or is_instead(view, one):
            _cluster(one, caption_of(view, one), indent, lines)
        else:
            _part(one, indent, lines)
    for name, follow_up in follow_ups(view):
        _cluster(follow_up, name, indent, lines)


def _part(view: View, indent: str, lines: list[str]) -> None:
    if view["kind"] == "step":
        text = "\n".join(filter(None, [view["label"], *facts(view), standing(view)]))
        dye = f", color={_quoted(DYES[view['state']][0])}" if "state" in view else ""
        lines.append(f"{indent}{_quoted(view['address'])} [label={_quoted(text)}{dye}];")
        for name, follow_up in follow_ups(view):
            _cluster(follow_up, name, indent, lines)
    elif view["kind"] in ("parallel", "each", "choose"):
        text = " · ".join(filter(None, [view["label"], *facts(view), standing(view)]))
        _cluster(view, text, indent, lines)
    else:
        _parts(view, indent, lines)


def _cluster(view: View, label: str, indent: str, lines: list[str]) -> None:
    lines.append(f"{indent}subgraph {_quoted('cluster ' + view['address'])} {{")
    lines.append(f"{indent}  label={_quoted(label)}; style=dashed;")
    _parts(view, indent + "  ", lines)
    lines.append(f"{indent}}}")


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return f'"{escaped}"'
