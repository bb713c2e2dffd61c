"""How far runs are: what is kept, what is said of it, and how long it will be yet.

That it equals what a fold over all records gives, at every moment of random plans, mends and
crashes, is looked at in the tests of composition and mending and in the simulator.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from pydantic import BaseModel

from tests.floor import Floor, floor, task_loom
from tests.fractions import broken_fractions
from yarnloom import Retry, each, item, parallel, param, sequence, step
from yarnloom.engine.commands import CancelRun, MendRun, PauseRun, Report, ResumeRun, StepAction
from yarnloom.plan import Part
from yarnloom.store import audit


class No(BaseModel):
    """Params with one that is false."""

    no: bool = False


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor of workers, of which the records are looked through at the end."""

    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


def started(at: Floor, plan: Any, places: int = 1, **options: Any) -> int:
    """A run of a plan, with a worker."""

    loom, _ = made(plan, **options)
    at.publish(loom)
    at.worker(places=places)
    return at.start("l/w")


def made(plan: Any, **options: Any) -> tuple[Any, Part]:
    """A loom with one workflow, and its plan."""

    loom, work = task_loom()
    part = plan(work)
    loom.workflow("w", plan=part, **options)
    return loom, part


def progress(at: Floor, run: int) -> dict[str, Any]:
    """How far a run is."""

    found: dict[str, Any] = at.inline.run(run)["progress"]
    return found


def fraction(at: Floor, run: int) -> float:
    """How much of a plan is done, by the shares of its parts."""

    part: float = at.inline.graph(run)["fraction"]
    return part


def say(at: Floor, address: str, done: float, total: float | None = None, **more: Any) -> None:
    """What a running step says of itself."""
    worker, attempt = at.find(address)
    told = {"done": done, "total": total, **more}
    at.do(Report(worker, saved={attempt: {"progress": told}}))


def near(value: float) -> Any:
    """A number up to the last digits that are shown."""

    return pytest.approx(value, abs=1e-5)


def test_parts_count_as_much_as_their_siblings_where_nothing_is_known(at: Floor) -> None:
    """A part of two is a half, whatever is in it."""
    run = started(
        at,
        lambda work: sequence(
            step("a", work),
            parallel("p", step("b", work), sequence("c", step("d", work), step("e", work))),
        ),
        places=2,
    )
    assert progress(at, run) == {
        "fraction": None,
        "text": "0 of 2 parts, now a",
        "address": "",
        "done": 0,
        "total": 2,
        "per_second": None,
        "seconds_left": None,
        "at_least": False,
    }
    at.end("1/a")
    assert fraction(at, run) == near(1 / 2)
    at.end("1/p/c/d")
    assert fraction(at, run) == near(1 / 2 + 1 / 8)
    at.drain()
    assert progress(at, run) == {
        "fraction": 1.0,
        "text": "2 of 2 parts",
        "address": "",
        "done": 2,
        "total": 2,
        "per_second": None,
        "seconds_left": None,
        "at_least": False,
    }


def test_an_each_is_what_its_items_are_and_those_that_wait_do_not_run(at: Floor) -> None:
    """Items of which a step only waits for a worker are shown as waiting."""
    items = list(range(10))
    run = started(
        at,
        lambda work: each(
            "sacks", over=items, do=sequence(step("a", work, value=item()), step("b", work))
        ),
        places=2,
    )
    counts = at.inline.graph(run)["parts"][0]["counts"]
    assert (counts["running"], counts["waiting"], counts["total"]) == (2, 8, 10)
    shown = [one["state"] for one in at.inline.items(run, "sacks")]
    assert shown == ["running"] * 2 + ["waiting"] * 8
    assert len(at.inline.items(run, "sacks", "running")) == 2
    assert len(at.inline.items(run, "sacks", "waiting")) == 8
    at.end("1/sacks[0]/a")
    at.advance(1)
    found = progress(at, run)
    assert (found["fraction"], found["done"], found["text"]) == (None, 0, "0 of 10 sacks")
    assert fraction(at, run) == near(0.05)
    at.end("1/sacks[0]/b")
    at.advance(1)
    found = progress(at, run)
    assert found["text"], found["address"] == ("1 of 10 sacks", "sacks")
    assert found["per_second"] == near(0.5)
    assert found["seconds_left"] is None, "too few have ended"


