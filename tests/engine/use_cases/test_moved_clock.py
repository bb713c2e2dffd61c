"""The machine's clock is set: waits that were given as durations stay as long as they are."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.floor import Floor, floor
from tests.helpers import much
from yarnloom import Loom, Retry, each, sequence, step
from yarnloom.engine.commands import Tick
from yarnloom.engine.rules.run_clock import Moment, Time

HOUR = 3_600
WAIT = 15.0


def publish(at: Floor) -> None:
    """A loom whose steps wait in every way."""
    loom = Loom("waits")

    @loom.task
    def work() -> int:
        """Work."""
        return 1

    retry = Retry(5, wait=WAIT, growth=1, jitter=0)
    within = Retry(50, wait=WAIT, growth=1, jitter=0, within="40s")
    loom.workflow("plain", plan=step("it", work))
    loom.workflow("tries", plan=step("it", work, retry=retry))
    loom.workflow("within", plan=step("it", work, retry=within))
    loom.workflow("deadline", plan=step("it", work, deadline=WAIT))
    loom.workflow("late", plan=step("it", work), deadline=WAIT)
    loom.workflow("two", plan=sequence(step("a", work), step("b", work)))
    loom.workflow("many", plan=each("all", over=[1, 2, 3], do=step("it", work), at_once=1))
    at.publish(loom)


@pytest.fixture
def at(tmp_path: Path) -> Iterator[Floor]:
    """A floor with that loom, and a worker."""
    with floor() as found:
        publish(found)
        found.worker(places=9)
        yield found


def set_clock(at: Floor, seconds: float) -> None:
    """Set the time of day, and let a second pass in which that is noticed."""
    at.inline.clock.now += round(seconds * 1_000_000)
    at.advance(0.5)
    at.do(Tick())


def waits(at: Floor, what: str) -> tuple[int, Any]:
    """Begin to wait in one of the ways; the run, and what tells whether it still waits."""
    if what == "start in":
        run = at.start("plain", start_in=WAIT)
        return run, lambda: at.inline.run(run)["state"] == "scheduled"
    name = {"back off": "tries", "rest": "plain", "deadline": "deadline", "run": "late"}[what]
    run = at.start(name)
    address = f"{run}/it"
    if what == "back off":
        at.end(address, "failed", error={"type": "E", "message": ""})
    elif what == "rest":
        at.end(address, "called_again", after=WAIT)
    if what in ("back off", "rest"):
        return run, lambda: not at.running
    return run, lambda: not any(order["kind"] == "stop" for order in at.hands["w"].orders)


WAYS = ("back off", "rest", "start in", "deadline", "run")


@pytest.mark.parametrize("what", WAYS)
@pytest.mark.parametrize("seconds", [-HOUR, HOUR, -3 * HOUR, 90])
def test_no_wait_changes_when_the_clock_is_set(at: Floor, what: str, seconds: float) -> None:
    """Set back or forward while it lasts: it ends when it was to."""
    _, still = waits(at, what)
    at.advance(5)
    set_clock(at, seconds)
    at.advance(WAIT - 5 - 0.5 - 2.5)
    assert still()
    at.advance(3)
    assert not still()


@settings(max_examples=much(40, 200))
@given(st.sampled_from(WAYS), st.lists(st.integers(-2 * HOUR, 2 * HOUR), max_size=5))
def test_no_wait_changes_however_often_it_is_set(what: str, jumps: list[int]) -> None:
    """Any sequence of jumps, with a second between them."""
    with floor() as at:
        publish(at)
        at.worker(places=9)
        _, still = waits(at, what)
        for jump in jumps:
            at.inline.clock.now += jump * 1_000_000
            at.advance(1)
        at.advance(WAIT - len(jumps) - 0.01)
        assert still()
        at.advance(0.02)
        assert not still()


def test_the_time_within_which_tries_may_begin_is_a_duration(at: Floor) -> None:
    """An hour that nobody waited is not counted."""
    run = at.start("within")
    at.end(f"{run}/it", "failed", error={"type": "E", "message": ""})
    set_clock(at, HOUR)
    at.advance(WAIT)
    at.end(f"{run}/it", "failed", error={"type": "E", "message": ""})
    assert at.inline.run(run)["state"] == "running"
    at.advance(WAIT)
    at.end(f"{run}/it", "failed", error={"type": "E", "message": ""})
    assert at.inline.run(run)["state"] == "failed"


@pytest.mark.parametrize("seconds", [-HOUR, HOUR])
def test_a_restart_bounds_a_wait_by_what_was_given(at: Floor, seconds: float) -> None:
    """The clock was set while the service was away: no wait is longer than it was to be."""
    run, _ = waits(at, "rest")
    at.advance(5)
    at.inline.clock.now += round(seconds * 1_000_000)
    at.inline.restart()
    at.worker()
    at.advance(WAIT)
    assert at.running == [f"{run}/it"]


def times(at: Floor, run: int) -> list[str]:
    """Every time that is shown of a run, in the order in which things happened."""
    view = at.inline.run(run)
    found = [view["created_at"], view["started_at"]]
    for attempt in at.inline.attempts(run)["attempts"]:
        found += [attempt["ready_at"], attempt["begun_at"], attempt["ended_at"]]
    return [one for one in [*found, view["ended_at"]] if one is not None]


def test_times_of_a_run_never_run_backwards(at: Floor) -> None:
    """However the clock is set while it runs, also over a restart; afterwards it is right again."""
    run = at.start("two")
    at.advance(10)
    set_clock(at, -HOUR)
    at.end(f"{run}/a")
    at.advance(10)
    at.inline.clock.now -= HOUR * 1_000_000
    at.inline.restart()
    at.worker()
    at.advance(10)
    at.end(f"{run}/b")
    shown = times(at, run)
    assert shown == sorted(shown)
    assert len(shown) == 9
    took = datetime.fromisoformat(shown[-1]) - datetime.fromisoformat(shown[0])
    assert 20 < took.total_seconds() < 40
    at.advance(1)
    later = at.start("plain")
    created = datetime.fromisoformat(at.inline.run(later)["created_at"]).timestamp()
    assert abs(created - at.inline.clock.now / 1e6) < 1


@given(moves=st.lists(st.integers(-3_000_000, 3_000_000), max_size=12))
def test_the_time_of_runs_never_goes_back_by_however_little(moves: list[int]) -> None:
    """With nothing under way it is the clock's time again."""
    clock, steady = 1_000_000_000, 0
    time = Time(Moment(clock, 0.0), 0)
    before = clock
    for move in moves:
        steady += 1_000
        clock += 1_000 + move
        time.look(Moment(clock, steady / 1e6), busy=True)
        assert clock + time.ahead >= before
        before = clock + time.ahead
    time.look(Moment(clock, steady / 1e6), busy=False)
    assert time.ahead == 0


