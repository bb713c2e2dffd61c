"""A worker's processes and what is in their queues, without any process."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import pytest

from yarnloom.worker.crew import Crew, CrewOptions

Message = dict[str, Any]


class Told:
    """What a crew tells."""

    def __init__(self) -> None:
        self.items: list[Message] = []
        self.forgotten: list[int] = []

    def report(self, item: Message) -> None:
        """An attempt ended."""
        self.items.append(item)

    def forget(self, attempt: int) -> None:
        """Nothing of an attempt is to be told any longer."""
        self.forgotten.append(attempt)

    def __getattr__(self, name: str) -> Callable[..., None]:
        return lambda *_: None


def with_crew(do: Callable[[Crew], None]) -> Told:
    """Do something with a crew that has no process; its reports."""
    told = Told()

    async def run() -> None:
        options = CrewOptions(("nowhere:loom",), 1, 1)
        crew = Crew(options, told, lambda: None, lambda _: None)
        try:
            do(crew)
        finally:
            crew.close()

    asyncio.run(run())
    return told


def work(attempt: int) -> Message:
    """An attempt."""
    return {"kind": "work", "attempt": attempt, "task": "l/t", "address": "1/t"}


@pytest.mark.parametrize(("why", "outcome"), [("cancel", "cancelled"), ("pause", "handed_back")])
def test_a_stop_that_comes_before_its_work_counts(why: str, outcome: str) -> None:
    """The two may come over different connections."""

    def do(crew: Crew) -> None:
        crew.stop(5, why)
        crew.take(work(5))
        crew.take(work(6))
        assert crew.in_hand == {6}

    assert with_crew(do).items == [{"attempt": 5, "outcome": outcome}]


def test_work_that_was_dropped_before_it_came_does_not_run() -> None:
    """And nothing of it is reported."""

    def do(crew: Crew) -> None:
        crew.drop(5)
        crew.take(work(5))
        assert crew.in_hand == set()

    assert with_crew(do).items == []


def test_a_stop_for_what_has_ended_is_not_remembered() -> None:
    """Its number is nobody else's."""

    def do(crew: Crew) -> None:
        crew.take(work(5))
        crew.stop(5, "cancel")
        crew.stop(5, "cancel")
        crew.take(work(5))
        assert crew.in_hand == set()
        assert not crew._early_stops

    assert len(with_crew(do).items) == 1


def test_the_same_work_twice_is_taken_once() -> None:
    """However many attempts came in between."""

    def do(crew: Crew) -> None:
        for attempt in range(1, 2_000):
            crew.take(work(attempt))
        crew.take(work(1))
        assert len(crew.in_hand) == 1_999
        crew.hand_back_queue()

    assert len(with_crew(do).items) == 1_999


def relay(first: int, count: int) -> list[Message]:
    """Attempts of which each is to be run right behind the one before it."""
    found = [work(first + at) for at in range(count)]
    for at in range(1, count):
        found[at]["behind"] = first + at - 1
    return found


def test_what_is_behind_another_goes_to_its_process_or_back() -> None:
    """Wherever the one before it went: stopped, given back, or begun elsewhere."""

    def do(crew: Crew) -> None:
        for one in (*relay(1, 3), *relay(4, 3), *relay(7, 2)):
            crew.take(one)
        assert [one["attempt"] for one in crew._take_first(crew._queues[False], 9)] == [1, 2, 3]
        crew.stop(4, "pause")
        assert crew._take_first(crew._queues[False], 9) == []
        crew._queue_first([*relay(10, 4)[2:], work(20), *relay(30, 3)])
        assert crew.in_hand == {20, 30, 31, 32, 7, 8}
        assert [one["attempt"] for one in crew._take_first(crew._queues[False], 9)] == [20]
        assert [one["attempt"] for one in crew._take_first(crew._queues[False], 9)] == [30, 31, 32]

    told = with_crew(do).items
    assert [one["attempt"] for one in told] == [4, 5, 6, 12, 13]
    assert {one["outcome"] for one in told} == {"handed_back"}