def test_a_tracked_step_moves_its_run_and_never_backwards_within_an_attempt(at: Floor) -> None:
    """What it says of itself is what is told of the run."""
    run = started(
        at, lambda work: sequence(step("a", work, retry=Retry(3, wait=1)), step("b", work))
    )
    say(at, "1/a", 7, 11, unit="epochs", note="loss falls", rate=0.5)
    found = progress(at, run)
    assert found == {
        "fraction": None,
        "text": "7 of 11 epochs, loss falls",
        "address": "a",
        "done": 7,
        "total": 11,
        "per_second": 0.5,
        "seconds_left": None,
        "at_least": False,
    }
    assert fraction(at, run) == near(7 / 22)
    say(at, "1/a", 0, 50, unit="rows")
    assert progress(at, run)["text"] == "0 of 50 rows"
    assert fraction(at, run) == near(7 / 22)  # another loop of the same attempt
    at.fail("1/a")
    assert fraction(at, run) == near(7 / 22)
    at.advance(2)
    assert fraction(at, run) == near(0)  # the next attempt begins where the last one said it was


def test_without_a_total_what_is_done_is_told_all_the_same(at: Floor) -> None:
    """It has no fraction."""
    run = started(at, lambda work: sequence(step("a", work)))
    say(at, "1/a", 1_234, None, unit="pages")
    assert progress(at, run)["text"] == "1,234 pages"
    assert fraction(at, run) == 0


def test_batches_count_their_rows(at: Floor) -> None:
    """A short last batch counts for less."""
    rows = list(range(10))
    run = started(
        at,
        lambda work: each("rows", over=rows, batch=4, do=step("a", work, value=item())),
        places=3,
    )
    at.end("1/rows[2]/a")
    assert fraction(at, run) == near(0.2)
    assert progress(at, run)["text"] == "2 of 10 rows"
    at.end("1/rows[0]/a")
    assert progress(at, run)["text"] == "6 of 10 rows"


def test_a_failure_that_is_allowed_counts_as_done_and_one_too_many_does_not(at: Floor) -> None:
    """Of two failures one is allowed."""
    run = started(
        at,
        lambda work: each(
            "s", over=[1, 2, 3, 4], may_fail=1, do=step("a", work), if_one_fails="finish"
        ),
    )
    at.fail("1/s[0]/a")
    assert fraction(at, run) == near(0.25)
    at.fail("1/s[1]/a")
    assert fraction(at, run) == near(0.25)
    assert progress(at, run)["text"] == "1 of 4 s, 2 failed"


def test_what_is_not_reached_stopped_or_cancelled_counts_nothing(at: Floor) -> None:
    """Only what is done counts."""
    run = started(at, lambda work: sequence(step("a", work), step("b", work), step("c", work)))
    at.end("1/a")
    at.fail("1/b")
    assert fraction(at, run) == near(1 / 3)
    other = at.start("l/w")
    at.end("2/a")
    at.do(CancelRun(other, "t"))
    at.end("2/b", "cancelled")
    assert fraction(at, other) == near(1 / 3)


def test_what_was_skipped_by_its_condition_counts_as_done(at: Floor) -> None:
    """Nothing is left to do for it."""
    run = started(
        at, lambda work: sequence(step("a", work, only_if=param("no")), step("b", work)), params=No
    )
    assert fraction(at, run) == near(0.5)


