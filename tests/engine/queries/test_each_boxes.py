"""What the boxes inside an each show is what its items show, added up: at every moment."""

from __future__ import annotations

import random
import re
from collections import Counter, defaultdict
from datetime import datetime, timedelta
from typing import Any

import pytest

from tests.engine.queries.test_past_states import run_to_end, world
from tests.floor import Floor, floor, task_loom
from tests.helpers import much
from yarnloom import Loom, each, item, previous, sequence, step
from yarnloom.engine.commands import CancelRun, MendRun, PauseRun, ResumeRun
from yarnloom.units import EPOCH

SEEDS = much(3, 300)
Found = dict[str, Counter[str]]
UNDER_WAY = ("ready", "running", "backing_off", "resting", "paused")


def shown(view: dict[str, Any], inside: bool = False) -> Found:
    """By address what each box inside an each shows, as far as anything is there."""
    found: Found = {}
    if inside and "counts" in view:
        counts = {name: number for name, number in view["counts"].items() if number}
        total = counts.pop("total", 0)
        assert total == sum(counts.values()), view["address"]
        found[plain(view["address"])] = Counter(counts)
    for part in [*view.get("parts", ()), *view.get("follow_ups", {}).values()]:
        found |= shown(part, inside)
    if "do" in view:
        found |= shown(view["do"], True)
    return {address: counts for address, counts in found.items() if counts}


def added_up(
    at: Floor, number: int, view: dict[str, Any], moment: int | None, inside: bool = False
) -> dict[str, Counter[str]]:
    """The same from what each item shows by itself."""
    found: dict[str, Counter[str]] = defaultdict(Counter)
    if view.get("begun") is False:
        return found
    address = view["address"]
    if inside and view["kind"] == "step":
        waits_behind = "/on_" in address and view["state"] == "waiting"
        found[plain(address)][view["state"]] += not waits_behind  # nobody knows how many will be
    if view["kind"] == "each" and "counts" in view:
        if inside:
            counts = {name: one for name, one in view["counts"].items() if name != "total"}
            found[plain(address)].update(counts)
        for item in at.inline.items(number, address):
            graph = at.inline.graph(number, item["address"], moment)
            for where, counts in added_up(at, number, graph, moment, True).items():
                found[where] += counts
    for part in [*view.get("parts", ()), *view.get("follow_ups", {}).values()]:
        for where, counts in added_up(at, number, part, moment, inside).items():
            found[where] += counts
    return {where: +counts for where, counts in found.items() if +counts}


def ended(view: dict[str, Any], inside: bool = False) -> Found:
    """By step inside an each how many attempts had ended, and how long the longest took."""
    found: Found = {}
    if inside and view.get("took"):
        took = view["took"]
        assert sum(bar["number"] for bar in took["histogram"]) == took["ended"]
        longest = round(took["longest"] * 1_000_000)
        found[plain(view["address"])] = Counter(number=took["ended"], longest=longest)
    for part in [*view.get("parts", ()), *view.get("follow_ups", {}).values()]:
        found |= ended(part, inside)
    if "do" in view:
        found |= ended(view["do"], True)
    return found


def micros(moment: str) -> int:
    """A moment as the store has it."""
    return (datetime.fromisoformat(moment) - EPOCH) // timedelta(microseconds=1)


def plain(address: str) -> str:
    """An address without the keys of items."""
    return re.sub(r"\[[^]]*\]", "", address)


class Checker:
    """Compares at each moment; stands where `run_to_end` expects who notes what is seen."""

    def __init__(self, at: Floor, number: int) -> None:
        self.at, self.number = at, number
        self.moments: list[int] = []

    def note(self) -> None:
        """Compare what is there now."""
        self.moments.append(self.at.inline.clock.now)
        self.compare()
        self.at.advance(0.01)

    def compare(self, moment: int | None = None) -> None:
        """What the boxes show is what the items show."""
        graph = self.at.inline.graph(self.number, "", moment)
        assert shown(graph) == added_up(self.at, self.number, graph, moment), moment
        assert ended(graph) == self.ended_by(moment), moment

    def ended_by(self, moment: int | None) -> Found:
        """By step inside an each how many attempts came to an end, and the longest."""
        found: Found = defaultdict(Counter)
        for attempt in self.at.inline.attempts(self.number)["attempts"]:
            came = attempt["outcome"] in ("done", "failed", "refused") and attempt["begun_at"]
            by_then = came and (moment is None or micros(attempt["ended_at"]) <= moment)
            if by_then and "[" in attempt["address"]:
                took = micros(attempt["ended_at"]) - micros(attempt["begun_at"])
                counter = found[plain(attempt["address"])]
                counter["number"] += 1
                counter["longest"] = max(counter["longest"], took)
        return found


