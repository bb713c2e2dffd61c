"""What people decide about one step, in every state that it can be in."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.engine.use_cases.test_pause import hand, run_state, weave
from tests.floor import Floor, floor, state, task_loom
from tests.fractions import broken_fractions
from yarnloom import Loom, Retry, each, item, output, parallel, sequence, step
from yarnloom.engine.commands import MakePool, MendRun, PauseRun, ResumeRun
from yarnloom.engine.state import hourly_counts
from yarnloom.errors import Conflict, InvalidInput, NotFound
from yarnloom.plan import read_plan
from yarnloom.store import audit
from yarnloom.store.runs import run_lists
from yarnloom.store.workers import workflow_records

RETRY = Retry(attempts=3, wait="60s", jitter=0)


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor; what the records hold is checked at the end."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


def test_a_running_step_is_cancelled_and_counts_as_a_failure(at: Floor) -> None:
    """It is told to stop; the parts around it fail, with who did it and why."""
    weave(at, lambda work: sequence(step("a", work), step("b", work)))
    hand(at, "a", "cancel", reason="stuck")
    assert at.hands["w"].orders[-1]["why"] == "cancel"
    at.end("1/a", "cancelled")

    run = at.inline.run(1)
    assert (run["state"], state(at, 1, "a"), state(at, 1, "b")) == (
        "failed",
        "cancelled",
        "skipped",
    )
    assert run["error"]["message"] == "cancelled by ann: stuck"


def test_what_a_cancelled_step_returns_in_time_is_kept(at: Floor) -> None:
    """As with a run's cancel."""
    weave(at, lambda work: step("a", work))
    hand(at, "a", "cancel")
    at.end("1/a", output=3)

    assert run_state(at) == "done"


def test_a_cancelled_item_is_one_of_the_failures_that_are_allowed(at: Floor) -> None:
    """The each goes on, and its list has null there."""
    weave(
        at,
        lambda work: sequence(
            each("h", over=[1, 2], may_fail=1, do=step("go", work, value=item())),
            step("bind", work, value=output("h")),
        ),
    )
    hand(at, "h[0]/go", "cancel")
    at.end("1/h[0]/go", "cancelled")
    at.end("1/h[1]/go", output=2)

    assert at.inline.step(1, "bind")["input"] == {"value": [None, 2]}
    assert at.inline.run(1)["failures_allowed"] == 1


@pytest.mark.parametrize("asleep", ["backing_off", "resting"])
def test_a_sleeping_step_is_tried_at_once(at: Floor, asleep: str) -> None:
    """Without spending a try."""
    weave(at, lambda work: step("a", work, retry=RETRY))
    if asleep == "resting":
        at.end("1/a", "called_again", after=60.0)
    else:
        at.fail("1/a")
    assert state(at, 1, "a") == asleep
    hand(at, "a", "retry")

    assert at.running == ["1/a"]


def test_a_failed_step_is_retried_while_its_run_goes_on(at: Floor) -> None:
    """With what was not reached because of it, in its own part and beside it."""
    weave(
        at,
        lambda work: parallel(
            "p",
            sequence("s", step("a", work), step("b", work)),
            step("reader", work, value=output("s")),
            step("c", work),
            if_one_fails="finish",
        ),
    )
    at.fail("1/p/s/a")
    assert state(at, 1, "p/reader") == "skipped"
    hand(at, "p/s/a", "retry", reason="the line is back")
    assert sorted(at.running) == ["1/p/c", "1/p/s/a"]
    at.end("1/p/s/a")
    at.end("1/p/s/b", output=4)
    assert at.inline.step(1, "p/reader")["input"] == {"value": 4}
    at.drain()

    assert run_state(at) == "done"
    assert len(at.inline.step(1, "p/s/a")["attempts"]) == 2


