"""What a process passes on between attempts that it runs one behind the other."""

from __future__ import annotations

from typing import Any

import pytest

from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.worker.child.call_task import Called
from yarnloom.worker.child.one_at_a_time import LARGEST_PASSED, PassedOutputs


def work(attempt: int, **more: Any) -> dict[str, Any]:
    """An attempt."""
    return {"attempt": attempt, "input": {"own": 1}, **more}


def behind(attempt: int, **passed: int) -> dict[str, Any]:
    """An attempt that gets its inputs from those before it."""
    return work(attempt, behind=attempt - 1, passed=passed)


def test_each_gets_what_those_before_it_gave() -> None:
    """Of whatever came before it in its relay, and no other."""
    relay = PassedOutputs()
    assert relay.prepare(work(1))
    relay.keep(1, Called("done", output=[1, {"a": None}]))
    second = behind(2, given=1)
    assert relay.prepare(second)
    assert second["input"] == {"own": 1, "given": [1, {"a": None}]}
    relay.keep(2, Called("done", output="two"))
    third = behind(3, given=1, also=2)
    assert relay.prepare(third)
    assert third["input"] == {"own": 1, "given": [1, {"a": None}], "also": "two"}
    assert relay.prepare(work(7))
    assert not relay.prepare(behind(4, given=1)), "others have begun since"


@pytest.mark.parametrize(
    "called",
    [
        Called("failed", error={}),
        Called("called_again", after=1.0),
        Called("done", output="x" * LARGEST_PASSED),
        Called("done", output={"sha256": "0" * 64, "name": "a", "size": 1, "media_type": ""}),
        Called("done", output=float("nan")),
    ],
)
def test_what_cannot_be_passed_on_ends_it(called: Called) -> None:
    """The attempts behind it go back to the service."""
    relay = PassedOutputs()
    relay.prepare(work(1))
    relay.keep(1, called)
    assert not relay.prepare(behind(2, given=1))
    assert not relay.prepare(behind(3, given=1))


def test_a_message_of_many_is_taken_apart() -> None:
    """Each has the attempt before it, and whether another follows."""
    legs = [{"attempt": at, "input": {}, "passed": {}} for at in (5, 6)]
    message = {"kind": "work", "serial": 1, "attempt": 2, "input": {}, "relay": legs}
    first, second, third = one_by_one([message])
    assert "relay" not in first
    assert (first["attempt"], second["attempt"], third["attempt"]) == (2, 5, 6)
    assert (second["behind"], third["behind"]) == (2, 5)
    assert [one["leads"] for one in (first, second, third)] == [True, True, False]
