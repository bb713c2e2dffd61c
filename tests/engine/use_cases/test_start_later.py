"""Runs that start later, expire, or are started by the thousand. Time moves by hand."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from pydantic import BaseModel

from tests.floor import Floor, floor, task_loom
from tests.fractions import broken_fractions
from yarnloom import param, planned_at, sequence, step
from yarnloom.engine.commands import (
    CancelRun,
    CheckStarts,
    ListWorkers,
    MendRun,
    PauseRun,
    ResumeRun,
    StartMany,
    StartRun,
    Tick,
)
from yarnloom.engine.records.runs import StartedOne
from yarnloom.engine.use_cases.start import OPENED_AT_ONCE
from yarnloom.errors import Conflict, InvalidInput, StartKeyTaken
from yarnloom.store import audit

NOW = 1_800_000_000_000_000
SECOND = 1_000_000


class Job(BaseModel):
    """What a run is started with."""

    order: int = 0


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor with a worker and a workflow of two steps, and right records at the end."""
    with floor() as found:
        loom, work = task_loom()
        plan = sequence(step("it", work, value=param("order")), step("then", work))
        loom.workflow("w", params=Job, plan=plan, on_end=step("end", work))
        loom.workflow("few", params=Job, plan=step("it", work), at_once=1)
        loom.workflow("hurried", params=Job, plan=step("it", work), deadline="10s")
        loom.workflow("planned", plan=step("it", work, value=planned_at()))
        found.publish(loom)
        found.worker(places=5)
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


def many(at: Floor, *starts: StartRun) -> list[dict[str, Any]]:
    """Start many; what the service does."""
    found: list[dict[str, Any]] = at.do(StartMany(tuple(at.do(CheckStarts(starts)))))
    return found


def states(at: Floor, *numbers: int) -> list[str]:
    """How runs stand."""
    return [at.inline.run(number)["state"] for number in numbers]


@pytest.mark.parametrize("restart", [False, True])
def test_a_run_starts_when_its_time_has_come(at: Floor, restart: bool) -> None:
    """At a time, or after one; not before, and not later, also after a restart."""
    first = at.start("w", start_at=NOW + 60 * SECOND)
    second = at.start("w", start_in=90.0)
    assert states(at, first, second) == ["scheduled", "scheduled"]
    assert at.inline.run(second)["start_at"] == "2027-01-15T08:01:30.000000Z"
    (reason,) = at.inline.why(first)["reasons"]
    assert (reason["kind"], reason["start_at"]) == ("scheduled", "2027-01-15T08:01:00.000000Z")
    if restart:
        at.inline.restart()
        at.worker()
    at.advance(59.9)
    assert at.running == []
    at.advance(0.1)
    assert (at.running, states(at, first, second)) == ([f"{first}/it"], ["running", "scheduled"])
    at.advance(30.0)
    assert at.running == [f"{first}/it", f"{second}/it"]


def test_a_time_that_is_behind_is_now(at: Floor) -> None:
    """It starts at once."""
    assert states(at, at.start("w", start_at=NOW - SECOND)) == ["running"]


def test_a_scheduled_run_is_cancelled_at_once_and_can_be_mended(at: Floor) -> None:
    """Nothing of it ran, no follow-up either; mended it runs at once."""
    number = at.start("w", start_in=60.0)
    assert at.do(CancelRun(number, "t")).state == "cancelled"
    at.advance(60.0)
    assert at.running == []
    assert at.do(MendRun(number, "t")).state == "running"
    at.drain()
    assert states(at, number) == ["done"]


def test_a_scheduled_run_that_is_paused_keeps_its_time(at: Floor) -> None:
    """Resumed before it, it is scheduled again; after it, it starts at once."""
    number = at.start("w", start_in=60.0)
    assert at.do(PauseRun(number, "t")).state == "paused"
    assert at.do(ResumeRun(number, "t")).state == "scheduled"
    at.do(PauseRun(number, "t"))
    at.advance(120.0)
    assert (states(at, number), at.running) == (["paused"], [])
    at.inline.restart()
    at.worker()
    at.do(ResumeRun(number, "t"))
    at.advance(0.0)
    assert at.running == [f"{number}/it"]


