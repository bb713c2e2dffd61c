"""How far runs are and how long they take yet, on a clock that moves by their steps alone."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

import pytest

from tests.floor import Floor, floor
from tests.helpers import much
from yarnloom import Loom, each, item, parallel, sequence, step
from yarnloom.engine.commands import ChangePool, MendRun, PauseRun, Report, ResumeRun
from yarnloom.engine.use_cases import progress_samples
from yarnloom.plan import Part

SHAPES = 8
READINGS = 40
"""How often a run is looked at, about."""


class Maker:
    """Makes plans of different shapes; their steps take half a second to eight seconds."""

    def __init__(self, seed: int, work: Callable[..., Any]) -> None:
        self.choose = random.Random(seed)
        self.work = work
        self.takes: dict[str, float] = {}
        self.shape = seed % SHAPES

    def step(self, **options: Any) -> Part:
        """A step with a name of its own."""
        label = f"s{len(self.takes)}"
        self.takes[label] = self.choose.choice((0.5, 1.0, 2.0, 4.0, 8.0))
        return step(label, self.work, **options)

    def steps(self, low: int, high: int) -> list[Part]:
        """Some of them."""
        return [self.step() for _ in range(self.choose.randint(low, high))]

    def each(self, count: int, inside: int = 1, **options: Any) -> Part:
        """An each over so many items, with so many steps in each."""
        inner = [self.step(value=item(), **options) for _ in range(inside)]
        return each(f"e{len(self.takes)}", over=list(range(count)), do=sequence(*inner))

    def plan(self) -> Part:
        """A plan."""
        choose = self.choose
        match self.shape:
            case 0:
                return sequence(self.step(), self.each(choose.choice((100, 150))), self.step())
            case 1:
                return sequence(*self.steps(3, 8))
            case 2:
                return sequence(self.step(), parallel("p", *self.steps(3, 9)), self.step())
            case 3:
                return sequence(self.each(100, inside=2), self.step())
            case 4:
                branch = sequence("q", self.step(), self.step())
                return sequence(parallel("p", branch, self.each(120), self.step()), self.step())
            case 5:
                many = self.each(choose.choice((20, 40)), inside=choose.randint(1, 3))
                return sequence(self.step(), many, *self.steps(1, 2))
            case 6:
                return sequence(self.step(), self.each(120, pool="gate"), self.step())
            case _:
                branches = [sequence(f"q{branch}", *self.steps(1, 4)) for branch in range(4)]
                return sequence(self.step(), parallel("p", *branches), self.step())


@dataclass
class Seen:
    """What was seen of a run: times, and what its progress was."""

    readings: list[tuple[float, float | None, float | None, bool]] = field(default_factory=list)
    ended_at: float = 0.0

    def account(self) -> Counter[str]:
        """How many readings with more than two seconds left were right, wrong and without one.

        One that says "at least" is counted apart: "least", or "too much" where there was less.
        """
        account: Counter[str] = Counter()
        for at, _, told, least in self.readings:
            left = self.ended_at - at
            if left <= 2:
                continue
            if told is None:
                account["none"] += 1
            elif least:
                account["least" if told <= 1.25 * left else "too much"] += 1
            else:
                account["right" if abs(told - left) <= 0.25 * left else "wrong"] += 1
        return account

    def falls(self) -> list[tuple[float, float]]:
        """Where it went back."""
        shares = [share for _, share, *_ in self.readings if share is not None]
        return [(a, b) for a, b in pairwise(shares) if b < a - 1e-5]


def drive(at: Floor, maker: Maker, *runs: int) -> dict[int, Seen]:
    """Let runs go to their ends, and look at them now and then."""
    seen = {run: Seen() for run in runs}
    ends: dict[str, float] = {}
    clock, choose = at.inline.clock, maker.choose
    pause = sum(maker.takes.values()) / READINGS
    while at.running:
        for address in at.running:
            takes = maker.takes[address.rpartition("/")[2]]
            ends.setdefault(address, clock.mono + takes * choose.uniform(0.7, 1.3))
        first = min(at.running, key=ends.__getitem__)
        while (gap := ends[first] - clock.mono) > 0:
            clock.advance(min(gap, pause))
            look(at, seen)
        for name in at.hands:
            at.inline.do(Report(name))
        at.end(first)
        del ends[first]
    return seen


def look(at: Floor, seen: dict[int, Seen]) -> None:
    """Note how far runs are."""
    for number, of_run in seen.items():
        run = at.inline.run(number)
        if run["state"] == "running":
            progress = run["progress"]
            told = (progress["fraction"], progress["seconds_left"], progress["at_least"])
            of_run.readings.append((at.inline.clock.mono, *told))
            of_run.ended_at = at.inline.clock.mono


def published(at: Floor, seed: int) -> Maker:
    """A loom with a plan by this seed, and a worker with four places."""
    loom = Loom("l")
    loom.pool("gate", limit=2)

    @loom.task
    def work(value: Any = None) -> Any:
        raise NotImplementedError

    maker = Maker(seed, work)
    loom.workflow("w", plan=maker.plan())
    at.publish(loom)
    at.worker("a", places=4)
    return maker


def test_time_left_is_right_and_progress_never_falls() -> None:
    """Within a quarter in nine of ten readings; known in half of a first run, and always later."""
    first, later = Counter[str](), Counter[str]()
    many: Counter[str] = Counter()
    for seed in range(much(SHAPES, 5 * SHAPES)):
        with floor() as at:
            maker = published(at, seed)
            for account in (first, later):
                number = at.start("l/w")
                seen = drive(at, maker, number)[number]
                account.update(seen.account())
                if account is first and maker.shape in (0, 3, 4, 6):
                    many.update(seen.account())
                assert seen.falls() == [], (seed, account is first)
                run = at.inline.run(number)
                assert (run["state"], run["progress"]["fraction"]) == ("done", 1.0)
    both = first + later
    assert both["right"] >= 0.9 * (both["right"] + both["wrong"]), (first, later)
    assert both["least"] >= 0.9 * (both["least"] + both["too much"]), (first, later)
    assert many["none"] <= 0.5 * many.total(), many
    assert later["none"] <= 0.1 * later.total(), later


def test_two_runs_that_share_a_pool() -> None:
    """Each has half of it, and says so."""
    account: Counter[str] = Counter()
    with floor() as at:
        maker = published(at, 6)
        for _ in range(2):
            for number, seen in drive(at, maker, at.start("l/w"), at.start("l/w")).items():
                account.update(seen.account())
                assert seen.falls() == []
                assert at.inline.run(number)["state"] == "done"
    assert account["right"] >= 0.75 * (account["right"] + account["wrong"]), account


def test_looking_back_shows_what_was_shown_then(monkeypatch: pytest.MonkeyPatch) -> None:
    """At any moment of a run, also of one with many more samples than are kept."""
    monkeypatch.setattr(progress_samples, "KEPT", 20)
    with floor() as at:
        maker = published(at, 0)
        drive(at, maker, at.start("l/w"))
        number = at.start("l/w")
        mono, now = at.inline.clock.mono, at.inline.clock.now
        seen = drive(at, maker, number)[number]
        (kept,) = at.inline.database.writer.execute(
            "SELECT count(*) FROM progress_samples WHERE run = ?", (number,)
        ).fetchone()
        assert 10 <= kept <= 20 < len(seen.readings)
        for moment, fraction, left, _ in seen.readings:
            then = looked_back(at, number, now + round((moment - mono) * 1e6))
            if fraction is not None:
                assert then["fraction"] == pytest.approx(fraction, abs=0.05)
                assert (then["seconds_left"] is None) == (left is None)
        assert looked_back(at, number, now - 1)["fraction"] is None
        assert looked_back(at, number, at.inline.clock.now + 1_000_000)["fraction"] == 1.0


def looked_back(at: Floor, number: int, moment: int) -> dict[str, Any]:
    """The progress of a run at a moment."""
    progress: dict[str, Any] = at.inline.graph(number, "", moment)["progress"]
    return progress


def half_done(at: Floor) -> int:
    """Start a second run of a workflow, and let 20 of its attempts end."""
    drive(at, published(at, 6), at.start("l/w"))
    number = at.start("l/w")
    for _ in range(20):
        at.advance(1.0)
        at.end(at.running[0])
    return number


def test_nothing_moves_while_the_service_is_away() -> None:
    """What had been left when it stopped is left when it starts again, hours later."""
    with floor() as at:
        number = half_done(at)
        before = at.inline.run(number)["progress"]
        at.inline.clock.advance(10_000)
        at.inline.restart()
        at.worker("b")
        after = at.inline.run(number)["progress"]
        assert after["fraction"] == pytest.approx(before["fraction"], abs=0.01)
        assert after["seconds_left"] == pytest.approx(before["seconds_left"], rel=0.1)
        between = looked_back(at, number, at.inline.clock.now - 5_000 * 1_000_000)
        assert between["fraction"] == pytest.approx(before["fraction"], abs=0.01)
        assert between["seconds_left"] is None


@pytest.mark.parametrize("hold", ["pause", "pool"])
def test_progress_rests_while_a_run_is_held(hold: str) -> None:
    """There is no time left to tell, and it goes on from where it was."""
    with floor() as at:
        number = half_done(at)
        before = at.inline.run(number)["progress"]
        assert before["seconds_left"] is not None
        if hold == "pause":
            at.do(PauseRun(number, "t"))
        else:
            at.do(ChangePool("gate", {"limit": 0}, "t"))
        while at.running:
            at.end(at.running[0])
        held = at.inline.run(number)["progress"]
        at.inline.clock.advance(1_000)
        rested = at.inline.run(number)["progress"]
        assert (rested["fraction"], rested["seconds_left"]) == (held["fraction"], None)
        at.do(ResumeRun(number, "t") if hold == "pause" else ChangePool("gate", {"limit": 2}, "t"))
        at.advance(0.5)
        at.end(at.running[0])
        after = at.inline.run(number)["progress"]
        assert before["fraction"] <= held["fraction"] <= after["fraction"] < 1
        assert after["seconds_left"] is not None


def test_a_mended_run_begins_with_what_is_kept() -> None:
    """Not at 0, and below what it was."""
    with floor() as at:
        loom = Loom("l")

        @loom.task
        def work(value: Any = None) -> Any:
            raise NotImplementedError

        inner = step("a", work, value=item())
        loom.workflow("w", plan=each("e", over=list(range(10)), do=inner, if_one_fails="finish"))
        at.publish(loom)
        at.worker("a")
        run = at.start("l/w")
        for index in range(10):
            at.advance(1.0)
            (at.end if index < 5 else at.fail)(at.running[0])
        assert at.inline.run(run)["state"] == "failed"
        at.do(MendRun(run, "t"))
        assert at.inline.run(run)["progress"]["fraction"] is None
        for _ in range(2):
            at.advance(1.0)
            at.end(at.running[0])
        progress = at.inline.run(run)["progress"]
        assert progress["seconds_left"] == pytest.approx(3, rel=0.1)
        assert 0.5 < progress["fraction"] < 0.9
