"""Pausing and resuming runs and steps: what stops, what goes on, and what time counts."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor, state, task_loom
from tests.fractions import broken_fractions
from yarnloom import Retry, each, item, parallel, sequence, step
from yarnloom.engine.commands import CancelRun, MendRun, PauseRun, ResumeRun, StepAction
from yarnloom.errors import Conflict
from yarnloom.store import audit


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor; what the records hold is checked at the end."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


def weave(at: Floor, plan: Any, places: int = 50, **options: Any) -> int:
    """A run of a workflow of tasks that take anything."""
    loom, work = task_loom()
    loom.workflow("w", plan=plan(work), **options)
    at.publish(loom)
    if places:
        at.worker(places=places)
    return at.start("l/w")


def run_state(at: Floor, number: int = 1) -> str:
    """A run's state."""
    found: str = at.inline.run(number)["state"]
    return found


def hand(at: Floor, address: str, action: str, **options: Any) -> None:
    """Decide something about a step of run 1."""
    at.do(handle(at, address, action, **options))


def handle(at: Floor, address: str, action: str, **options: Any) -> StepAction:
    """The command for it, as the service makes it from an address."""
    place = at.inline.place(1, address)
    return StepAction(1, place.address, place.node, place.holder, action, "ann", **options)


def test_a_pause_lets_what_runs_stop_and_begins_nothing(at: Floor) -> None:
    """Paused when nothing executes any more; resumed, everything goes on."""
    weave(at, lambda work: parallel("p", *(step(name, work) for name in "abc")), places=2)

    assert at.do(PauseRun(1, "ann", "low tide")).state == "pausing"
    assert [(order["kind"], order["why"]) for order in at.hands["w"].orders] == [
        ("stop", "pause")
    ] * 2
    at.end("1/p/a", "stopped")
    assert (run_state(at), state(at, 1, "p/a"), at.running) == ("pausing", "paused", ["1/p/b"])
    at.end("1/p/b")  # it did not look, and finished
    assert (run_state(at), state(at, 1, "p/b"), state(at, 1, "p/c")) == ("paused", "done", "ready")
    assert at.running == []

    at.do(ResumeRun(1, "ann"))
    assert (run_state(at), at.running) == ("running", ["1/p/a", "1/p/c"])
    at.drain()
    assert run_state(at) == "done"


def test_a_pause_of_what_does_not_run_is_at_once(at: Floor) -> None:
    """Also of a queued run, which is queued again when it is resumed."""
    weave(at, lambda work: step("a", work), places=0)

    assert at.do(PauseRun(1, "ann")).state == "paused"
    at.worker()
    assert at.running == []
    assert at.do(PauseRun(1, "ann")).state == "paused"  # nothing changes
    assert at.do(ResumeRun(1, "ann")).state == "queued"
    assert at.running == ["1/a"]


def test_a_run_that_its_workflow_held_is_let_in_when_it_is_resumed(at: Floor) -> None:
    """The place became free while it was paused, so that no other event lets it in."""
    weave(at, lambda work: step("a", work), at_once=1)
    at.start("l/w")
    assert (run_state(at), run_state(at, 2), at.running) == ("running", "queued", ["1/a"])

    at.do(PauseRun(2, "ann"))
    at.drain()
    assert (run_state(at), run_state(at, 2), at.running) == ("done", "paused", [])
    at.do(ResumeRun(2, "ann"))
    assert (run_state(at, 2), at.running) == ("running", ["2/a"])


def test_a_queued_run_with_something_in_hand_is_pausing(at: Floor) -> None:
    """The worker may have begun it."""
    at.begins = False
    weave(at, lambda work: step("a", work))

    assert at.do(PauseRun(1, "ann")).state == "pausing"
    at.end("1/a", "handed_back")
    assert run_state(at) == "paused"
    assert at.do(ResumeRun(1, "ann")).state == "queued"
    assert at.running == ["1/a"]


def test_resume_while_pausing(at: Floor) -> None:
    """What has stopped is ready, what has not is told to go on."""
    weave(at, lambda work: parallel("p", step("a", work), step("b", work)))
    at.do(PauseRun(1, "ann"))
    at.end("1/p/a", "stopped")

    assert at.do(ResumeRun(1, "ann")).state == "running"
    assert at.hands["w"].orders[-1]["kind"] == "go_on"
    assert sorted(at.running) == ["1/p/a", "1/p/b"]
    assert at.inline.step(1, "p/b")["stop_asked"] is None
    at.end("1/p/b", "stopped")  # it had stopped before it heard
    assert sorted(at.running) == ["1/p/a", "1/p/b"]


