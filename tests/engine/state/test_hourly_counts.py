"""What ended over days: the same as the attempts and runs themselves say."""

from __future__ import annotations

import random
from collections import Counter

import pytest

from tests.engine.queries.test_past_states import run_to_end, world
from tests.engine.queries.test_time_spent import Still
from tests.floor import floor
from yarnloom.engine.state import hourly_counts
from yarnloom.plan import read_plan
from yarnloom.store.runs import run_lists
from yarnloom.store.workers import workflow_records

DAY_SECONDS = 86_400.0


@pytest.mark.parametrize("seed", range(10))
def test_what_ended_is_what_is_recorded(seed: int) -> None:
    """By step and outcome; the median is one of a tenth around the true one."""
    choose = random.Random(seed)
    with floor() as at:
        number = world(at, seed, choose)
        run_to_end(at, Still(at, number, choose), choose)
        attempts = at.inline.attempts(number)["attempts"]
        plan = at.inline.database.read(
            lambda one: read_plan(
                workflow_records.plan_document(one, run_lists.run(one, number)["plan"])
            )
        )
        ask = lambda days: at.inline.database.read(  # noqa: E731
            lambda one: hourly_counts.over_days(one, plan, at.inline.clock.now, days)
        )
        found = ask(2)

        wanted: Counter[tuple[str, str]] = Counter()
        for one in attempts:
            step = "".join(piece.partition("[")[0] + "/" for piece in one["address"].split("/"))
            wanted[step.rstrip("/"), one["outcome"]] += 1
        got = {
            (row.address, outcome): many
            for row in found.steps
            for outcome, many in row.outcomes.items()
        }
        assert got == dict(wanted)
        state = at.inline.run(number)["state"]
        assert found.days[-1].outcomes == {state: 1}
        assert found.days[0].ended == 0

        at.inline.clock.advance(3 * DAY_SECONDS)
        assert not any(day.ended for day in ask(2).days)
        assert sum(day.ended for day in ask(7).days) == 1


def test_quantiles_are_within_five_percent() -> None:
    """Of any durations."""
    choose = random.Random(1)
    durations = sorted(int(choose.lognormvariate(10, 2)) + 2 for _ in range(999))
    buckets = sorted(
        Counter(hourly_counts.counter_records.bucket_of(duration) for duration in durations).items()
    )
    for share in (0.5, 0.95):
        found = hourly_counts._quantile(buckets, share)
        true = durations[int(share * 999)] / 1_000_000
        assert found == pytest.approx(true, rel=0.06)