def test_a_refusal_says_the_state_of_a_step_that_will_never_begin(at: Floor) -> None:
    """The state of the rest of its part; once the run has ended the next mend takes an output."""
    weave(
        at,
        lambda work: parallel(
            "p",
            sequence("s", step("a", work), step("b", work)),
            step("c", work),
            if_one_fails="finish",
        ),
    )
    with pytest.raises(Conflict) as early:
        hand(at, "p/s/b", "pause")
    at.fail("1/p/s/a")
    with pytest.raises(Conflict) as late:
        hand(at, "p/s/b", "pause")
    with pytest.raises(Conflict, match="skipped"):
        hand(at, "p/s/b", "supply", output=7)
    at.drain()
    hand(at, "p/s/b", "supply", output=7)

    assert (early.value.facts["state"], late.value.facts["state"]) == ("waiting", "skipped")
    assert at.inline.run(1)["state"] == "failed"


def test_a_failed_item_is_retried_while_others_go_on(at: Floor) -> None:
    """It takes its turn in the each's window; other failures stay as they are."""
    weave(
        at,
        lambda work: each(
            "h", over=[0, 1, 2], at_once=2, may_fail=2, do=step("go", work, value=item())
        ),
    )
    at.fail("1/h[0]/go")
    at.fail("1/h[1]/go")
    hand(at, "h[0]/go", "retry")
    assert sorted(at.running) == ["1/h[0]/go", "1/h[2]/go"]
    at.end("1/h[0]/go", output=1)
    at.end("1/h[2]/go", output=1)

    assert (run_state(at), at.inline.run(1)["failures_allowed"]) == ("done", 1)


def test_a_retry_in_a_part_that_stopped_is_refused(at: Floor) -> None:
    """A mend does that, when the run has ended."""
    weave(at, lambda work: parallel("p", step("a", work), step("b", work)))
    at.fail("1/p/a")

    with pytest.raises(Conflict, match="mend the run when it has ended"):
        hand(at, "p/a", "retry")
    at.end("1/p/b")
    with pytest.raises(Conflict, match="`mend` runs again what failed"):
        hand(at, "p/a", "retry")


@pytest.mark.parametrize("action", ["skip", "supply"])
def test_a_failed_step_is_passed_over_by_hand(at: Floor, action: str) -> None:
    """What stands behind it goes on, with what was given or with null."""
    weave(
        at,
        lambda work: parallel(
            "p",
            sequence("s", step("a", work), step("b", work, value=output("a"))),
            step("c", work),
            if_one_fails="finish",
        ),
    )
    at.fail("1/p/s/a")
    hand(at, "p/s/a", action, output=9 if action == "supply" else None)

    wanted = ("done", 9) if action == "supply" else ("skipped", None)
    found = at.inline.step(1, "p/s/a")
    assert (found["state"], at.inline.step(1, "p/s/b")["input"]["value"]) == wanted
    assert found["supplied"] == (action == "supply")
    at.drain()
    assert run_state(at) == "done"


def test_what_backs_off_can_be_skipped_supplied_or_cancelled(at: Floor) -> None:
    """At once, since nobody runs it."""
    weave(
        at,
        lambda work: parallel(
            "p", *(step(name, work, retry=RETRY) for name in "abc"), if_one_fails="finish"
        ),
    )
    for name in "abc":
        at.fail(f"1/p/{name}")
    hand(at, "p/a", "skip")
    hand(at, "p/b", "supply", output="x")
    hand(at, "p/c", "cancel")

    assert [state(at, 1, f"p/{name}") for name in "abc"] == ["skipped", "done", "cancelled"]
    assert run_state(at) == "failed"


def test_a_step_that_has_not_begun_is_decided_about_ahead(at: Floor) -> None:
    """Its fate is met when it comes up; an edit holds as well."""
    weave(
        at,
        lambda work: sequence(
            step("a", work), step("b", work), step("c", work, value=1), step("d", work)
        ),
    )
    hand(at, "b", "skip")
    hand(at, "c", "edit", inputs={"value": 2}, priority=7)
    hand(at, "d", "supply", output=[1])
    at.end("1/a")
    assert at.running == ["1/c"]
    c = at.inline.step(1, "c")
    assert (c["input"], c["priority"], state(at, 1, "b")) == ({"value": 2}, 7, "skipped")
    at.end("1/c")

    assert run_state(at) == "done"
    assert at.inline.run(1)["output"] == [1]


