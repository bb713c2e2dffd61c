"""Messages to a worker that give many attempts, of which some are taken back."""

from __future__ import annotations

from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.workers import WorkerMessages


def test_attempts_that_are_no_longer_in_hand_are_left_out() -> None:
    """Of a message that was not sent yet; one of which none is left is not sent at all."""
    messages = WorkerMessages()
    messages.post_works(10, ["a", "b", "c"], 3)
    messages.post_works(20, ["d"], 1)
    messages.post_works(30, ["e", "f"], 1)
    sent = messages.take_unsent({10, 12, 30, 31})

    assert [message["items"] for message in sent] == [["a", None, "c"], ["e", "f"]]
    assert messages.take_unsent({10, 12, 30, 31}) == []


def test_what_is_known_of_a_part_goes_when_it_is_decided() -> None:
    """So a service that runs for a year does not grow."""
    memory = Memory()
    memory.grants.not_straight.add(7)
    memory.parts.passed |= {(7, 1): 1, (8, 1): 1}
    memory.parts.forget(7, [1])
    memory.grants.forget(7)

    assert not memory.grants.not_straight
    assert list(memory.parts.passed) == [(8, 1)]
