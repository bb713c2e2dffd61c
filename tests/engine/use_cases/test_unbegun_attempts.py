"""What was handed out and does not begin: it is asked back, and taken where nothing is answered."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.floor import Floor, floor
from yarnloom import Loom, step
from yarnloom.engine.commands import (
    BeginAttempt,
    LeaveService,
    LoseWorker,
    Poll,
    Report,
    ReportItem,
    Tick,
)


@pytest.fixture
def at(tmp_path: Path) -> Iterator[Floor]:
    """A floor on which nothing begins by itself."""
    with floor() as found:
        found.begins = False
        loom = Loom("slow")

        @loom.task
        def wait() -> None:
            """Nothing."""

        loom.workflow("one", plan=step("only", wait))
        loom.workflow("careful", plan=step("only", wait, losses=0))
        found.publish(loom)
        yield found


def pass_time(at: Floor, seconds: float) -> None:
    """Let time pass; every worker is heard of each second."""
    for _ in range(round(seconds)):
        at.inline.clock.advance(1)
        for name, hand in at.hands.items():
            at.do(Report(name, (), tuple(order["serial"] for order in hand.orders)))
        at.do(Tick())


def reasons(at: Floor, run: int) -> str:
    """What `why` says of its step."""
    return "; ".join(reason["text"] for reason in at.inline.why(run)["waits"][0]["reasons"])


def test_a_worker_is_asked_once_to_give_it_back_and_why_says_since_when(at: Floor) -> None:
    """Five seconds after it was handed out, not before."""
    at.worker()
    run = at.start("one")
    pass_time(at, 4)
    assert "handed to worker w, begins there" in reasons(at, run)
    assert at.hands["w"].orders == []
    pass_time(at, 2)
    assert [order["kind"] for order in at.hands["w"].orders] == ["give_back"]
    assert "worker w has it since" in reasons(at, run)
    assert "6 s ago, and has not begun it" in reasons(at, run)


def test_what_is_given_back_goes_to_another_and_spends_no_try(at: Floor) -> None:
    """At once."""
    at.worker("a")
    run = at.start("one")
    pass_time(at, 6)
    at.worker("b")
    error = {"type": "NotBegun", "message": "process 7 did not begin it"}
    at.end(f"{run}/only", "handed_back", error=error)
    (attempt,) = [one for hand in at.hands.values() for one in hand.attempts.values()]
    assert (attempt["number"], attempt["tries"]) == (2, 1)


def test_one_that_has_begun_after_all_is_kept(at: Floor) -> None:
    """However late it says so."""
    at.worker()
    run = at.start("one")
    pass_time(at, 7)
    at.begin(f"{run}/only")
    pass_time(at, 25)
    assert [order["kind"] for order in at.hands["w"].orders] == ["give_back"]
    at.end(f"{run}/only")
    assert at.inline.run(run)["state"] == "done"


def test_it_is_taken_where_the_order_was_heard_and_nothing_is_answered(at: Floor) -> None:
    """Then what comes of it late is refused, its begin too."""
    at.worker("a")
    run = at.start("one")
    _, old = at.find(f"{run}/only")
    at.worker("b")
    pass_time(at, 17)
    assert [order["kind"] for order in at.hands["a"].orders] == ["give_back", "drop"]
    assert list(at.hands["b"].attempts) != [old]
    for item in (ReportItem(old, begun_ago=9.0), ReportItem(old, "done", 1)):
        (refused,) = at.do(Report("a", (item,))).refused
        assert "taken back, since it had not begun" in refused["why"]
    assert at.inline.run(run)["state"] == "queued"
    attempts = at.inline.step(run, "only")["attempts"]
    assert attempts[0]["outcome"] == "handed_back"
    assert "worker a did not begin it within" in attempts[0]["error"]["message"]


def test_a_worker_that_has_not_heard_of_it_is_left_alone(at: Floor) -> None:
    """Its lease decides: it may be running the step, cut off."""
    at.worker()
    run = at.start("one")
    attempt = next(iter(at.hands["w"].attempts))
    worker = at.inline.engine._memory.workers["w"]
    for _ in range(29):
        at.inline.clock.advance(1)
        at.inline.batch(Tick())
    assert attempt in worker.in_hand
    at.inline.clock.advance(2)
    at.inline.batch(Tick())
    assert at.inline.step(run, "only")["attempts"][0]["outcome"] == "lost"


def test_after_three_times_why_says_so(at: Floor) -> None:
    """With what was said the last time."""
    at.worker()
    run = at.start("one")
    for _ in range(3):
        error = {"type": "NotBegun", "message": "process 7 did not begin it"}
        at.end(f"{run}/only", "handed_back", error=error)
    assert "taken back" not in reasons(at, run)
    for name in list(at.hands):
        at.do(LeaveService(name))
    text = "was taken back 3 times, since it did not begin; the last time: process 7 did not"
    assert text in reasons(at, run)


def test_a_restart_gives_it_its_time_anew(at: Floor) -> None:
    """The service was away, not the worker."""
    at.worker()
    at.start("one")
    pass_time(at, 4)
    at.inline.restart()
    at.worker()
    at.do(Poll("w"))
    pass_time(at, 4)
    assert at.hands["w"].orders == []
    pass_time(at, 2)
    assert [order["kind"] for order in at.hands["w"].orders] == ["give_back"]


@pytest.mark.parametrize(
    ("begun", "outcome", "guess"),
    [(None, "lost", True), ({}, "handed_back", False), ({"it": 2_000_000}, "lost", False)],
)
def test_what_a_lost_worker_had_not_begun_is_handed_back(
    at: Floor, begun: dict[str, int] | None, outcome: str, guess: bool
) -> None:
    """If nobody can tell what had begun, all that it had in hand counts as lost, with a mark."""
    at.worker()
    run = at.start("one")
    (attempt,) = at.hands["w"].attempts
    at.inline.clock.advance(5)
    now = at.inline.clock().now
    known = None if begun is None else dict(zip([attempt], [now - 2_000_000], strict=True))
    known = {} if begun == {} else known
    at.do(LoseWorker("w", "it was killed", known))

    (shown,) = at.inline.attempts(run)["attempts"]
    assert (shown["outcome"], shown["guess"]) == (outcome, guess)
    assert (shown["begun_at"] is not None) == bool(begun)


@pytest.mark.parametrize(("has_begun", "outcome"), [(False, "handed_back"), (True, "lost")])
def test_a_step_with_recorded_begins_is_no_guess(at: Floor, has_begun: bool, outcome: str) -> None:
    """Also where no file of begins can be read, a step with `losses=` is known."""
    at.worker()
    run = at.start("careful")
    if has_begun:
        (attempt,) = at.hands["w"].attempts
        at.do(BeginAttempt("w", attempt))

    at.do(LoseWorker("w", "its lease is over", None))

    (shown,) = at.inline.attempts(run)["attempts"]
    assert (shown["outcome"], shown["guess"]) == (outcome, False)
    assert at.inline.run(run)["state"] == ("failed" if has_begun else "queued")