def test_an_edit_survives_a_mend(at: Floor) -> None:
    """It replaces a reference at that address only, and what was saved for other inputs is void."""
    weave(at, lambda work: sequence(step("a", work), step("b", work, value=output("a"))))
    at.end("1/a", output=1)
    at.fail("1/b", saved={"progress": {"done": 3}})
    hand(at, "b", "edit", inputs={"value": 5})
    at.do(MendRun(1, "t"))

    (message,) = at.hands["w"].attempts.values()
    assert (message["input"], "saved" in message) == ({"value": 5}, False)


def test_an_edit_of_a_done_step_lets_the_next_mend_run_it_again(at: Floor) -> None:
    """With all that read its output; without an edit there is nothing to mend."""
    weave(
        at,
        lambda work: sequence(
            step("a", work, value=1), step("b", work, value=output("a")), step("c", work)
        ),
    )
    for label in "abc":
        at.end(f"1/{label}", output=label)
    with pytest.raises(Conflict, match="nothing to mend"):
        at.do(MendRun(1, "t"))
    hand(at, "a", "edit", inputs={"value": 7})
    at.do(MendRun(1, "t"))

    (message,) = at.hands["w"].attempts.values()
    assert (message["address"], message["input"]) == ("1/a", {"value": 7})
    at.end("1/a", output="A")
    (message,) = at.hands["w"].attempts.values()
    assert (message["address"], message["input"]) == ("1/b", {"value": "A"})
    at.end("1/b")
    assert run_state(at) == "done"
    with pytest.raises(Conflict, match="nothing to mend"):
        at.do(MendRun(1, "t"))


def test_an_edit_of_a_ready_step_moves_it_to_another_pool(at: Floor) -> None:
    """And it begins there, or waits there."""
    at.do(MakePool("shut", {"limit": 0}, "t"))
    weave(at, lambda work: step("a", work), places=0)
    hand(at, "a", "edit", pool="shut")
    at.worker()
    assert at.running == []
    hand(at, "a", "edit", pool="")
    assert at.running == ["1/a"]
    with pytest.raises(Conflict, match="cancel or pause it first"):
        hand(at, "a", "edit", pool="shut")


def test_edits_and_supplies_are_checked_against_the_task(at: Floor) -> None:
    """With a pointer for each problem, and nothing changed."""
    loom = Loom("l")

    @loom.task
    def measure(depth: float, name: str = "x") -> int:
        raise NotImplementedError

    loom.workflow("w", plan=step("a", measure, depth=1.5))
    at.publish(loom)
    at.start("l/w")

    with pytest.raises(InvalidInput) as refused:
        hand(at, "a", "edit", inputs={"depth": "deep", "nam": "y"})
    assert {problem.where for problem in refused.value.problems} == {"/inputs/depth", "/inputs/nam"}
    with pytest.raises(InvalidInput, match="does not fit what task l/measure returns"):
        hand(at, "a", "supply", output="three")
    with pytest.raises(InvalidInput, match="no pool 'gauges'"):
        hand(at, "a", "edit", pool="gauges")
    with pytest.raises(InvalidInput, match="nothing to edit"):
        hand(at, "a", "edit")
    assert at.inline.step(1, "a")["input"] == {"depth": 1.5}


def test_the_last_step_of_a_paused_run_can_be_supplied(at: Floor) -> None:
    """The run ends then, paused as it was."""
    weave(at, lambda work: step("a", work))
    at.do(PauseRun(1, "ann"))
    at.end("1/a", "stopped")
    hand(at, "a", "supply", output=1)

    assert run_state(at) == "done"


