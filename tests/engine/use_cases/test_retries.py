"""Tries: when a failed attempt is followed by another, and what ends it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor, state, task_loom
from tests.fractions import broken_fractions
from yarnloom import Retry, TryLater, each, parallel, sequence, step
from yarnloom.engine.commands import CancelRun, LoseWorker, Report, ReportItem, Tick
from yarnloom.store import audit
from yarnloom.testing import run_workflow


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor of which the records are right at the end."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


# The rule at work


def tried_step(at: Floor, **rules: Any) -> int:
    """A run of one step with some rules, begun."""
    loom, work = task_loom()
    loom.workflow("one", plan=step("it", work, **rules))
    at.publish(loom)
    at.worker()
    return at.start("one")


def attempts(at: Floor, number: int) -> list[tuple[int, int, str | None]]:
    """Number, tries and outcome of each attempt."""
    found = at.inline.step(number, "it")["attempts"]
    return [(one["number"], one["tries"], one["outcome"]) for one in found]


def test_a_step_fails_four_times_and_passes_the_fifth(at: Floor) -> None:
    """Each attempt keeps its error; the waits grow; a done step shows none."""
    number = tried_step(at, retry=Retry(attempts=5, wait=1, growth=2, jitter=0))
    for wait in (1, 2, 4, 8):
        at.fail(f"{number}/it")
        assert state(at, number, "it") == "backing_off"
        assert at.inline.step(number, "it")["error"]["message"] == "it failed"
        at.advance(wait - 0.01)
        assert at.running == []
        at.advance(0.01)
        assert at.running == [f"{number}/it"]
    at.end(f"{number}/it", output=7)

    found = at.inline.step(number, "it")
    assert (found["state"], found["error"], found["tries"]) == ("done", None, 4)
    assert [attempt["error"] and attempt["error"]["message"] for attempt in found["attempts"]] == [
        *["it failed"] * 4,
        None,
    ]
    assert attempts(at, number) == [*((n, n, "failed") for n in range(1, 5)), (5, 5, "done")]


def test_only_failures_spend_tries(at: Floor) -> None:
    """What is lost or handed back has a new number, and the same try."""
    number = tried_step(at, retry=Retry(attempts=2, wait=1, jitter=0))
    at.end(f"{number}/it", "lost", error={"message": "gone"})
    at.end(f"{number}/it", "handed_back")
    at.fail(f"{number}/it")
    at.advance(1)
    at.end(f"{number}/it", "lost", error={"message": "gone"})
    at.fail(f"{number}/it")

    assert attempts(at, number) == [
        (1, 1, "lost"),
        (2, 1, "handed_back"),
        (3, 1, "failed"),
        (4, 2, "lost"),
        (5, 2, "failed"),
    ]
    run = at.inline.run(number)
    assert run["error"]["no_more_tries"] == "that was try 2 of 2"


@pytest.mark.parametrize(("losses", "starts"), [(None, 4), (0, 1), (1, 2)])
def test_losses_are_counted_apart(at: Floor, losses: int | None, starts: int) -> None:
    """Three are borne unless it says otherwise, whatever its tries."""
    number = tried_step(at, losses=losses, retry=Retry(attempts=50))
    for _ in range(starts):
        at.end(f"{number}/it", "lost", error={"type": "Lost", "message": "its worker is gone"})
    run = at.inline.run(number)

    assert len(attempts(at, number)) == starts
    assert run["state"] == "failed"
    expected = "lost once" if starts == 1 else f"lost {starts} times"
    assert run["error"]["message"].startswith(expected)


@pytest.mark.parametrize(
    ("outcome", "item", "after"),
    [
        ("refused", {"error": {"type": "GiveUp", "message": "never"}}, None),
        ("failed", {"error": {"type": "TryLater", "message": "busy"}, "after": 30.0}, 30.0),
    ],
)
def test_a_task_can_choose(
    at: Floor, outcome: str, item: dict[str, Any], after: float | None
) -> None:
    """To fail at once, or when to be tried again."""
    number = tried_step(at, retry=Retry(attempts=2, wait=1))
    at.end(f"{number}/it", outcome, **item)

    if after is None:
        assert state(at, number, "it") == "failed"
        return
    at.advance(after - 0.01)
    assert state(at, number, "it") == "backing_off"
    at.advance(0.01)
    assert at.running == [f"{number}/it"]


def test_a_back_off_survives_a_restart(at: Floor) -> None:
    """Its time is in the records, not in memory."""
    number = tried_step(at, retry=Retry(wait=60, jitter=0))
    at.fail(f"{number}/it")
    at.advance(30)
    at.inline.restart()
    at.worker()
    at.advance(29.9)
    assert at.running == []
    at.advance(0.2)
    assert at.running == [f"{number}/it"]


def test_a_real_error_is_told_apart_by_its_classes() -> None:
    """What a task raises is known by every class that it is of."""
    loom, _ = task_loom()
    seen: list[str] = []

    def declare(name: str, error: Exception, rule: Retry) -> None:
        @loom.task(name=f"{name}-task", retry=rule)
        def fails() -> None:
            seen.append(name)
            raise error

        loom.workflow(name, plan=step("it", fails))

    declare("connection", ConnectionResetError("cut"), Retry(attempts=3, wait="1h", on=[OSError]))
    declare("value", ValueError("wrong"), Retry(attempts=3, wait="1h", on=[OSError]))
    declare("later", TryLater("2h", "closed"), Retry(attempts=2, never_on=[Exception]))

    ends = [run_workflow(loom, name) for name in ("connection", "value", "later")]

    assert [run.state for run in ends] == ["failed"] * 3
    assert seen == ["connection"] * 3 + ["value"] + ["later"] * 2
    assert ends[0].error is not None
    assert "kinds" not in ends[0].error


def test_a_run_in_a_test_passes_over_every_wait() -> None:
    """However its times are rounded: many waits, of lengths that no float holds."""
    loom, _ = task_loom()

    @loom.task(retry=Retry(attempts=150, wait=0.1, growth=1.033, longest=7.7))
    def fails() -> None:
        raise OSError

    loom.workflow("w", plan=step("it", fails))

    assert run_workflow(loom, "w").steps[0]["tries"] == 150


# Time-outs and deadlines


def orders(at: Floor) -> list[str]:
    """Why the worker was told to stop something."""
    return [order["why"] for order in at.hands["w"].orders if order["kind"] == "stop"]


def test_a_time_out_is_a_failed_try(at: Floor) -> None:
    """It is told to stop; what it raises is the time-out; the next try has its own time."""
    number = tried_step(at, timeout="30s", retry=Retry(attempts=2, wait=1, jitter=0))
    at.advance(29.9)
    assert orders(at) == []
    at.advance(0.2)
    assert orders(at) == ["timeout"]
    assert at.inline.step(number, "it")["stop_asked"] == "timeout"
    at.end(f"{number}/it", "cancelled", error={"type": "Stopped", "message": ""})

    (first,) = at.inline.step(number, "it")["attempts"]
    assert (first["outcome"], first["error"]["type"]) == ("failed", "TimedOut")
    assert first["error"]["message"] == "its timeout of 30 s has passed"
    at.advance(1)
    at.advance(29)
    assert orders(at) == ["timeout"]
    at.end(f"{number}/it")
    assert at.inline.run(number)["state"] == "done"


def test_what_comes_within_the_grace_of_a_time_out_is_kept(at: Floor) -> None:
    """Nothing that was worked out is thrown away."""
    number = tried_step(at, timeout=5)
    at.advance(6)
    at.end(f"{number}/it", output=1)

    assert at.inline.run(number)["state"] == "done"


def test_no_time_runs_before_it_begins_or_after_a_restart_anew(at: Floor) -> None:
    """Handed out is not begun; and a restart does not grant more time."""
    at.begins = False
    number = tried_step(at, timeout=10)
    at.advance(60)
    assert orders(at) == []
    at.begin(f"{number}/it")
    at.advance(6)
    at.inline.restart()
    at.worker()
    at.advance(3)
    assert orders(at) == []
    at.advance(1.1)
    assert orders(at) == ["timeout"]


def test_timers_do_not_pile_up(at: Floor) -> None:
    """Whatever ends in time leaves nothing behind; and a time that is past wakes nobody twice."""
    number = tried_step(at, timeout="1h", retry=Retry(attempts=None, wait=2, jitter=0))
    memory = at.inline.engine._memory
    for _ in range(50):
        at.fail(f"{number}/it")
        at.advance(2)

    assert len(memory.attempts.timeouts) == 1
    assert len(memory.timers._heap) <= 5
    statements: list[str] = []
    at.end(f"{number}/it")
    at.inline.database.writer.set_trace_callback(statements.append)
    at.advance(3700)
    at.inline.database.writer.set_trace_callback(None)
    assert statements == []


@pytest.mark.parametrize("where", ["ready", "running", "backing off"])
def test_a_deadline_ends_a_step_wherever_it_stands(at: Floor, where: str) -> None:
    """It counts from when the step could first run, tries and waits included."""
    loom, work = task_loom()
    loom.workflow(
        "one", plan=step("it", work, deadline="1m", retry=Retry(attempts=None, wait="2m"))
    )
    at.publish(loom)
    if where != "ready":
        at.worker()
    number = at.start("one")
    if where == "backing off":
        at.fail(f"{number}/it")
    at.advance(59.9)
    assert at.inline.run(number)["state"] != "failed"
    at.advance(0.2)
    if where == "running":
        assert orders(at) == ["deadline"]
        at.end(f"{number}/it", "cancelled", error={"type": "Stopped", "message": ""})

    error = at.inline.run(number)["error"]
    assert (error["type"], error["message"]) == (
        "DeadlinePassed",
        "its deadline of 1 min has passed",
    )


def test_a_later_deadline_ends_its_step_too(at: Floor) -> None:
    """The timer goes on to the next deadline when one has passed."""
    loom, work = task_loom()
    loom.workflow("one", plan=step("it", work, deadline="1m"))
    at.publish(loom)
    first = at.start("one")
    at.advance(30)
    second = at.start("one")
    at.advance(30.1)
    between = at.inline.run(second)["state"]
    at.advance(30)

    assert (at.inline.run(first)["state"], between) == ("failed", "queued")
    assert at.inline.run(second)["state"] == "failed"


def late_run(at: Floor) -> int:
    """A run of two steps, with a deadline and a follow-up, of which the first runs."""
    loom, work = task_loom()
    loom.workflow(
        "late",
        plan=sequence(step("one", work), step("two", work)),
        on_failure=step("tell", work),
        deadline="1h",
    )
    at.publish(loom)
    at.worker()
    return at.start("late")


def test_a_run_past_its_deadline_stops_like_a_cancel_and_ends_failed(at: Floor) -> None:
    """Its follow-up for failures runs, outside the deadline."""
    number = late_run(at)
    at.advance(3599)
    assert at.inline.run(number)["state"] == "running"
    at.advance(1.1)
    run = at.inline.run(number)
    assert (run["state"], run["stop_asked"]) == ("cancelling", "deadline")
    at.end(f"{number}/one", "cancelled", error={})
    assert at.running == [f"{number}/on_failure/tell"]
    at.advance(7200)
    at.end(f"{number}/on_failure/tell")

    run = at.inline.run(number)
    assert run["state"] == "failed"
    assert run["error"]["type"] == "DeadlinePassed"
    assert run["error"]["message"] == "the run's deadline of 1 h has passed"
    assert [state(at, number, one) for one in ("one", "two")] == ["cancelled"] * 2


def test_a_deadline_that_passed_too_late_changes_nothing(at: Floor) -> None:
    """If everything ended done all the same, the run is done; and a cancel stops the rest."""
    number = late_run(at)
    at.end(f"{number}/one")
    at.advance(3601)
    at.end(f"{number}/two")
    assert at.inline.run(number)["state"] == "done"

    number = late_run(at)
    at.advance(3601)
    at.do(CancelRun(number, "t"))  # the second stop: follow-ups too
    at.end(f"{number}/one", "cancelled", error={})
    assert at.running == []
    assert at.inline.run(number)["state"] == "failed"


def test_follow_ups_have_no_deadline(at: Floor) -> None:
    """A run whose plan ended in time is not stopped while what follows it runs."""
    number = late_run(at)
    at.fail(f"{number}/one")
    at.advance(3700)
    run = at.inline.run(number)
    assert (run["state"], run["stop_asked"], orders(at)) == ("running", None, [])
    at.end(f"{number}/on_failure/tell")

    assert at.inline.run(number)["error"]["step"] == f"{number}/one"


# What others do to a step that backs off


def test_a_step_that_backs_off_beside_a_failure_fails_with_its_last_error(at: Floor) -> None:
    """Nothing begins where its part has stopped; what runs and fails then does not back off."""
    loom, work = task_loom()
    again = Retry(attempts=9, wait=60)
    loom.workflow(
        "three",
        plan=parallel(
            "p",
            step("waits", work, retry=again),
            step("runs", work, retry=again),
            step("lost", work),
            step("fails", work),
        ),
    )
    at.publish(loom)
    at.worker(places=9)
    number = at.start("three")
    at.fail(f"{number}/p/waits", "ConnectionError")
    at.fail(f"{number}/p/fails")
    assert state(at, number, "p/waits") == "failed"
    at.fail(f"{number}/p/runs")
    at.end(f"{number}/p/lost", "lost", error={"message": "gone"})

    assert at.inline.step(number, "p/waits")["error"]["type"] == "ConnectionError"
    assert state(at, number, "p/runs") == "failed"
    assert at.inline.step(number, "p/lost")["skip_reason"] == "stopped"
    assert at.inline.run(number)["error"]["step"] == f"{number}/p/fails"


def test_a_step_that_backs_off_is_cancelled_with_its_run(at: Floor) -> None:
    """At once; and its time passes without it."""
    number = tried_step(at, retry=Retry(wait=5))
    at.fail(f"{number}/it")
    at.do(CancelRun(number, "t"))
    assert at.inline.run(number)["state"] == "cancelled"
    at.advance(10)
    assert at.running == []


@pytest.mark.parametrize(("at_once", "begun"), [(None, 300), (5, 5)])
def test_long_back_offs_do_not_choke_an_each(at: Floor, at_once: int | None, begun: int) -> None:
    """Unless `at_once` says how many may have begun, items that back off make room for others."""
    loom, work = task_loom()
    again = step("it", work, retry=Retry(wait="1h"))
    items = each(
        "items", over=list(range(300)), at_once=at_once, do=sequence(again, step("n", work))
    )
    loom.workflow("many", plan=items)
    at.publish(loom)
    at.worker(places=2)
    number = at.start("many")
    at.drain(at.fail)

    assert len(at.inline.items(number, "items", "running")) == begun
    at.advance(4000)
    at.drain()
    assert at.inline.run(number)["state"] == "done"


def test_a_worker_that_dies_while_others_back_off_changes_nothing_for_them(at: Floor) -> None:
    """Each step has its own story."""
    loom, work = task_loom()
    loom.workflow("two", plan=parallel("p", step("a", work, retry=Retry(wait=9)), step("b", work)))
    at.publish(loom)
    at.worker(places=2)
    number = at.start("two")
    at.fail(f"{number}/p/a")
    at.do(LoseWorker("w", "killed"))
    at.hands.clear()
    at.worker("v")

    assert at.running == [f"{number}/p/b"]
    assert state(at, number, "p/a") == "backing_off"
    at.do(Tick())
    at.do(Report("v", (ReportItem(at.find(f"{number}/p/b")[1], "done"),)))
