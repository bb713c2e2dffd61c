"""`at_once` for each value of a param, and keys that are free again after a run's end."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from pydantic import BaseModel

from tests.floor import Floor, floor
from yarnloom import Loom, param, step
from yarnloom.engine.commands import CancelRun, Started, StartRun
from yarnloom.errors import PlanError
from yarnloom.start_keys import generated_key, is_chosen
from yarnloom.store import audit


class Job(BaseModel):
    """Params."""

    customer: str | None = None
    number: int = 0


def job_loom(**options: Any) -> Loom:
    """A workflow of one step."""
    loom = Loom("l")

    @loom.task
    def work() -> None:
        raise AssertionError("only simulated workers run this")

    loom.workflow("w", params=Job, plan=step("it", work), **options)
    return loom


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor with a worker of many places."""
    with floor() as states:
        yield states
        assert audit(states.inline.database.writer) == []


def test_the_limit_holds_for_each_value(at: Floor) -> None:
    """Runs of one customer wait for each other, and for nobody else; over a restart, too."""
    at.publish(job_loom(at_once=1, per=param("customer")))
    at.worker(places=20)
    for customer in ("gull", "tern", "gull", None, None, "gull"):
        at.start("l/w", {"customer": customer})
    assert at.running == ["1/it", "2/it", "4/it"]
    why = at.inline.why(3)["reasons"][0]["text"]
    assert why == "waits until run 1 of l/w has ended: at most 1 are under way at once for gull"

    at.inline.restart()
    at.worker(places=20)
    at.end("2/it")
    assert at.running == ["1/it", "4/it"]
    at.end("1/it")
    assert at.running == ["4/it", "3/it"]
    at.do(CancelRun(6, "t"))
    at.end("3/it")
    assert at.running == ["4/it"]
    at.end("4/it")
    assert at.running == ["5/it"]


@pytest.mark.parametrize(("if_busy", "states"), [("skip", "rc"), ("replace", "cr")])
def test_what_a_busy_workflow_does_it_does_for_the_value(
    at: Floor, if_busy: Any, states: str
) -> None:
    """Another value's run is neither skipped nor replaced."""
    at.publish(job_loom(at_once=1, per=param("customer"), if_busy=if_busy))
    for customer in ("tern", "gull", "gull"):
        at.start("l/w", {"customer": customer})
    at.worker(places=20)
    found = "".join(at.inline.run(number)["state"][0] for number in (1, 2, 3))

    assert found == "r" + states


def test_a_chosen_key_is_free_again_after_its_time(at: Floor) -> None:
    """Counted from the end of its run; generated keys and those of schedules stay."""
    at.publish(job_loom(key_for="1h"))
    at.worker(places=20)

    def begin(key: str, number: int = 0) -> tuple[int, bool]:
        started: Started = at.do(StartRun("l/w", {"number": number}, key, "t"))
        return started.run.number, started.created

    generated = generated_key()
    keys = ("mine", generated, "schedule/nightly/2027-01-01T00:00:00Z", "outbox/x")
    assert [begin(key) for key in keys] == [(1, True), (2, True), (3, True), (4, True)]
    at.advance(7_200)
    assert begin("mine") == (1, False)  # its run has not ended
    at.drain()
    at.advance(3_500)
    assert begin("mine") == (1, False)
    at.advance(200)
    assert begin("mine", 7) == (5, True)
    assert [begin(key) for key in keys[1:]] == [(2, False), (3, False), (4, False)]
    assert [is_chosen(key) for key in keys] == [True, False, False, False]


def test_without_it_a_key_stays(at: Floor) -> None:
    """For as long as keys are kept."""
    at.publish(job_loom())
    at.worker(places=20)
    first = at.do(StartRun("l/w", {}, "mine", "t")).run.number
    at.drain()
    at.advance(86_400)

    assert at.do(StartRun("l/w", {}, "mine", "t")).run.number == first


def test_what_is_wrong_is_said() -> None:
    """A value without a limit, something else than a param, no duration."""
    loom = job_loom(per=param("customer"), key_for="soon")
    with pytest.raises(PlanError) as refused:
        loom.check()
    said = {problem.where: problem.message for problem in refused.value.problems}
    assert "give at_once= too" in said["w.per"]
    assert "expected a duration" in said["w.key_for"]

    with pytest.raises(PlanError) as refused:
        job_loom(at_once=1, per=param("custmer")).check()
    assert "did you mean 'customer'?" in refused.value.problems[0].message