def test_what_cannot_be_done_says_why(at: Floor) -> None:
    """In words, with the state that stands in the way."""
    loom, work = task_loom()
    loom.workflow("w", plan=sequence(step("a", work), step("b", work)))
    at.publish(loom)
    at.worker()
    at.start("l/w")
    for action, address, why in (
        ("retry", "a", "only one that failed"),
        ("skip", "a", "an attempt in hand"),
        ("resume", "a", "not paused"),
        ("pause", "b", "has not begun"),
    ):
        with pytest.raises(Conflict, match=why):
            hand(at, address, action)
    with pytest.raises(NotFound, match="no part 'x'"):
        hand(at, "x", "skip")


def runs_of_hour(at: Floor) -> int:
    """How many ended, as counted by the hour."""
    plan = at.inline.database.read(
        lambda reader: read_plan(
            workflow_records.plan_document(reader, run_lists.run(reader, 1)["plan"])
        )
    )
    days = at.inline.database.read(
        lambda reader: hourly_counts.over_days(reader, plan, at.inline.clock.now, 2)
    ).days
    return sum(day.ended for day in days)


def test_a_step_of_a_follow_up_is_retried_when_its_run_has_ended(at: Floor) -> None:
    """Alone: the plan has decided the run, and nothing of it runs again."""
    weave(
        at,
        lambda work: each(
            "h", over=[0, 1], at_once=2, do=step("go", work, on_end=step("tell", work))
        ),
    )
    at.end("1/h[0]/go")
    at.fail("1/h[0]/go/on_end/tell")

    with pytest.raises(Conflict, match="retry it when its run has ended"):
        hand(at, "h[0]/go/on_end/tell", "retry")
    at.drain()
    ended = at.inline.run(1)
    assert (ended["state"], ended["followups_failed"]) == ("done", 1)
    given, counted = len(at.given), runs_of_hour(at)
    at.advance(60)

    hand(at, "h[0]/go/on_end/tell", "retry")
    assert at.running == ["1/h[0]/go/on_end/tell"]
    assert (run_state(at), at.inline.run(1)["outcome"]) == ("running", "done")
    at.drain()
    again = at.inline.run(1)
    assert (again["state"], again["followups_failed"]) == ("done", 0)
    assert (again["output"], again["round"], again["progress"]) == (
        *(ended["output"], 1),
        ended["progress"],
    )
    assert at.given[given:] == ["1/h[0]/go/on_end/tell"]
    assert again["ended_at"] == ended["ended_at"]
    assert runs_of_hour(at) == counted == 1, "it is the end that was counted before"
    with pytest.raises(Conflict, match="past cancel"):
        hand(at, "h[0]/go/on_end/tell", "cancel")


@pytest.mark.parametrize("fails_again", [False, True])
def test_a_follow_up_of_the_plan_is_retried_and_those_beside_it_are_not(
    at: Floor, fails_again: bool
) -> None:
    """What came after it in time, `on_end`, has run and does not run twice."""
    loom, work = task_loom()
    loom.workflow(
        "w",
        plan=sequence(step("a", work), step("b", work)),
        on_failure=sequence(step("tell", work), step("more", work)),
        on_end=step("tidy", work),
    )
    at.publish(loom)
    at.worker()
    at.start("l/w")
    at.end("1/a")
    for address in ("1/b", "1/on_failure/tell"):
        at.fail(address)
    at.end("1/on_end/tidy")
    assert (run_state(at), at.inline.run(1)["followups_failed"]) == ("failed", 1)

    hand(at, "on_failure/tell", "retry")
    assert (run_state(at), at.running) == ("running", ["1/on_failure/tell"])
    (at.fail if fails_again else at.end)("1/on_failure/tell")
    at.drain()
    found = at.inline.run(1)
    assert (found["state"], found["followups_failed"]) == ("failed", int(fails_again))
    assert found["error"]["step"] == "1/b"
    at.do(MendRun(1, "ann"))
    at.drain()
    assert (run_state(at), at.inline.run(1)["followups_failed"]) == ("done", 0)


