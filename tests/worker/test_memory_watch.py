"""Attempts that use more memory than they may, without any process."""

from __future__ import annotations

import pytest

from tests.worker.fakes import Rooms, with_rooms, work
from yarnloom.worker import attempt_runner
from yarnloom.worker.memory_watch import MEMORY_SECONDS


def test_an_attempt_that_uses_too_much_is_ended(monkeypatch: pytest.MonkeyPatch) -> None:
    """It fails, and its process makes place for another."""
    used = {"bytes": 10}
    monkeypatch.setattr(attempt_runner, "memory_of", lambda pid: used["bytes"])

    def do(rooms: Rooms) -> None:
        first = rooms.process
        rooms.take(work(1, memory=100))
        rooms.clock.advance(MEMORY_SECONDS)
        assert rooms.reports.items == []
        used["bytes"] = 101
        rooms.clock.advance(MEMORY_SECONDS)
        assert first.closing

    (item,) = with_rooms(do).reports.items
    assert item["error"]["type"] == "MemoryExceeded"
    assert item["memory"] == 101


def test_nobody_looks_where_no_attempt_has_a_limit() -> None:
    """An idle worker costs nothing."""

    def do(rooms: Rooms) -> None:
        rooms.take(work(1))
        rooms.clock.timers.clear()
        rooms.runner._memory.keep_watching()
        assert rooms.clock.timers == []

    with_rooms(do)
