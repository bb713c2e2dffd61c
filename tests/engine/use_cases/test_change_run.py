"""Changing a run before it begins: when, how urgent, and by which words it is found."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor, task_loom
from yarnloom import sequence, step
from yarnloom.engine.commands import (
    CancelRun,
    ChangeRun,
    CheckStarts,
    PauseRun,
    ResumeRun,
    StartMany,
    StartRun,
)
from yarnloom.errors import Conflict, InvalidInput
from yarnloom.protocol.run_answers import RunAnswer
from yarnloom.service.render.answers import show
from yarnloom.store import audit

HOUR = 3_600.0


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor with a workflow, without workers."""
    with floor() as found:
        loom, work = task_loom()
        loom.workflow("w", plan=sequence(step("a", work), step("b", work, priority=3)))
        loom.workflow("alone", plan=sequence(step("a", work)), at_once=1)
        found.publish(loom)
        yield found
        assert audit(found.inline.database.writer) == []


def change(at: Floor, run: int, **given: Any) -> dict[str, Any]:
    """Change a run; it as it is then."""
    return show(RunAnswer, at.do(ChangeRun(run, "ann", **given)))


def test_a_scheduled_run_begins_when_it_is_told_to(at: Floor) -> None:
    """Later, and then now."""
    run = at.start("l/w", start_in=HOUR)
    later = change(at, run, start_in=2 * HOUR)
    assert later["state"] == "scheduled"
    at.advance(1.5 * HOUR)
    assert at.inline.run(run)["state"] == "scheduled"
    assert change(at, run, start_in=0.0)["state"] == "queued"
    at.worker()
    assert at.running == [f"{run}/a"]


def test_one_that_is_moved_forward_begins_then(at: Floor) -> None:
    """The timer is set anew."""
    run = at.start("l/w", start_in=10 * HOUR)
    change(at, run, start_at=at.inline.clock.now + 1_000_000)
    at.advance(2)
    assert at.inline.run(run)["state"] == "queued"


def test_a_queued_run_gets_ahead_of_others(at: Floor) -> None:
    """With its steps that have no priority of their own."""
    first, second = at.start("l/w"), at.start("l/w")
    assert change(at, second, priority=2)["priority"] == 2
    at.worker()
    assert at.running == [f"{second}/a"]
    at.end(f"{second}/a")
    assert at.inline.step(second, "b")["priority"] == 3
    assert at.inline.step(first, "a")["priority"] == 0
    at.drain()


def test_tags_are_replaced(at: Floor) -> None:
    """All of them."""
    run = at.start("l/w", tags=("spring", "neap"))
    assert change(at, run, tags=["ebb"])["tags"] == ["ebb"]
    assert at.inline.run(run)["tags"] == ["ebb"]


def test_what_waits_can_be_put_off_until_a_worker_has_it(at: Floor) -> None:
    """One that is ready, one in its workflow's queue; it frees its place there meanwhile."""
    run = at.start("l/w")
    first = at.start("l/alone")
    held = at.start("l/alone")
    assert change(at, run, start_in=HOUR)["state"] == "scheduled"
    assert change(at, first, start_in=2 * HOUR)["state"] == "scheduled"
    at.worker(places=5)
    assert [one.partition("/")[0] for one in at.running] == [str(held)]
    assert at.inline.why(run)["reasons"][0]["kind"] == "scheduled"
    at.do(PauseRun(run, "t"))
    at.do(ResumeRun(run, "t"))
    assert (at.inline.run(run)["state"], len(at.running)) == ("scheduled", 1)
    at.inline.restart()
    at.worker(places=5)
    assert len(at.running) == 1

    at.advance(HOUR + 1)
    assert len(at.running) == 2
    at.advance(HOUR + 1)
    assert [at.inline.run(one)["state"] for one in (run, first, held)] == [
        *("running", "queued", "running")
    ]
    at.end(at.running[0])
    assert at.inline.run(first)["state"] == "running"
    assert audit(at.inline.database.writer) == []


def test_one_that_is_put_off_can_be_cancelled_and_begun(at: Floor) -> None:
    """As if it had never been ready."""
    for act in ("cancel", "begin"):
        run = at.start("l/w")
        change(at, run, start_in=HOUR)
        if act == "cancel":
            at.do(CancelRun(run, "t"))
            assert at.inline.run(run)["state"] == "cancelled"
        else:
            assert change(at, run, start_in=0)["state"] == "queued"
    at.worker()
    assert len(at.running) == 1


def test_what_has_begun_is_only_preferred_and_tagged(at: Floor) -> None:
    """With what to do instead; of one that has ended nothing changes."""
    run = at.start("l/w")
    at.begins = False
    at.worker()
    with pytest.raises(Conflict, match="a worker has run 1 in hand"):
        change(at, run, start_in=HOUR)
    at.begin(at.running[0])
    with pytest.raises(Conflict, match="has begun, so it cannot be moved"):
        change(at, run, start_in=HOUR)
    assert change(at, run, priority=5, tags=["late"])["priority"] == 5
    at.end(at.running[0])
    at.drain()
    with pytest.raises(Conflict, match="is done, and cannot be changed"):
        change(at, run, priority=6)


def test_one_that_could_never_begin_is_refused(at: Floor) -> None:
    """Its `start_by` stands, and nothing is changed."""
    run = at.start("l/w", start_in=HOUR, start_by=at.inline.clock.now + int(2 * HOUR * 1e6))
    with pytest.raises(InvalidInput) as refused:
        change(at, run, start_in=3 * HOUR, priority=7)
    assert refused.value.problems[0].where == "/start_at"
    assert at.inline.run(run)["priority"] == 0


def test_one_of_many_that_were_started_is_moved_before_its_turn(at: Floor) -> None:
    """It is scheduled then."""
    starts = tuple(StartRun("l/w", {}, f"m{index}", "t") for index in range(3))
    prepared = at.do(CheckStarts(starts, 0))
    at.inline.batch(StartMany(tuple(prepared)))
    assert change(at, 3, start_in=HOUR)["state"] == "scheduled"
    at.advance(2)
    assert [at.inline.run(one)["state"] for one in (1, 2, 3)] == ["queued", "queued", "scheduled"]