def test_a_mend_falls_back_to_what_stays_done(at: Floor) -> None:
    """A part that was done as a whole, by an allowed failure, is as far as what is kept in it."""
    run = started(
        at,
        lambda work: sequence(
            step("first", work),
            sequence(
                "mid",
                step("a", work),
                each(
                    "s",
                    over=[1, 2, 3, 4],
                    may_fail=2,
                    do=sequence(step("b", work), step("c", work)),
                ),
            ),
            step("last", work),
        ),
    )
    while at.running:
        address = at.running[0]
        (at.fail if address in ("1/mid/s[1]/c", "1/last") else at.end)(address)
    assert at.inline.run(run)["state"] == "failed"
    assert fraction(at, run) == near(2 / 3)
    at.do(MendRun(run, "t"))
    # Of four items one is at its half: an eighth of an each that is a half of a third.
    assert fraction(at, run) == near(1 / 3 + (1 / 3) * (1 / 2 + (1 / 2) * (7 / 8)))
    at.drain()
    assert fraction(at, run) == 1


def test_a_step_by_hand_counts_as_done(at: Floor) -> None:
    """It is passed over."""
    run = started(at, lambda work: sequence(step("a", work), step("b", work)))
    at.fail("1/a")
    place = at.inline.place(run, "a")
    at.do(StepAction(run, place.address, place.node, place.holder, "skip", "t"))
    at.do(MendRun(run, "t"))
    assert fraction(at, run) == near(0.5)


def test_shares_follow_the_time_of_the_run_before_and_stay_as_they_were_at_the_start(
    at: Floor,
) -> None:
    """Half means half of the time, from the second run on."""
    run = started(at, lambda work: sequence(step("quick", work), step("slow", work)))
    at.do(PauseRun(between := at.start("l/w"), "t"))  # starts when nothing is known
    at.advance(1)
    at.end("1/quick")
    at.advance(9)
    at.end("1/slow")
    third = at.start("l/w")
    assert progress(at, third)["seconds_left"] == near(10)
    at.advance(1)
    at.end(f"{third}/quick")
    assert fraction(at, third) == near(0.1)
    assert progress(at, third)["seconds_left"] == near(9)
    at.advance(4)
    assert progress(at, third)["seconds_left"] == near(5)
    at.advance(6)
    assert progress(at, third)["seconds_left"] == near(1)  # it should have ended, and has not
    at.end(f"{third}/slow")
    at.do(ResumeRun(between, "t"))
    at.end(f"{between}/quick")
    assert fraction(at, between) == near(0.5)
    assert at.inline.run(run)["state"] == "done"


def test_a_pause_counts_for_no_pace(at: Floor) -> None:
    """Neither for the rate nor for the time left."""
    run = started(at, lambda work: each("s", over=list(range(10)), do=step("a", work)))
    for _ in range(5):
        at.advance(1)
        at.end(at.running[0])
    assert progress(at, run)["per_second"] == near(1)
    at.do(PauseRun(run, "t"))
    at.end(at.running[0])
    at.advance(100)
    found = progress(at, run)
    assert (found["per_second"], found["seconds_left"]) == (None, None)
    at.do(ResumeRun(run, "t"))
    for _ in range(2):
        at.advance(1)
        at.end(at.running[0])
    found = progress(at, run)
    assert found["done"] == 8
    assert found["per_second"] == pytest.approx(8 / 7, rel=0.01)
    assert found["seconds_left"] == pytest.approx(2, rel=0.2)


def test_rate_and_time_left_count_from_the_round(at: Floor) -> None:
    """What earlier rounds did says nothing of this one's pace."""
    run = started(
        at, lambda work: each("s", over=list(range(8)), do=step("a", work), if_one_fails="finish")
    )
    for index in range(8):
        at.advance(100)
        (at.end if index < 4 else at.fail)(at.running[0])
    at.advance(1_000)
    at.do(MendRun(run, "t"))
    assert progress(at, run)["seconds_left"] is None
    for _ in range(2):
        at.advance(1)
        at.end(at.running[0])
    found = progress(at, run)
    assert (found["per_second"], found["seconds_left"]) == (near(1), pytest.approx(2, rel=0.1))


def test_a_restart_keeps_how_far_everything_is(at: Floor) -> None:
    """It is in the records."""
    run = started(at, lambda work: each("s", over=[1, 2, 3, 4], do=step("a", work)))
    at.end("1/s[0]/a")
    before = progress(at, run)
    at.inline.restart()
    assert progress(at, run) == before