def test_a_paused_scheduled_run_can_be_cancelled_and_mend_is_refused_before(at: Floor) -> None:
    """As any that has not ended."""
    number = at.start("w", start_in=60.0)
    with pytest.raises(Conflict):
        at.do(MendRun(number, "t"))
    at.do(PauseRun(number, "t"))
    assert at.do(CancelRun(number, "t")).state == "cancelled"


def test_a_scheduled_run_takes_no_place_of_its_workflow(at: Floor) -> None:
    """What comes first begins first; when its time comes it waits as others do."""
    later = at.start("few", start_in=60.0)
    now = at.start("few")
    at.advance(60.0)
    assert (states(at, now, later), at.running) == (["running", "queued"], [f"{now}/it"])
    assert at.inline.why(later)["reasons"][0]["kind"] == "busy"
    at.end(f"{now}/it")
    assert at.running == [f"{later}/it"]


def test_a_deadline_counts_from_the_start(at: Floor) -> None:
    """Not from when it was planned."""
    number = at.start("hurried", start_in=60.0)
    assert at.inline.run(number)["deadline_at"] is None
    at.advance(60.0)
    at.advance(9.9)
    assert at.inline.run(number)["stop_asked"] is None
    at.advance(0.1)
    assert at.inline.run(number)["stop_asked"] == "deadline"


# Start by


@pytest.mark.parametrize("how", ["queued", "scheduled", "paused", "restarted"])
def test_what_has_not_begun_in_time_expires(at: Floor, how: str) -> None:
    """Whatever it waited for; it ends cancelled, and says why."""
    busy = [at.start("w") for _ in range(5)]
    wait = 300.0 if how == "scheduled" else None
    by = NOW + (400 if how == "scheduled" else 60) * SECOND
    number = at.start("w", start_by=by, start_in=wait)
    if how == "paused":
        at.do(PauseRun(number, "t"))
    if how == "restarted":
        at.inline.restart()
        at.worker()
    at.advance(59.0)
    at.advance(300.0 if how == "scheduled" else 0.9)
    assert states(at, number) == ["paused" if how == "paused" else "queued"]
    at.advance(100.0)
    run = at.inline.run(number)
    assert (run["state"], run["error"]["type"]) == ("cancelled", "Expired")
    assert "it had not begun by" in run["error"]["message"]
    assert states(at, *busy) == ["running"] * 5


def test_the_engine_is_due_when_a_run_expires(at: Floor) -> None:
    """So that an idle service wakes up for it."""
    for _ in range(5):
        at.start("w")
    at.advance(20.0)
    assert at.inline.engine.next_due_of_runs() is None
    at.start("w", start_by=at.inline.clock.now + 60 * SECOND)

    assert at.inline.engine.next_due_of_runs() == pytest.approx(at.inline.clock.mono + 60.0)


def test_what_has_begun_in_time_goes_on(at: Floor) -> None:
    """Also when the time has come; and one that expired can be mended."""
    number = at.start("w", start_by=NOW + 60 * SECOND)
    at.advance(120.0)
    assert states(at, number) == ["running"]
    at.drain()
    late = [at.start("w", start_by=at.inline.clock.now + SECOND) for _ in range(6)][-1]
    at.advance(5.0)
    assert states(at, late) == ["cancelled"]
    at.drain()
    at.do(MendRun(late, "t"))
    at.advance(5.0)
    assert at.running == [f"{late}/it"]


def test_a_run_that_could_never_begin_is_refused(at: Floor) -> None:
    """A time behind, or before its start."""
    for options in ({"start_by": NOW}, {"start_by": NOW + SECOND, "start_in": 2.0}):
        with pytest.raises(InvalidInput, match="could never begin") as refused:
            at.start("w", **options)
        assert [problem.where for problem in refused.value.problems] == ["/start_by"]


# The clock is set


def test_a_clock_that_is_set_forward_is_noticed_by_the_next_command(at: Floor) -> None:
    """The timer goes by the steady clock; whatever is done next sets it anew."""
    number = at.start("w", start_at=at.inline.clock.now + 3_600 * SECOND)
    at.inline.clock.now += 7_200 * SECOND  # the machine slept, or someone set its clock
    results = at.inline.batch(ListWorkers())
    assert results.next_due is not None
    assert results.next_due <= at.inline.clock.mono
    at.do(Tick())
    assert at.running == [f"{number}/it"]