@pytest.mark.parametrize(
    ("before", "pause", "resume", "cancel", "mend"),
    [
        ("queued", "paused", None, "cancelled", None),
        ("running", "pausing", "running", "cancelling", None),
        ("pausing", "pausing", "running", "cancelling", None),
        ("paused", "paused", "running", "cancelled", None),
        ("cancelling", None, None, "cancelling", None),
        ("done", None, None, None, None),
        ("failed", None, None, None, "running"),
        ("cancelled", None, None, None, "running"),
    ],
)
def test_every_cell_of_the_table(
    before: str, pause: str | None, resume: str | None, cancel: str | None, mend: str | None
) -> None:
    """Each command in each state of a run; None is refused and changes nothing."""
    wanted = {PauseRun: pause, ResumeRun: resume, CancelRun: cancel, MendRun: mend}
    for command, after in wanted.items():
        with floor() as at:
            places = 0 if before == "queued" else 1
            weave(at, lambda work: sequence(step("a", work), step("b", work)), places=places)
            reach(at, before)
            assert run_state(at) == before
            if after is None:
                with pytest.raises(Conflict):
                    at.do(command(1, "ann"))
                assert run_state(at) == before
            else:
                assert at.do(command(1, "ann")).state == after
            assert audit(at.inline.database.writer) == []


def reach(at: Floor, wanted: str) -> None:
    """Bring run 1, of which `a` is running, into a state."""
    match wanted:
        case "queued":
            pass
        case "pausing":
            at.do(PauseRun(1, "t"))
        case "paused":
            at.do(PauseRun(1, "t"))
            at.end("1/a", "stopped")
        case "cancelling":
            at.do(CancelRun(1, "t"))
        case "done":
            at.drain()
        case "failed":
            at.fail("1/a")
        case "cancelled":
            at.do(CancelRun(1, "t"))
            at.end("1/a", "cancelled")


def test_what_is_due_in_a_pause_is_ready_at_resume(at: Floor) -> None:
    """Back-offs and rests go on counting, but nothing begins."""
    retry = Retry(attempts=3, wait="5s", jitter=0)
    weave(at, lambda work: parallel("p", step("a", work, retry=retry), step("b", work)))
    at.fail("1/p/a")
    at.end("1/p/b", "called_again", after=4.0, saved={"carried": 1})
    at.do(PauseRun(1, "ann"))
    at.advance(6)

    assert (state(at, 1, "p/a"), state(at, 1, "p/b"), at.running) == ("ready", "ready", [])
    at.do(ResumeRun(1, "ann"))
    assert sorted(at.running) == ["1/p/a", "1/p/b"]


def test_paused_time_counts_for_no_deadline_and_no_within(at: Floor) -> None:
    """Neither the run's, nor a step's, nor a retry's."""
    retry = Retry(attempts=9, wait="2s", within="10s", jitter=0)
    weave(at, lambda work: step("a", work, deadline="20s", retry=retry), deadline="30s")
    at.do(PauseRun(1, "ann"))
    at.end("1/a", "stopped")
    at.advance(100)
    assert run_state(at) == "paused"
    at.do(ResumeRun(1, "ann"))
    assert at.running == ["1/a"]

    at.advance(5)
    at.fail("1/a")  # five seconds by its clock: there is time for another try
    assert state(at, 1, "a") == "backing_off"
    at.advance(2)
    at.advance(12)
    assert [order["why"] for order in at.hands["w"].orders if order["kind"] == "stop"] == ["pause"]
    at.advance(2)
    assert at.hands["w"].orders[-1]["why"] == "deadline"


def test_a_step_that_has_not_begun_is_shown_whole(at: Floor) -> None:
    """With every field of one that has."""
    weave(at, lambda work: sequence(step("a", work), step("b", work)))

    begun, waiting = at.inline.step(1, "a"), at.inline.step(1, "b")
    shown = {"progress", "supplied", "paused_by_hand", "folded", "attempts", "input", "output"}
    assert shown <= begun.keys() & waiting.keys()


def test_a_paused_run_is_known_after_a_restart(at: Floor) -> None:
    """It is not handed out, and can be resumed."""
    weave(at, lambda work: sequence(step("a", work), step("b", work)))
    at.do(PauseRun(1, "ann"))
    at.end("1/a")
    at.inline.restart()
    at.worker()
    assert (run_state(at), at.running) == ("paused", [])

    at.do(ResumeRun(1, "ann"))
    assert at.running == ["1/b"]


def test_a_cancel_of_a_paused_run_runs_its_follow_up(at: Floor) -> None:
    """It is held no more, so that what ends it can run."""
    loom, work = task_loom()
    loom.workflow("w", plan=sequence(step("a", work), step("b", work)), on_end=step("z", work))
    at.publish(loom)
    at.worker()
    at.start("l/w")
    at.do(PauseRun(1, "ann"))
    at.end("1/a", "stopped")

    assert at.do(CancelRun(1, "ann")).state == "cancelling"
    at.end("1/on_end/z")
    assert run_state(at) == "cancelled"