def test_runs_of_which_a_follow_up_failed_are_found(at: Floor) -> None:
    """By a filter."""
    weave(at, lambda work: step("a", work, on_end=step("tell", work)))
    at.start("l/w")
    at.end("1/a")
    at.fail("1/a/on_end/tell")
    at.drain()
    wanted = run_lists.RunFilter(values={"followups_failed": True})
    assert at.inline.database.read(lambda one: run_lists.run_numbers(one, wanted)) == [1]


def test_what_was_decided_of_a_step_is_told_before_it_begins(at: Floor) -> None:
    """Inputs, pool, priority, and how it is to end."""
    weave(at, lambda work: sequence(step("a", work), step("b", work), step("c", work)))
    hand(at, "b", "edit", inputs={"value": 7}, priority=4)
    hand(at, "c", "supply", output=[1])
    nothing = {"inputs": {}, "pool": None, "priority": None, "end": None, "output": None}
    assert at.inline.step(1, "a")["decided"] is None
    assert at.inline.step(1, "b")["decided"] == {**nothing, "inputs": {"value": 7}, "priority": 4}
    assert at.inline.step(1, "c")["decided"] == {**nothing, "end": "supply", "output": [1]}
    at.drain()


def test_what_was_saved_is_void_for_other_inputs(at: Floor) -> None:
    """A paused step begins anew when its inputs are edited, and goes on when they are not."""
    weave(at, lambda work: step("a", work, value=1))
    for inputs in (None, {"value": 2}):
        hand(at, "a", "pause")
        at.end("1/a", "stopped", saved={"places": {"": {"at": 3}}})
        hand(at, "a", "edit", inputs=inputs, priority=1)
        hand(at, "a", "resume")
        (message,) = at.hands["w"].attempts.values()
        assert ("saved" in message) == (inputs is None)


@pytest.mark.parametrize("paused", [False, True])
def test_what_is_decided_of_an_ended_run_is_met_by_its_mend(at: Floor, paused: bool) -> None:
    """A failed step is supplied, one that was not reached is passed over; the rest runs."""
    weave(
        at,
        lambda work: sequence(
            step("a", work),
            parallel("p", step("b", work, value=output("a")), step("c", work), step("d", work)),
        ),
    )
    at.fail("1/a")
    hand(at, "a", "supply", output=7)
    hand(at, "p/c", "skip")
    hand(at, "p/d", "supply", output=1)
    hand(at, "p/d", "supply", output=2)
    assert run_state(at) == "failed"
    with pytest.raises(Conflict, match="`mend` runs again"):
        hand(at, "a", "retry")
    at.do(MendRun(1, "t", paused=paused))

    if paused:
        assert (run_state(at), at.running) == ("paused", [])
        at.do(ResumeRun(1, "t"))
    assert at.running == ["1/p/b"]
    (message,) = at.hands["w"].attempts.values()
    assert message["input"] == {"value": 7}
    at.end("1/p/b", output=3)
    assert (run_state(at), at.inline.run(1)["output"]) == ("done", {"b": 3, "c": None, "d": 2})


def test_a_mend_of_what_was_all_decided_by_hand_ends_at_once(at: Floor) -> None:
    """Nothing is left that a pause could hold."""
    weave(at, lambda work: step("a", work))
    at.fail("1/a")
    hand(at, "a", "supply", output=7)
    at.do(MendRun(1, "t", paused=True))

    assert (run_state(at), at.inline.run(1)["output"]) == ("done", 7)


def test_what_is_done_in_an_ended_run_is_not_decided_otherwise(at: Floor) -> None:
    """Nor what its condition passed over."""
    weave(at, lambda work: sequence(step("a", work), step("b", work, only_if=output("a"))))
    at.end("1/a", output=False)
    for label in ("a", "b"):
        with pytest.raises(Conflict, match=f"step 1/{label} is"):
            hand(at, label, "skip")