def test_times_of_day_follow_the_clock(at: Floor) -> None:
    """Though another run keeps the time of runs ahead of it."""
    going = at.start("two")
    day = at.inline.clock.now + round(WAIT * 1_000_000)
    run = at.start("plain", start_at=day)
    late = at.start("plain", start_at=day + HOUR * 1_000_000, start_by=day + 2 * HOUR * 1_000_000)
    set_clock(at, -HOUR)
    at.advance(WAIT + 5)
    assert at.inline.run(run)["state"] == "scheduled"
    at.advance(HOUR)
    assert at.inline.run(run)["state"] == "running"
    assert at.inline.run(late)["state"] == "scheduled"
    set_clock(at, 3 * HOUR)
    assert at.inline.run(late)["state"] in ("cancelled", "running")
    assert at.inline.run(going)["state"] == "running"


def test_a_look_between_two_readings_of_the_clocks_changes_nothing() -> None:
    """Frozen between the two, the first reading is old: it looks set back, and then forward."""
    time = Time(Moment(1_000_000_000, 0.0), 0)
    assert time.look(Moment(1_001_000_000, 31.0), busy=True)
    assert (time.ahead, time.shift) == (30_000_000, 0)
    assert time.look(Moment(1_032_000_000, 32.0), busy=True)
    assert (time.ahead, time.shift) == (0, 0)
    assert not time.look(Moment(1_033_000_000, 33.0), busy=True)


def test_nothing_is_moved_twice_where_a_commit_fails(at: Floor) -> None:
    """What could not be stored is done again, as a whole."""
    _, still = waits(at, "rest")
    at.inline.clock.now += HOUR * 1_000_000
    unit = at.inline.engine._unit
    unit.execute("CREATE TEMP TRIGGER no BEFORE UPDATE ON steps BEGIN SELECT raise(FAIL, 'x'); END")
    unit.commit()
    at.inline.batch(Tick())
    unit.execute("DROP TRIGGER no")
    unit.commit()
    at.inline.clock.advance(1)
    at.inline.batch(Tick())
    at.worker()
    at.advance(WAIT - 2)
    assert still()
    at.advance(2)
    assert not still()
