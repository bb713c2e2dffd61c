"""The processes of a worker: when one is replaced or started again, without any process."""

from __future__ import annotations

import signal

from tests.worker.fakes import Rooms, with_rooms, work
from yarnloom.worker.process_pool import LONGEST_RESPAWN, RESPAWN_SECONDS


def test_a_process_that_dies_makes_place_for_another() -> None:
    """Its attempt is lost, and what it had not begun runs elsewhere."""

    def do(rooms: Rooms) -> None:
        first = rooms.process
        rooms.take(work(1))
        first.attempts[2] = work(2)
        first.begin(1, rooms.clock.time)
        first.die(-signal.SIGSEGV, first.take_back())
        (again,) = [one for one in rooms.runner.pool.children if not one.shared]
        assert again is not first
        again.load()  # type: ignore[attr-defined]
        assert list(again.attempts) == [2]

    (item,) = with_rooms(do).reports.items
    assert (item["attempt"], item["outcome"]) == (1, "lost")
    assert "SIGSEGV" in item["error"]["message"]


def test_a_process_that_never_gets_ready_is_started_again_ever_later() -> None:
    """Up to half a minute."""

    def do(rooms: Rooms) -> None:
        rooms.process.die(1)
        pauses = []
        for _ in range(8):
            before = len(rooms.spawner.processes)
            process = rooms.spawner.processes[-1]
            if process.ready:
                process.ready = False
            process.die(1)
            waited = 0.0
            while len(rooms.spawner.processes) == before:
                rooms.clock.advance(RESPAWN_SECONDS)
                waited += RESPAWN_SECONDS
            pauses.append(waited)
        assert pauses[:3] == [RESPAWN_SECONDS, 2 * RESPAWN_SECONDS, 4 * RESPAWN_SECONDS]
        assert pauses[-1] == LONGEST_RESPAWN

    with_rooms(do)


def test_a_used_up_process_is_replaced() -> None:
    """After so many attempts; what waits goes to the next one."""

    def do(rooms: Rooms) -> None:
        first = rooms.process
        rooms.take(work(1), work(2))
        first.done(1, rooms.clock.time, rooms.clock.time)
        assert first.closing
        assert first.ended
        assert rooms.process is not first

    with_rooms(do, replace_after=1)


def test_new_code_replaces_the_others() -> None:
    """Only a process that could load it does; the service hears of it."""

    def do(rooms: Rooms) -> None:
        first = rooms.process
        rooms.runner.pool.reload()
        probe = rooms.spawner.processes[-1]
        probe.load(**{"l/t": {"code_hash": "newer"}})
        assert first.closing
        assert rooms.runner.pool.tasks["l/t"]["code_hash"] == "newer"

    assert "new code" in with_rooms(do).said


def test_code_that_cannot_be_loaded_replaces_nothing() -> None:
    """What was loaded goes on."""

    def do(rooms: Rooms) -> None:
        rooms.runner.pool.reload()
        rooms.spawner.processes[-1].tell(kind="unusable", message="SyntaxError")
        assert not rooms.process.closing

    assert any("what was loaded goes on" in text for text in with_rooms(do).said)


def test_places_are_processes_that_are_there() -> None:
    """None while they load, and none when the worker drains."""

    def do(rooms: Rooms) -> None:
        pool = rooms.runner.pool
        pool.start()
        assert pool.places == 0
        for process in list(rooms.spawner.processes):
            process.load()
        assert (pool.places, pool.io_places) == (2, 0)
        rooms.spawner.processes[-1].load()
        assert pool.io_places == 1
        pool.draining = True
        assert (pool.places, pool.io_places) == (0, 0)

    with_rooms(do, processes=2, started=False)


def test_processes_killed_while_they_load_never_end_the_worker() -> None:
    """It tries again, and says the trouble to the service until one has loaded the looms."""

    def do(rooms: Rooms) -> None:
        pool = rooms.runner.pool
        pool.start()
        for _ in range(6):
            rooms.spawner.processes[-1].die(-signal.SIGKILL)
            rooms.clock.advance(LONGEST_RESPAWN)
        assert pool.ready.done()
        assert pool.ready.exception() is None
        assert "SIGKILL" in (pool.trouble or "")
        assert (pool.places, pool.tasks) == (0, {})
        rooms.spawner.processes[-1].load()
        assert pool.trouble is None
        assert pool.places == 1
        assert rooms.said.count("new code") == 1

    with_rooms(do, started=False)


def test_a_process_whose_end_is_seen_before_it_is_heard_is_replaced() -> None:
    """One that loads looms and cannot be forked ends by itself, with code 0."""

    def do(rooms: Rooms) -> None:
        pool = rooms.runner.pool
        pool.start()
        rooms.spawner.processes[-1].die(0)
        rooms.clock.advance(LONGEST_RESPAWN)
        assert not pool.ready.done()
        rooms.spawner.processes[-1].load()
        assert pool.ready.done()
        assert pool.ready.exception() is None

    with_rooms(do, started=False)