@pytest.mark.parametrize("seed", range(SEEDS))
def test_boxes_show_what_items_show(seed: int) -> None:
    """While it runs, when it has ended, and when it was mended; and looking back."""
    choose = random.Random(seed)
    with floor() as at:
        checker = Checker(at, world(at, seed, choose))
        run_to_end(at, checker, choose)
        checker.note()
        for moment in checker.moments[:: 1 + len(checker.moments) // 10]:
            checker.compare(moment)
        if at.inline.run(checker.number)["state"] == "failed":
            at.do(MendRun(checker.number, "t"))
            run_to_end(at, checker, choose, tries=5)
            checker.note()
            for moment in checker.moments[:: 1 + len(checker.moments) // 10]:
                checker.compare(moment)


@pytest.mark.parametrize("seed", range(SEEDS))
def test_boxes_show_what_items_show_after_a_stop(seed: int) -> None:
    """The run is paused, resumed, cancelled and mended."""
    choose = random.Random(seed)
    with floor() as at:
        number = world(at, seed, choose)
        checker = Checker(at, number)
        for command in (PauseRun, ResumeRun, CancelRun):
            some_end(at, choose)
            if at.inline.run(number)["state"] in FITS[command]:
                at.do(command(number, "t"))
            checker.note()
        run_to_end(at, checker, choose)
        if at.inline.run(number)["state"] in ("cancelled", "failed"):
            at.do(MendRun(number, "t"))
            run_to_end(at, checker, choose, tries=5)
            checker.note()


FITS: dict[Any, tuple[str, ...]] = {
    PauseRun: ("running",),
    ResumeRun: ("pausing", "paused"),
    CancelRun: ("running",),
}
"""In which states of a run each command is given."""


def some_end(at: Floor, choose: random.Random) -> None:
    """Some of what is in hand ends well."""
    for _ in range(choose.randrange(4)):
        if at.running:
            at.end(choose.choice(at.running), output=choose.randrange(4))


def barns() -> Loom:
    """Eaches in an each, with steps before and behind, of which any may fail."""
    loom, work = task_loom("barns")
    sacks = each(
        "sacks",
        over=[1, 2, 3],
        if_one_fails="finish",
        do=sequence(step("weigh", work, value=item()), step("label", work, value=previous)),
    )
    barn = sequence(step("open", work, value=item()), sacks, step("close", work, value=1))
    for name, rule in (("stop", "stop"), ("finish", "finish"), ("cancel", "cancel")):
        plan = each("barns", over=[1, 2, 3, 4], at_once=2, if_one_fails=rule, do=barn)
        loom.workflow(name, plan=sequence(plan, step("report", work, value=1)))
    return loom


@pytest.mark.parametrize("seed", range(2 * SEEDS))
def test_boxes_show_what_items_show_where_much_fails(seed: int) -> None:
    """Steps behind a failure never begin, until a mend; again and again, looking back too."""
    choose = random.Random(seed)
    with floor() as at:
        at.publish(barns())
        at.worker(places=1 + seed % 4)
        number = at.start(choose.choice(("stop", "finish", "cancel")))
        checker = Checker(at, number)
        for round_ in range(4):
            while at.inline.run(number)["state"] not in ("done", "failed", "cancelled"):
                if choose.random() < 0.5:
                    checker.note()
                address = choose.choice(at.running)
                if choose.random() < 0.2 / (1 + round_):
                    at.fail(address)
                else:
                    at.end(address, output=1)
            checker.note()
            if at.inline.run(number)["state"] == "done":
                break
            for moment in checker.moments[-5:]:
                checker.compare(moment)
            at.do(MendRun(number, "t"))
            checker.note()
        for moment in checker.moments[:: 1 + len(checker.moments) // 8]:
            checker.compare(moment)
