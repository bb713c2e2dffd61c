"""Pools with a rate: how many attempts may begin in a time."""

from __future__ import annotations

from collections import Counter
from typing import Any

import pytest

from tests.engine.dispatch.test_pools import begin
from tests.floor import Floor, task_loom
from yarnloom import Rate, each, item, step
from yarnloom.errors import LoomError


def test_a_rate_counts_begins_not_hand_outs(at: Floor) -> None:
    """What was handed out may begin any moment; what was handed back never did."""
    at.begins = False
    number = begin(at, rate=Rate(1, per="10s"))
    at.advance(60)
    assert len(at.running) == 1
    at.begin(f"{number}/all[0]/it")
    at.advance(9.9)
    assert len(at.running) == 1
    at.advance(0.1)
    assert len(at.running) == 2
    at.end(f"{number}/all[1]/it", "handed_back")
    assert len(at.running) == 2


def test_a_rate_survives_restarts_and_changes(at: Floor) -> None:
    """What began before counts, also for a rate that was set only afterwards."""
    begin(at, limit=5)
    at.drain(
        lambda one: at.end(one) if len(at.log) < 20 else at.change("link", limit=0) and at.end(one)
    )
    begun = len(at.log)
    at.advance(5)
    at.change("link", limit=50, rate={"count": begun + 2, "per": 10.0})
    assert len(at.log) == begun + 2
    at.inline.restart()
    at.worker()
    at.advance(4.9)
    assert len(at.log) == begun + 2
    at.advance(0.2)
    assert len(at.log) > begun + 2


@pytest.mark.parametrize(("count", "per"), [(0, 1), (1.5, 1), (1, 0), (1, "soon"), (200_000, 1)])
def test_a_rate_that_makes_no_sense_is_refused(count: Any, per: Any) -> None:
    """Where it is written."""
    with pytest.raises(LoomError, match="Rate"):
        Rate(count, per)


def test_nothing_is_handed_out_ahead_from_a_pool_with_a_rate(at: Floor) -> None:
    """A worker that takes work ahead holds nothing that another could begin."""
    loom, work = task_loom()
    loom.pool("link", rate=Rate(1_000, per="1s"))
    loom.workflow("pooled", plan=each("a", over=list(range(9)), do=step("it", work, pool="link")))
    loom.workflow("free", plan=each("a", over=list(range(9)), do=step("it", work)))
    at.publish(loom)
    at.worker(places=2, ahead=4)
    at.start("free")
    assert len(at.running) == 6
    at.drain()
    pooled = at.start("pooled")
    assert len(at.running) == 2
    at.start("free", priority=-1)
    assert Counter(one.partition("/")[0] for one in at.running) == {str(pooled): 2}
    at.drain()


def test_values_are_forgotten_when_their_rate_does_not_count_them_any_more(at: Floor) -> None:
    """A million customers are not a million entries for ever."""
    loom, work = task_loom()
    loom.pool("link", rate=Rate(5, "10s"))
    do = step("it", work, pool="link", per=item())
    loom.workflow("all", plan=each("all", over=list(range(40)), do=do))
    at.publish(loom)
    at.worker(places=40)
    at.start("all")
    at.drain()
    limiters = at.inline.engine._memory.pools.limiters("link")
    assert len(limiters) == 40
    at.advance(10.1)

    assert limiters == {}
