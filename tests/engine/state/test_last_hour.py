"""The last hour, by minute: what began and ended, how long it waited, how full pools were."""

from __future__ import annotations

from typing import Any

import pytest

from tests.floor import Floor, floor, task_loom
from yarnloom import each, item, step
from yarnloom.engine.commands import Recently
from yarnloom.engine.rules.limits import Pools
from yarnloom.errors import NotFound

MINUTE = 60.0


def minutes(at: Floor) -> list[dict[str, Any]]:
    """The last hour."""
    found: list[dict[str, Any]] = at.do(Recently())
    return found


def busy(at: Floor) -> None:
    """A loom with a pool of two, whose steps come three at a time."""
    loom, work = task_loom()
    loom.pool("gauge", limit=2)
    do = step("it", work, value=item(), pool="gauge")
    plan = each("all", over=[1, 2, 3], if_one_fails="finish", do=do)
    loom.workflow("three", plan=plan)
    at.publish(loom)
    at.worker(places=9)


def test_what_began_and_ended_is_counted_in_its_minute() -> None:
    """With how long it had waited; a minute in which nothing happened is there too."""
    with floor() as at:
        busy(at)
        at.start("three")
        at.advance(30.0)
        at.fail("1/all[0]/it")
        at.advance(MINUTE)
        at.drain()
        at.advance(MINUTE)

        last = minutes(at)[-3:]
        assert [one.begun for one in last] == [3, 0, 0]
        assert [one.ended for one in last] == [1, 2, 0]
        assert [one.failed for one in last] == [1, 0, 0]
        assert (last[0].waited, last[0].longest) == (30.0, 30.0)
        assert len(minutes(at)) == 60


def test_after_an_hour_it_is_forgotten() -> None:
    """So that it never grows."""
    with floor() as at:
        busy(at)
        for _ in range(70):
            at.start("three")
            at.drain()
            at.advance(MINUTE)
        assert sum(minute.ended for minute in minutes(at)) == 59 * 3
        at.advance(3_600.0)

        assert sum(minute.ended for minute in minutes(at)) == 0


def test_a_start_counts_it_anew_from_the_records() -> None:
    """What is in memory is as it was."""
    with floor() as at:
        busy(at)
        at.start("three")
        at.advance(MINUTE)
        at.drain()
        before = minutes(at)
        at.inline.restart()

        assert minutes(at) == before
        assert sum(one.ended for one in before) == 3


def test_a_pool_is_told_of_since_it_was_looked_at() -> None:
    """At most in use and waiting in each minute; where nothing changed, as it was."""
    with floor() as at:
        busy(at)
        at.advance(1.0)
        at.start("three")
        at.advance(3 * MINUTE)
        at.change("gauge", limit=3)
        at.advance(MINUTE)
        at.drain()
        at.advance(1.0)

        levels = at.do(Recently("gauge"))
        told = [(level.in_use, level.waiting, level.limit) for level in levels]
        assert told == [(2, 1, 2), (2, 1, 2), (2, 1, 2), (3, 1, 3), (3, 0, 3)]
        with pytest.raises(NotFound):
            at.do(Recently("gorge"))


def test_many_changes_look_at_a_pool_once_a_second(monkeypatch: pytest.MonkeyPatch) -> None:
    """However many there are."""
    looks = []
    limiters = Pools.limiters
    with floor() as at:
        busy(at)
        at.advance(5.0)
        monkeypatch.setattr(Pools, "limiters", lambda *args: looks.append(args) or limiters(*args))
        for _ in range(50):
            at.start("three")
            at.drain()

        assert len(looks) == 1
