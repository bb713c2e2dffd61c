"""Where a run's time went, folded: the same sums as its attempts have one by one."""

from __future__ import annotations

import random
import re
from datetime import datetime
from typing import Any

import pytest

from tests.engine.queries.test_past_states import run_to_end, world
from tests.floor import floor
from yarnloom.engine.queries.time_spent import SLICES, WAITS, Slices, outliers, spending


class Still:
    """Stands where `run_to_end` expects who notes what is seen; lets time pass."""

    def __init__(self, at: Any, number: int, choose: random.Random) -> None:
        self.at, self.number, self.choose = at, number, choose

    def note(self) -> None:
        """Time passes."""
        self.at.advance(self.choose.choice((0.0, 0.001, 0.02, 1.5)))


def seconds(begin: str, end: str) -> float:
    """How long it was from one moment to another."""
    return (datetime.fromisoformat(end) - datetime.fromisoformat(begin)).total_seconds()


@pytest.mark.parametrize("seed", range(15))
def test_sums_are_those_of_the_attempts(seed: int) -> None:
    """By step: how many, how long they ran and waited; and the slices add up to that."""
    choose = random.Random(seed)
    with floor() as at:
        number = world(at, seed, choose)
        run_to_end(at, Still(at, number, choose), choose)
        attempts = at.inline.attempts(number)["attempts"]
        found = at.inline._look(number, spending, at.inline.clock.now)

        assert found["attempts"] == len(attempts)
        steps = [row for row in found["rows"] if row["kind"] == "step"]
        begun = [one for one in attempts if one["begun_at"]]
        ran = sum(seconds(one["begun_at"], one["ended_at"]) for one in begun)
        assert sum(row["attempts"] for row in steps) == len(begun)
        assert sum(row["ran"] for row in steps) == pytest.approx(ran)
        assert sum(row["failed"] for row in steps) == sum(
            one["outcome"] in ("failed", "refused", "lost") for one in begun
        )
        width = seconds(found["from"], found["to"]) / found["slices"] if attempts else 0
        for row in found["rows"]:
            slack = 0.006 * width * found["slices"] * 4  # each slice is rounded
            drawn = [(row["running"], row["ran"])]
            drawn += [(row["waiting"].get(kind, []), row["waited"][kind]) for kind in WAITS]
            for slices, total in drawn:
                assert sum(slices) * width == pytest.approx(total, abs=slack + 1e-6)
            check_outliers(at, number, row, begun)
        waited = sum(row["waited"]["pool"] + row["waited"]["worker"] for row in steps)
        assert waited == pytest.approx(
            sum(seconds(one["ready_at"], one["begun_at"] or one["ended_at"]) for one in attempts)
        )
        assert found["slices"] <= SLICES


def check_outliers(at: Any, number: int, row: Any, begun: list[Any]) -> None:
    """Those of a row are the slowest, and the first failed, among its attempts."""
    found = at.inline._look(number, outliers, row["address"], at.inline.clock.now, 3)
    ways = (row["address"], f"{row['address']}/") if row["kind"] == "each" else (row["address"],)
    places = [(one, bare(one["address"])) for one in begun]
    inside = [one for one, at_ in places if at_ == ways[0] or at_.startswith(ways[1:])]
    took = sorted((seconds(one["begun_at"], one["ended_at"]) for one in inside), reverse=True)
    slowest = [seconds(one["begun_at"], one["ended_at"]) for one in found["slowest"]]
    failed = [one["id"] for one in inside if one["outcome"] in ("failed", "refused", "lost")]
    assert slowest == took[:3]
    assert [one["id"] for one in found["failed"]] == failed[:3]


def bare(address: str) -> str:
    """An address without the keys of items."""
    return re.sub(r"\[[^\]]*\]", "", address)


def test_slices_have_what_was_there_in_them() -> None:
    """Part of a slice counts as a part; two at once count twice."""
    slices = Slices(1_000, 100.0, 4)
    slices.add(1, 0, 3, 1_025, 1_350)
    slices.add(2, 1, 1, 2 * 1_100, 2 * 1_150)
    slices.add(1, 2, 4, 1_200, 1_400)

    assert slices.mean() == [0.75, 2.0, 2.0, 1.5]