def test_a_pause_of_one_run_leaves_others_of_its_share(at: Floor) -> None:
    """Even where both have one share, so that they stand in one lane."""
    loom, work = task_loom()
    loom.workflow("w", plan=step("a", work), share="us")
    at.publish(loom)
    for _ in range(3):
        at.start("l/w")
    at.do(PauseRun(1, "ann"))
    at.worker(places=1)

    assert at.drain() == ["2/a", "3/a"]
    at.do(ResumeRun(1, "ann"))
    assert at.running == ["1/a"]


# One step


def test_one_step_is_paused_by_hand(at: Floor) -> None:
    """Only it: a resume of the run leaves it, its own lets it go on."""
    weave(at, lambda work: parallel("p", step("a", work), step("b", work)))
    hand(at, "p/a", "pause")
    at.end("1/p/a", "stopped")
    assert (state(at, 1, "p/a"), run_state(at)) == ("paused", "running")
    at.do(PauseRun(1, "ann"))
    at.end("1/p/b", "stopped")
    at.do(ResumeRun(1, "ann"))
    assert at.running == ["1/p/b"]

    hand(at, "p/a", "resume")
    assert sorted(at.running) == ["1/p/a", "1/p/b"]


def test_a_step_paused_while_it_backs_off_goes_back_to_it(at: Floor) -> None:
    """Unless its time came meanwhile."""
    retry = Retry(attempts=3, wait="10s", jitter=0)
    weave(at, lambda work: step("a", work, retry=retry))
    at.fail("1/a")
    hand(at, "a", "pause")
    assert state(at, 1, "a") == "paused"
    hand(at, "a", "resume")
    assert state(at, 1, "a") == "backing_off"

    hand(at, "a", "pause")
    at.advance(11)
    assert at.running == []
    hand(at, "a", "resume")
    assert at.running == ["1/a"]


def test_a_step_told_to_pause_that_fails_is_paused(at: Floor) -> None:
    """Its back-off is over when it is resumed, or is waited for."""
    weave(at, lambda work: step("a", work, retry=Retry(attempts=3, wait="1s", jitter=0)))
    hand(at, "a", "pause")
    at.fail("1/a")

    assert state(at, 1, "a") == "paused"
    at.advance(2)
    hand(at, "a", "resume")
    assert at.running == ["1/a"]


def test_why_says_who_paused_it(at: Floor) -> None:
    """Run and step, with the reason that was given."""
    weave(
        at, lambda work: parallel("p", step("a", work), step("b", work), step("c", work)), places=2
    )
    hand(at, "p/a", "pause", reason="too loud")
    at.end("1/p/a", "stopped")
    at.do(PauseRun(1, "bob", "low tide"))
    at.end("1/p/b", "stopped")
    at.end("1/p/c", "stopped")

    why = at.inline.why(1)
    assert [one["text"] for one in why["reasons"]] == ["is paused by bob: low tide"]
    by_address = {one["address"]: one["reasons"][0] for one in why["waits"]}
    assert by_address["p/a"]["text"] == "is paused by ann: too loud"
    assert by_address["p/b"]["kind"] == "held"


def test_call_again_holds_nothing_and_begins_tries_anew(at: Floor) -> None:
    """What is carried survives; a part around it may end it while it rests."""
    retry = Retry(attempts=2, wait="1s", jitter=0)
    weave(at, lambda work: parallel("p", step("a", work, retry=retry), step("b", work)), places=1)
    at.fail("1/p/a")
    at.end("1/p/b", "called_again", after=60.0, saved={"carried": {"page": 2}})
    assert (state(at, 1, "p/b"), at.running) == ("resting", [])
    at.advance(1)
    at.end("1/p/a", "called_again", after=5.0)
    at.advance(5)
    at.fail("1/p/a")
    assert state(at, 1, "p/a") == "backing_off"  # two tries again
    at.advance(1)
    at.fail("1/p/a")

    assert (state(at, 1, "p/a"), state(at, 1, "p/b")) == ("failed", "skipped")
    assert run_state(at) == "failed"


def test_what_is_carried_comes_with_the_next_attempt(at: Floor) -> None:
    """Whatever it saved."""
    weave(at, lambda work: step("a", work))
    at.end("1/a", "called_again", after=1.0, saved={"carried": {"page": 2}})
    at.advance(1)

    (message,) = at.hands["w"].attempts.values()
    assert message["saved"] == {"carried": {"page": 2}}


def test_items_of_a_paused_run_are_not_begun(at: Floor) -> None:
    """What ends meanwhile makes room, and what would begin in it waits."""
    weave(at, lambda work: each("h", over=[1, 2, 3], at_once=1, do=step("go", work, value=item())))
    at.do(PauseRun(1, "ann"))
    at.end("1/h[0]/go")

    assert (run_state(at), at.running) == ("paused", [])
    at.do(ResumeRun(1, "ann"))
    assert at.drain() == ["1/h[1]/go", "1/h[2]/go"]
