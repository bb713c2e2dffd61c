"""Stops of attempts, with a clock that the test moves and no process."""

from __future__ import annotations

import pytest

from tests.worker.fakes import Rooms, with_rooms, work
from yarnloom.worker.attempt_stops import AGAIN_SECONDS, KILL_SECONDS


@pytest.mark.parametrize(("why", "outcome"), [("cancel", "cancelled"), ("pause", "handed_back")])
def test_a_stop_that_comes_before_its_work_counts(why: str, outcome: str) -> None:
    """The two may come over different connections."""

    def do(rooms: Rooms) -> None:
        rooms.runner.stops.stop(5, why)
        rooms.runner.take(work(5))
        rooms.runner.take(work(6))
        assert rooms.runner.in_hand == {6}

    items = with_rooms(do, started=False).reports.items
    assert items == [{"attempt": 5, "outcome": outcome}]


def test_a_stop_for_what_has_ended_is_not_remembered() -> None:
    """Its number is nobody else's."""

    def do(rooms: Rooms) -> None:
        stops = rooms.runner.stops
        rooms.runner.take(work(5))
        stops.stop(5, "cancel")
        stops.stop(5, "cancel")
        rooms.runner.take(work(5))
        assert rooms.runner.in_hand == set()
        assert not stops._early_stops

    assert len(with_rooms(do, started=False).reports.items) == 1


def running(rooms: Rooms) -> None:
    """Let attempt 1 run."""
    rooms.take(work(1))
    rooms.process.begin(1, rooms.clock.time)


def test_a_stop_is_said_then_raised_then_the_process_is_killed() -> None:
    """Each after its time: the grace, and a second of raising."""

    def do(rooms: Rooms) -> None:
        running(rooms)
        process = rooms.process
        rooms.runner.stops.stop(1, "cancel")
        assert process.sent[-1]["why"] == "cancel"
        rooms.clock.advance(9.9)
        assert process.interrupted == []
        rooms.clock.advance(0.2)
        assert process.interrupted[0] == (1, "cancel")
        rooms.clock.advance(AGAIN_SECONDS)
        assert len(process.interrupted) > 1
        assert not process.killed
        rooms.clock.advance(KILL_SECONDS)
        assert process.killed

    with_rooms(do)


def test_a_pause_raises_nothing_and_can_be_taken_back() -> None:
    """However long it takes."""

    def do(rooms: Rooms) -> None:
        running(rooms)
        rooms.runner.stops.stop(1, "pause")
        rooms.clock.advance(1_000)
        assert rooms.process.interrupted == []
        rooms.runner.stops.go_on(1)
        assert rooms.process.sent[-1]["kind"] == "go_on"

    with_rooms(do)


def test_a_stop_without_grace_ends_the_grace() -> None:
    """The second word counts."""

    def do(rooms: Rooms) -> None:
        running(rooms)
        rooms.runner.stops.stop(1, "cancel")
        rooms.runner.stops.stop(1, "cancel", now=True)
        assert rooms.process.interrupted == [(1, "cancel")]

    with_rooms(do)
