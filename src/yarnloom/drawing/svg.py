"""A graph as an SVG picture: threads from left to right, in the dyes of the states."""

from __future__ import annotations

from html import escape

from yarnloom.drawing.layout import Box, lay_out
from yarnloom.drawing.part_words import View, counts_text, facts, standing
from yarnloom.drawing.state_colours import DYES
from yarnloom.drawing.step_order import threads

MARGIN = 24.0
TITLE = 44.0
_STYLE = """
  text { font-family: system-ui, sans-serif; font-size: 13px; fill: #2e3338; }
  .label { font-weight: 650; font-size: 14px; } .dim { fill: #6d675c; font-size: 12px;
  font-weight: 400; }
  .title { font-size: 17px; font-weight: 650; }
  .thread { fill: none; stroke-width: 2.5px; } .step { fill: #fffdf8; stroke-width: 1.5px; }
  .each { fill: #f1ede4; stroke: #b9b09f; } .follow-up { fill: none; stroke: #b9b09f;
  stroke-dasharray: 4 4; } .branch { fill: none; stroke: #b9b09f; } .faint { opacity: 0.4; }
"""


def svg(view: View, title: str) -> str:
    """The picture.

    Args:
        view: the graph.
        title: written at its top.
    """
    layout = lay_out(view)
    width, height = layout.width + 2 * MARGIN, layout.height + 2 * MARGIN + TITLE
    steps = {box.view["address"]: box for box in layout.boxes if box.kind == "step"}
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:g}" height="{height:g}" '
        f'viewBox="0 0 {width:g} {height:g}" role="img" aria-label="{escape(title)}">',
        f"<style>{_STYLE}</style>",
        f'<rect width="{width:g}" height="{height:g}" fill="#f8f5ee"/>',
        f'<text class="title" x="{MARGIN:g}" y="{MARGIN + 14:g}">{escape(title)}</text>',
        f'<g transform="translate({MARGIN:g} {MARGIN + TITLE:g})">',
    ]
    lines += [_frame(box) for box in layout.boxes if box.kind != "step"]
    lines += [
        _thread(steps[before], steps[after])
        for before, after in threads(view)
        if before in steps and after in steps
    ]
    lines += [_step(box) for box in steps.values()]
    return "\n".join([*lines, "</g>", "</svg>", ""])


def _thread(before: Box, after: Box) -> str:
    dye = DYES[before.view.get("state", "waiting")][0]
    x, y = before.x + before.width, before.y + before.height / 2
    to_x, to_y = after.x, after.y + after.height / 2
    bend = max(24.0, (to_x - x) / 2)
    path = f"M{x:g} {y:g}C{x + bend:g} {y:g} {to_x - bend:g} {to_y:g} {to_x:g} {to_y:g}"
    return f'<path class="thread" stroke="{dye}" d="{path}"/>'


def _step(box: Box) -> str:
    view = box.view
    dye, icon = DYES[view.get("state", "waiting")]
    words = f"{icon} {standing(view)}" if "state" in view else ""
    rows = [(view["label"], "label"), (" · ".join(facts(view)), "dim"), (words, "")]
    texts = [
        f'<text class="{style}" x="{box.x + 14:g}" y="{box.y + 24 + 23 * row:g}">'
        f"{escape(_cut(text, 26 if style == 'label' else 30))}</text>"
        for row, (text, style) in enumerate(rows)
    ]
    shape = f'x="{box.x:g}" y="{box.y:g}" width="{box.width:g}" height="{box.height:g}" rx="9"'
    drawn = f'<rect class="step" stroke="{dye}" {shape}/>' + "".join(texts)
    return _faintly(view, drawn)


def _faintly(view: View, drawn: str) -> str:
    """What was not chosen is drawn faintly."""
    if view.get("skip_reason") != "not_chosen":
        return drawn
    return f'<g class="faint">{drawn}</g>'


def _frame(box: Box) -> str:
    text = f'<text class="dim" x="{box.x:g}" y="{box.y + 14:g}">{escape(box.caption)}</text>'
    if box.kind == "caption":
        return text if box.view["kind"] != "choose" else _choice(box, text)
    shape = f'x="{box.x:g}" y="{box.y:g}" width="{box.width:g}" height="{box.height:g}" rx="12"'
    frame = f'<rect class="{box.kind}" {shape}/>'
    framed = box.kind in ("follow-up", "branch")
    words = [standing(box.view)] if framed else facts(box.view)
    room = round((box.width - 46 - 8.5 * len(box.caption)) / 6.6)
    caption = escape(_cut(" · ".join(filter(None, words)), room))
    frame += (
        f'<text class="label" x="{box.x + 18:g}" y="{box.y + 23:g}">{escape(box.caption)}'
        f'<tspan class="dim" dx="10">{caption}</tspan></text>'
    )
    band = _band(box) if box.kind == "each" and "counts" in box.view else ""
    return _faintly(box.view, frame + band)


def _choice(box: Box, text: str) -> str:
    by = escape(_cut(" · ".join(facts(box.view)), 60))
    return text.replace("</text>", f'<tspan dx="8">{by}</tspan></text>')


def _band(box: Box) -> str:
    """An each's items by state, as a stacked band with the counts in words."""
    counts = box.view["counts"]
    total, x = max(1, counts["total"]), box.x + 18
    room, y = box.width - 36, box.y + 44
    found = []
    order = ("done", "failed", "running", "ready", "paused", "cancelled", "skipped", "waiting")
    for state in order:
        if counts[state]:
            width = room * counts[state] / total
            dye = DYES[state][0]
            found.append(f'<rect x="{x:g}" y="{y:g}" width="{width:g}" height="5" fill="{dye}"/>')
            x += width
    found.append(
        f'<text class="dim" x="{box.x + 18:g}" y="{box.y + 39:g}">'
        f"{escape(counts_text(counts))}</text>"
    )
    return "".join(found)


def _cut(text: str, length: int) -> str:
    return text if len(text) <= length else text[: max(1, length - 1)] + "…"
