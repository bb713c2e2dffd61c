"""Which process gets which attempt, and what waits, without any process."""

from __future__ import annotations

import pytest

from tests.worker.fakes import Rooms, relay, with_rooms, work
from yarnloom.worker.routing import BEHIND_SECONDS, LOOK_SECONDS


def test_work_that_was_dropped_before_it_came_does_not_run() -> None:
    """And nothing of it is reported."""

    def do(rooms: Rooms) -> None:
        rooms.runner.drop(5)
        rooms.runner.take(work(5))
        assert rooms.runner.in_hand == set()

    assert with_rooms(do, started=False).reports.items == []


def test_the_same_work_twice_is_taken_once() -> None:
    """However many attempts came in between."""

    def do(rooms: Rooms) -> None:
        for attempt in range(1, 2_000):
            rooms.runner.take(work(attempt))
        rooms.runner.take(work(1))
        assert len(rooms.runner.in_hand) == 1_999
        rooms.runner.routing.hand_back_queue()

    assert len(with_rooms(do, started=False).reports.items) == 1_999


def test_what_is_behind_another_goes_to_its_process_or_back() -> None:
    """Wherever the one before it went: stopped, given back, or begun elsewhere."""

    def do(rooms: Rooms) -> None:
        routing = rooms.runner.routing
        for one in (*relay(1, 3), *relay(4, 3), *relay(7, 2)):
            rooms.runner.take(one)
        queue = routing._queues[False]
        assert [one["attempt"] for one in routing.take_first(queue, 9)] == [1, 2, 3]
        rooms.runner.stops.stop(4, "pause")
        assert routing.take_first(queue, 9) == []
        routing.queue_first([*relay(10, 4)[2:], work(20), *relay(30, 3)])
        assert rooms.runner.in_hand == {20, 30, 31, 32, 7, 8}
        assert [one["attempt"] for one in routing.take_first(queue, 9)] == [20]
        assert [one["attempt"] for one in routing.take_first(queue, 9)] == [30, 31, 32]

    items = with_rooms(do, started=False).reports.items
    assert [one["attempt"] for one in items] == [4, 5, 6, 12, 13]
    assert {one["outcome"] for one in items} == {"handed_back"}


def test_short_attempts_wait_in_a_process_and_long_ones_for_none() -> None:
    """What waits behind an attempt that turns out long is taken back, and given back later."""

    def do(rooms: Rooms) -> None:
        process, clock = rooms.process, rooms.clock
        rooms.take(work(1))
        process.done(1, clock.time, clock.time + 0.001)
        rooms.take(work(2), work(3))
        assert list(process.attempts) == [2, 3]
        process.begin(2, clock.time)
        clock.advance(3 * LOOK_SECONDS)
        assert [one["attempt"] for one in rooms.reports.begun] == [2]
        clock.advance(0.05)
        assert list(process.attempts) == [2]
        clock.advance(BEHIND_SECONDS)

    rooms = with_rooms(do)
    assert [(one["attempt"], one["outcome"]) for one in rooms.reports.items] == [
        (1, "done"),
        (3, "handed_back"),
    ]


@pytest.mark.parametrize("processes", [1, 3])
def test_attempts_go_to_the_process_that_has_the_least(processes: int) -> None:
    """One each, while nobody knows how long they take."""

    def do(rooms: Rooms) -> None:
        rooms.take(*(work(attempt) for attempt in range(processes + 2)))
        assert [len(process.attempts) for process in rooms.spawner.processes] == [
            *[1] * processes,
            *[0] * (len(rooms.spawner.processes) - processes),
        ]
        assert len(rooms.runner.routing.waiting) == 2

    with_rooms(do, processes=processes)


def test_work_for_other_code_waits_until_the_service_knows() -> None:
    """And goes back then."""

    def do(rooms: Rooms) -> None:
        rooms.runner.routing.wait_for_introduction()
        rooms.take(work(1, code_hash="older"))
        assert rooms.runner.in_hand == {1}
        rooms.runner.routing.introduced()
        assert rooms.runner.in_hand == set()

    assert [item["outcome"] for item in with_rooms(do).reports.items] == ["handed_back"]