def test_a_clock_that_is_set_back_starts_nothing_before_its_time(at: Floor) -> None:
    """It comes when the clock shows it."""
    number = at.start("w", start_at=at.inline.clock.now + 60 * SECOND)
    at.inline.clock.now -= 3_600 * SECOND
    at.advance(60.0)
    assert states(at, number) == ["scheduled"]
    at.advance(3_600.0)
    assert states(at, number) == ["running"]


# Many


def test_many_are_made_in_one_transaction_and_begin_in_their_order(at: Floor) -> None:
    """All are there at once; they are opened a few in each transaction, before later ones."""
    count = 2 * OPENED_AT_ONCE + 7
    found = many(at, *(StartRun("w", {"order": n}, f"k-{n}", "t") for n in range(count)))
    numbers = [one.number for one in found]
    assert [one.created for one in found] == [True] * count
    assert numbers == list(range(numbers[0], numbers[0] + count))
    assert set(states(at, *numbers)) == {"queued"}
    assert at.inline.why(numbers[-1])["reasons"][0]["kind"] == "scheduled"
    ticks = 0
    while at.inline.run(numbers[-1])["counts"]["total"] == 0:
        assert at.inline.batch(Tick()).next_due is not None
        ticks += 1
    assert ticks == 3
    at.worker()
    assert [one for one in at.drain() if one.endswith("/it")] == [f"{n}/it" for n in numbers]
    assert set(states(at, *numbers)) == {"done"}


def test_many_survive_a_restart_before_they_are_opened(at: Floor) -> None:
    """Acknowledged is acknowledged."""
    found = many(at, *(StartRun("few", {"order": n}, f"k-{n}", "t") for n in range(120)))
    at.inline.restart()
    at.worker()
    for _ in range(4):
        at.do(Tick())
    assert len(at.drain()) == 120
    assert set(states(at, *(one.number for one in found))) == {"done"}


def test_of_many_all_or_none_are_started(at: Floor) -> None:
    """Every mistake is named by its place; nothing is left behind."""
    starts = [
        StartRun("w", {"order": 1}, "a", "t"),
        StartRun("w", {"order": "x", "more": 1}, "b", "t"),
        StartRun("none", {}, "c", "t"),
        StartRun("w", {}, "d", "t", start_by=NOW - 1),
    ]
    with pytest.raises(InvalidInput) as refused:
        at.do(CheckStarts(tuple(starts)))
    assert {problem.where for problem in refused.value.problems} == {
        "/starts/1/params/order",
        "/starts/1/params/more",
        "/starts/2/target",
        "/starts/3/start_by",
    }
    assert at.start("w") == 1


def test_keys_hold_among_many(at: Floor) -> None:
    """One key twice is one run; with other params nothing is started, whoever had it before."""
    again = StartRun("w", {"order": 1}, "a", "t")
    first, second = many(at, again, again)
    assert (first.number, second.number) == (1, 1)
    assert [first.created, second.created] == [True, False]
    assert many(at, again)[0] == StartedOne(1, "a", created=False)
    other = StartRun("w", {"order": 2}, "a", "t")
    for starts in ((StartRun("w", {}, "new", "t"), other), (other,)):
        with pytest.raises(StartKeyTaken, match="belongs to run 1"):
            many(at, *starts)
    with pytest.raises(StartKeyTaken, match="an earlier one of the list"):
        many(at, StartRun("w", {"order": 3}, "b", "t"), StartRun("w", {"order": 4}, "b", "t"))
    assert at.start("w") == 2


def test_ten_thousand_of_one_do_not_stand_before_another(at: Floor) -> None:
    """With a share of its own the next of another customer begins with the next free place."""
    many(at, *(StartRun("w", {}, f"k-{n}", "t", share="large") for n in range(1_000)))
    for _ in range(3):
        at.do(Tick())
    assert len(at.running) == 5
    small = at.start("w", share="small")
    at.end(at.running[0])
    assert f"{small}/it" in at.running


def test_a_clock_of_many_is_a_tick(at: Floor) -> None:
    """A step can read for when its run was planned."""
    late = at.start("planned", start_in=60.0)
    now = at.start("planned")
    at.advance(60.0)
    steps = [at.inline.step(number, "it")["input"]["value"] for number in (late, now)]
    assert steps == ["2027-01-15T08:01:00.000000Z", "2027-01-15T08:00:00.000000Z"]
