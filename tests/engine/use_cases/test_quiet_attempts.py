"""Finding trouble: what says nothing of its progress, who is idle, what waits for itself."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor, task_loom
from yarnloom import Loom, Retry, sequence, step
from yarnloom.engine.commands import ListQuiet, ListWorkers, Report, Why
from yarnloom.errors import PlanError
from yarnloom.service.render.reasons import why_json
from yarnloom.store import audit
from yarnloom.units import iso_time


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor of workers."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []


def run_of(at: Floor, places: int = 1, **rules: Any) -> int:
    """A run of one step with some rules."""
    loom, work = task_loom()
    loom.workflow("w", plan=sequence(step("a", work, **rules)))
    at.publish(loom)
    at.worker(places=places)
    return at.start("l/w")


def kinds(at: Floor, run: int, **more: Any) -> list[str]:
    """The kinds of reasons for which the steps of a run wait."""
    why = why_json(at.do(Why(run, **more)))
    return [reason["kind"] for wait in why["waits"] for reason in wait["reasons"]]


def say(at: Floor, address: str, done: int) -> None:
    """A word of progress."""
    worker, attempt = at.find(address)
    at.do(Report(worker, saved={attempt: {"progress": {"done": done, "total": 100}}}))


def test_a_step_that_says_nothing_for_too_long_is_stuck(at: Floor) -> None:
    """Each word counts, and it is only shown."""
    run = run_of(at, quiet_for="10m")
    at.advance(599)
    say(at, "1/a", 41)
    at.advance(599)
    assert (kinds(at, run), at.do(ListQuiet())) == (["running"], [])
    at.advance(2)
    assert (kinds(at, run), at.do(ListQuiet())) == (["quiet", "running"], [1])
    text = why_json(at.do(Why(run)))["waits"][0]["reasons"][0]["text"]
    assert text == "is stuck: no word of progress for 10 min 1 s, at 41"
    assert at.hands["w"].orders == []
    say(at, "1/a", 42)
    assert (kinds(at, run), at.do(ListQuiet())) == (["running"], [])
    at.end("1/a")
    at.advance(1_000)
    assert at.do(ListQuiet()) == []


def test_one_that_is_told_so_is_stopped_and_tried_again(at: Floor) -> None:
    """As at a time-out: it is a failed try, and its retry rule says whether there is another."""
    run = run_of(at, quiet_for=60, if_quiet="retry", retry=Retry(2, wait=1, jitter=0))
    for _ in range(2):
        at.advance(61)
        assert at.hands["w"].orders[-1]["why"] == "quiet"
        at.end("1/a", "cancelled")
        at.advance(1.1)
    found = at.inline.run(run)
    assert (found["state"], found["error"]["type"]) == ("failed", "Quiet")
    assert found["error"]["message"] == "no word of progress for 1 min"


def test_after_a_restart_it_has_all_its_time_again(at: Floor) -> None:
    """What it said before is not known any more."""
    run_of(at, quiet_for=60)
    at.advance(50)
    at.inline.restart()
    at.worker()
    at.advance(55)
    assert at.do(ListQuiet()) == []
    at.advance(6)
    assert at.do(ListQuiet()) == [1]


@pytest.mark.parametrize(
    ("rules", "problem"),
    [({"if_quiet": "again"}, "expected one of 'show', 'retry'"), ({"quiet_for": "soon"}, "soon")],
)
def test_wrong_rules_are_said(rules: dict[str, Any], problem: str) -> None:
    """With what was found and expected."""
    loom = Loom("l")

    @loom.task(**rules)
    def work() -> None: ...

    loom.workflow("w", plan=step("a", work))
    with pytest.raises(PlanError, match=problem):
        loom.publication()


def test_workers_say_since_when_they_are_idle_and_what_they_ran_last(at: Floor) -> None:
    """While they have something in hand they are not."""
    run_of(at)
    (busy,) = at.do(ListWorkers())
    assert (busy.idle_since, busy.last) == (None, None)
    at.end("1/a")
    at.advance(5)
    (idle,) = at.do(ListWorkers())
    assert idle.idle_since == idle.last.ended_at
    assert iso_time(idle.idle_since) == at.inline.run(1)["ended_at"]


def test_who_comes_before_is_told_only_where_it_is_asked(at: Floor) -> None:
    """It takes a look at all that waits, of which the overview asks nothing."""
    run_of(at)
    at.start("l/w", priority=1)
    last = at.start("l/w")
    assert kinds(at, last) == ["no_place", "priority"]
    assert kinds(at, last, order=False) == ["no_place"]


def test_a_run_that_waits_for_itself_is_named(at: Floor) -> None:
    """Its task holds the only place, and waits for a run that needs one."""
    outer = run_of(at)
    inner = at.start("l/w")
    _, attempt = at.find("1/a")
    assert kinds(at, inner) == ["no_place"]
    waiters = {attempt: inner}
    assert "itself" in kinds(at, inner, waiters=waiters)
    assert kinds(at, outer, waiters=waiters) == ["running", "waits_for_run"]
    text = why_json(at.do(Why(inner, waiters=waiters)))["waits"][0]["reasons"][0]["text"]
    assert text.startswith("can never begin: the only place is held by run 1, in which")
    at.worker("other")
    assert at.running == ["1/a", "2/a"]
    assert "itself" not in kinds(at, inner, waiters=waiters)


def test_one_that_waits_for_what_still_runs_is_not_said_to_wait_for_itself(at: Floor) -> None:
    """What it waits for has something in hand, so a place comes free."""
    run_of(at, places=2)
    other = at.start("l/w")
    third = at.start("l/w")
    waiters = {at.find("1/a")[1]: other}
    assert "itself" not in kinds(at, third, waiters=waiters)
    at.drain()
