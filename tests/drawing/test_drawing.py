"""Graphs as text, DOT, Mermaid and SVG: complete, well formed, and the same for the same plan."""

from __future__ import annotations

import itertools
import json
import os
import random
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from tests.plans import Maker
from tests.same import document_of
from yarnloom import drawing
from yarnloom.drawing import part_words
from yarnloom.drawing.layout import Box, lay_out
from yarnloom.drawing.step_order import threads
from yarnloom.engine.queries.part_records import plan_record
from yarnloom.plan import read_plan
from yarnloom.service.render.parts import plan_json

HOSTILE = 'ebb"; } <script>\\n[x] | -->'


def random_view(seed: int) -> dict[str, Any]:
    """The graph of a random plan."""
    maker = Maker(random.Random(seed).randrange, 14)
    return plan_json(plan_record(read_plan(document_of(maker, "w", *maker.make()))))


def steps_in(view: dict[str, Any]) -> list[str]:
    """The addresses of all steps."""
    if view["kind"] == "step":
        found = [view["address"]]
    else:
        inner = [view["do"]] if view["kind"] == "each" else view["parts"]
        found = [address for one in inner for address in steps_in(one)]
    behind = view.get("follow_ups", {}).values()
    return found + [address for one in behind for address in steps_in(one)]


@pytest.mark.parametrize("seed", range(40))
def test_nothing_overlaps_and_nothing_is_missing(seed: int) -> None:
    """Steps stand apart, frames hold what is in them, and threads lead to the right."""
    view = random_view(seed)
    layout = lay_out(view)
    steps = [box for box in layout.boxes if box.kind == "step"]
    by_address = {box.view["address"]: box for box in steps}

    assert sorted(by_address) == sorted(steps_in(view))
    for one, other in itertools.combinations(steps, 2):
        assert apart(one, other), (one.view["address"], other.view["address"])
    for frame in layout.boxes:
        if frame.kind == "each":
            for address in steps_in(frame.view["do"]):
                assert holds(frame, by_address[address]), (frame.caption, address)
    for before, after in threads(view):
        assert by_address[before].x + by_address[before].width < by_address[after].x
    for box in layout.boxes:
        assert box.x >= 0 and box.y >= 0
        assert box.x + box.width <= layout.width and box.y + box.height <= layout.height + 1e-6


def apart(one: Box, other: Box) -> bool:
    """Whether two boxes do not overlap."""
    return (
        one.x + one.width <= other.x
        or other.x + other.width <= one.x
        or one.y + one.height <= other.y
        or other.y + other.height <= one.y
    )


def holds(frame: Box, box: Box) -> bool:
    """Whether a box is in a frame."""
    return (
        frame.x <= box.x
        and frame.y <= box.y
        and box.x + box.width <= frame.x + frame.width
        and box.y + box.height <= frame.y + frame.height
    )


@pytest.mark.parametrize("seed", range(15))
def test_every_form_has_every_step(seed: int) -> None:
    """Once each; frames are closed."""
    view = random_view(seed)
    labels = {
        address.removesuffix("/first").rpartition("/")[2].partition("[")[0]
        for address in steps_in(view)
    }
    dot, mermaid = drawing.dot(view), drawing.mermaid(view)
    svg = ElementTree.fromstring(drawing.svg(view, "a run"))
    outline = drawing.outline(view)

    assert dot.count("{") == dot.count("}")
    assert mermaid.count("subgraph ") == len(re.findall(r"^ +end$", mermaid, re.MULTILINE))
    assert dot.count(" -> ") == mermaid.count(" --> ") == len(threads(view))
    shown = {text.text for text in svg.iter("{http://www.w3.org/2000/svg}text")}
    assert labels <= shown
    assert labels <= {line.label for line in outline}


def test_hostile_words_stay_words() -> None:
    """Whatever stands in a constant or a message cannot break out of its place."""
    step = {"kind": "step", "label": "a", "address": "a", "task": "l/t", "state": "failed"}
    step |= {"only_if": {"constant": HOSTILE}, "skip_reason": None}
    view = {"kind": "sequence", "label": HOSTILE, "address": "", "parts": [step]}
    svg = ElementTree.fromstring(drawing.svg(view, HOSTILE))
    mermaid = drawing.mermaid(view)
    dot = drawing.dot(view)

    assert svg.find(".//{http://www.w3.org/2000/svg}script") is None
    assert "<script" not in mermaid
    assert len(re.findall(r'(?<!\\)"', dot)) % 2 == 0


def test_a_run_shows_its_states() -> None:
    """In words and dyes; a plan has none."""
    run = {"kind": "step", "label": "a", "address": "a", "task": "l/t", "state": "backing_off"}
    around = {"kind": "sequence", "label": "w", "address": "", "parts": [run]}
    plan = {**around, "parts": [{**run, "state": None}]}
    del plan["parts"][0]["state"]

    assert drawing.outline(around)[0].standing == "backing off"
    assert drawing.outline(plan)[0].standing == ""
    assert drawing.DYES["backing_off"][0] in drawing.svg(around, "")
    assert drawing.DYES["backing_off"][0] in drawing.dot(around)


LAYOUTS = Path(__file__).with_name("layouts.json")
SEEDS = range(12)


def shape_of(view: dict[str, Any]) -> dict[str, Any]:
    """The rows of a layout from the top, each from the left, and its threads."""
    steps = [box for box in lay_out(view).boxes if box.kind == "step"]
    rows: dict[float, list[Box]] = {}
    for box in sorted(steps, key=lambda one: one.x):
        rows.setdefault(round(box.y + box.height / 2, 3), []).append(box)
    return {
        "rows": [[box.view["address"] for box in rows[y]] for y in sorted(rows)],
        "threads": sorted(map(list, threads(view))),
    }


def test_both_layouts_have_the_same_rows_order_and_threads() -> None:
    """As `layouts.json` says, which the console's test reads too; `RENEW=1` writes it anew."""
    layouts = [{"view": view, **shape_of(view)} for view in map(random_view, SEEDS)]
    if os.environ.get("RENEW"):
        LAYOUTS.write_text(
            json.dumps(layouts, indent=1, ensure_ascii=False) + "\n", encoding="utf-8"
        )

    assert json.loads(LAYOUTS.read_text(encoding="utf-8")) == layouts


@pytest.mark.parametrize(
    ("rules", "words"),
    [
        ({}, []),
        ({"retry": {"attempts": 3}}, ["up to 3 tries"]),
        ({"retry": {"attempts": None}}, ["tries without limit"]),
        ({"timeout": 90, "deadline": 60}, ["timeout 1 min 30 s", "deadline 1 min"]),
        ({"quiet_for": 60}, ["quiet for 1 min at most"]),
        ({"quiet_for": 60, "if_quiet": "fail"}, ["quiet for 1 min at most"]),
        ({"quiet_for": 60, "if_quiet": "retry"}, ["quiet for 1 min at most, then tried again"]),
        ({"only_on": ["gpu", "disk"]}, ["only on gpu, disk"]),
        ({"memory": 2**20, "losses": 0}, ["at most 1 MB of memory", "bears 0 losses"]),
        ({"priority": -2}, ["priority -2"]),
        ({"pool": "quay"}, ["pool quay"]),
        ({"pool": "quay", "per": {"param": "port"}}, ["pool quay per param port"]),
    ],
)
def test_each_rule_of_a_step_is_in_words(rules: dict[str, Any], words: list[str]) -> None:
    """And no other."""
    assert part_words.rules({"rules": rules}) == words
