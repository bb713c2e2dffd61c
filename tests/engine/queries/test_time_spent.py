"""Where a run's time went, folded: the same sums as its attempts have one by one."""

from __future__ import annotations

import contextlib
import random
import re
import sqlite3
from collections import defaultdict
from datetime import datetime
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.engine.queries.test_past_states import run_to_end, world
from tests.floor import floor
from tests.helpers import much
from yarnloom.engine.queries.time_spent import SLICES, WAITS, Slices, outliers, spending
from yarnloom.engine.state.each_counts import SLICES as KEPT
from yarnloom.engine.state.each_counts import EndedTry, TimeSums
from yarnloom.protocol.run_answers import Outliers, TimesAnswer
from yarnloom.service.render.answers import show
from yarnloom.store.database import create_tables
from yarnloom.store.runs import time_sums


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


@pytest.mark.parametrize("seed", range(much(7, 15)))
def test_sums_are_those_of_the_attempts(seed: int) -> None:
    """By step: how many, how long they ran and waited; and the slices add up to that."""
    choose = random.Random(seed)
    with floor() as at:
        number = world(at, seed, choose)
        run_to_end(at, Still(at, number, choose), choose)
        attempts = at.inline.attempts(number)["attempts"]
        found = show(TimesAnswer, at.inline._ask(number, spending, at.inline.clock.now))

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
    asked = (outliers, row["address"], at.inline.clock.now, 3)
    found = show(Outliers, at.inline._ask(number, *asked))
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
    slices = Slices(1_000, 100, 4)
    for begin, end in [(1_025, 1_350), (1_100, 1_150), (1_100, 1_150), (1_200, 1_400)]:
        slices.cover(begin, end)

    assert slices.mean() == [0.75, 2.0, 2.0, 1.5]


attempts_that_ended = st.lists(
    st.tuples(
        st.integers(-(10**7), 10**10),  # when it was ready
        st.integers(0, 10**9),  # how long it waited
        st.integers(0, 10**10),  # how long it ran
        st.booleans(),  # whether it failed
    ),
    min_size=1,
    max_size=40,
)


@settings(max_examples=much(60, 2_000), deadline=None)
@given(attempts_that_ended, st.integers(1, 8))
def test_kept_slices_are_exact_however_long_a_run_lasts(
    attempts: list[tuple[int, int, int, bool]], at_once: int
) -> None:
    """Slices that became wider have all that was in the narrow ones, written in any pieces."""
    with contextlib.closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
        create_tables(connection)
        unit: Any = SimpleNamespace(
            execute=lambda sql, values: connection.execute(sql, values).fetchall(),
            change=connection.execute,
            executemany=connection.executemany,
        )
        sums = TimeSums(unit)
        for number, (ready, waited, ran, failed) in enumerate(attempts):
            begun = ready + waited
            if failed:
                sums.end(1, 3, EndedTry(ready, begun, begun + ran, failed=True))
            else:
                sums.done(1, 3, [(ready, begun, begun + ran)])
            if number % at_once == 0:
                sums.write()
        sums.write()
        connection.row_factory = sqlite3.Row
        axis = time_sums.axis(connection, 1)
        assert axis is not None
        assert axis["high"] - axis["low"] < KEPT
        expected: dict[tuple[str, int], int] = defaultdict(int)
        ends: dict[int, list[bool]] = defaultdict(list)
        for ready, waited, ran, failed in attempts:
            for kind, begin, end in [
                ("worker", ready, ready + waited),
                ("ran", ready + waited, ready + waited + ran),
            ]:
                low, high = ((at - axis["first"]) // axis["width"] for at in (begin, end))
                for slice_ in range(low, high + 1):
                    left = axis["first"] + slice_ * axis["width"]
                    expected[kind, slice_] += min(end, left + axis["width"]) - max(begin, left)
                if kind == "ran":
                    ends[high].append(failed)
        rows = time_sums.slices(connection, 1)
        assert {(kind, at): micros for _, kind, at, micros, *_ in rows if micros} == {
            key: micros for key, micros in expected.items() if micros
        }
        assert {at: (ended, bad) for *_, at, _, ended, bad in rows if ended} == {
            at: (len(some), sum(some)) for at, some in ends.items()
        }
        (kept,) = time_sums.sums(connection, 1)
        assert kept["ran"] == sum(ran for _, _, ran, _ in attempts)
        assert kept["longest"] == max(ran for _, _, ran, _ in attempts)
