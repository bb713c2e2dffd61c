"""Limits of a connection, on a clock that the test moves."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from typing import Any

import pytest
from uvicorn import Config
from uvicorn.server import ServerState

from yarnloom.service.http import connection_limits
from yarnloom.service.http.connection_limits import (
    HEAD_LIMIT,
    HEAD_SECONDS,
    SLOWEST,
    STALL_SECONDS,
    LimitedProtocol,
    Room,
    protocol_for,
)


class Task:
    """A request that never ends."""

    def add_done_callback(self, _: Any) -> None:
        """It never is."""


class Loop:
    """An event loop of which only timers and tasks are used; both go on by hand."""

    def __init__(self) -> None:
        self.now = 0.0
        self.timers: list[tuple[float, Any]] = []
        self.requests = 0

    def time(self) -> float:
        """What the test says."""
        return self.now

    def call_later(self, delay: float, call: Any) -> Any:
        """Call later, when the test moves the clock."""
        entry = (self.now + delay, call)
        self.timers.append(entry)
        return SimpleNamespace(cancel=lambda: entry in self.timers and self.timers.remove(entry))

    def create_task(self, coroutine: Any, **_: Any) -> Any:
        """A request reached the application; here it waits for ever."""
        coroutine.close()
        self.requests += 1
        return Task()

    def move(self, seconds: float) -> None:
        """Move the clock, and call what falls due."""
        until = self.now + seconds
        while due := [one for one in self.timers if one[0] <= until]:
            entry = min(due, key=lambda one: one[0])
            self.timers.remove(entry)
            self.now = entry[0]
            entry[1]()
        self.now = until


class Transport:
    """The other end of a connection."""

    def __init__(self) -> None:
        self.sent = b""
        self.closed = False

    def write(self, data: bytes) -> None:
        """Keep what is sent."""
        self.sent += data

    def close(self) -> None:
        """Note it."""
        self.closed = True

    def is_closing(self) -> bool:
        """Whether it was closed."""
        return self.closed

    def get_extra_info(self, _: str) -> None:
        """Nothing is known."""

    def pause_reading(self) -> None:
        """The application is slow."""

    def resume_reading(self) -> None:
        """It goes on."""


class Floor:
    """A service's connections."""

    def __init__(self, most: int = 100) -> None:
        self.loop = Loop()
        self.state = ServerState()
        self.kind = protocol_for(Room(most))

    def connect(self) -> tuple[LimitedProtocol, Transport]:
        """Open a connection."""
        config = Config(lambda *_: None, log_config=None)
        protocol = self.kind(config, self.state, {}, self.loop)
        transport = Transport()
        protocol.connection_made(transport)
        return protocol, transport


GET = b"GET /x HTTP/1.1\r\nHost: a\r\n\r\n"
POST = b"POST /x HTTP/1.1\r\nHost: a\r\nContent-Length: 1000000\r\n\r\n"
POLL = b"POST /api/v1/workers/w/ask HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n"


def test_headers_that_do_not_come_are_not_waited_for() -> None:
    """One byte a second for ever held a connection; one without a byte is closed in silence."""
    floor = Floor()
    silent, slow = floor.connect(), floor.connect()
    for at in range(9):
        slow[0].data_received(GET[at : at + 1])
        floor.loop.move(1.0)
    assert not silent[1].closed
    floor.loop.move(HEAD_SECONDS)

    assert silent[1].closed
    assert silent[1].sent == b""
    assert slow[1].closed
    assert b" 408 " in slow[1].sent


@pytest.mark.parametrize("filler", [b"X: " + b"y" * 70_000, b"X: y\r\n" * 12_000, b"/" * 70_000])
def test_headers_are_bounded_together(filler: bytes) -> None:
    """One long one, many short ones, or a long address; also where they come in one piece."""
    for size in (1, 100_000):
        floor = Floor()
        protocol, transport = floor.connect()
        request = b"GET /" + filler + b" HTTP/1.1\r\n\r\n" if filler[0:1] == b"/" else b""
        request = request or b"GET / HTTP/1.1\r\n" + filler + b"\r\n\r\n"
        step = size if size > 1 else 5_000
        for at in range(0, len(request), step):
            protocol.data_received(request[at : at + step])
        assert b" 431 " in transport.sent
        assert transport.closed
        assert floor.loop.requests == 0
        assert len(request) > HEAD_LIMIT


def test_a_body_that_stalls_is_cut() -> None:
    """It began, and nothing more came."""
    floor = Floor()
    protocol, transport = floor.connect()
    protocol.data_received(POST + b"x" * 10)
    floor.loop.move(STALL_SECONDS - 6)
    assert not transport.closed
    floor.loop.move(12)

    assert b" 408 " in transport.sent
    assert transport.closed


def test_a_body_that_trickles_is_cut() -> None:
    """Less than a kilobyte a second over a minute is no use to anybody."""
    floor = Floor()
    slow, enough = floor.connect(), floor.connect()
    slow[0].data_received(POST)
    enough[0].data_received(POST)
    for _ in range(14):
        slow[0].data_received(b"x" * (SLOWEST - 100) * 5)
        enough[0].data_received(b"x" * (SLOWEST + 100) * 5)
        floor.loop.move(5.0)

    assert slow[1].closed
    assert not enough[1].closed


def test_a_held_request_is_never_idle() -> None:
    """It has come as a whole: polls and event streams wait as long as they like."""
    floor = Floor()
    protocol, transport = floor.connect()
    protocol.data_received(GET)
    floor.loop.move(10_000.0)

    assert floor.loop.requests == 1
    assert not transport.closed


def test_connections_are_capped_with_room_for_workers() -> None:
    """Others are told to come again; a worker's request is taken up to the end."""
    floor = Floor(most=10)
    for _ in range(9):
        floor.connect()
    other, worker = floor.connect(), floor.connect()
    assert b" 503 " in worker[1].sent  # the eleventh of ten
    floor.state.connections.discard(worker[0])
    other[0].data_received(GET)
    assert b" 503 " in other[1].sent
    floor.state.connections.discard(other[0])
    worker = floor.connect()
    worker[0].data_received(POLL)

    assert worker[1].sent == b""
    assert floor.loop.requests == 1


@pytest.mark.parametrize(
    "data",
    [b"\x16\x03\x01", b"GET / HTTP/1.1\r\nA\x00: b\r\n\r\n", b"GET http://[::1 HTTP/1.1\r\n\r\n"],
)
def test_what_is_no_request_is_told_so(data: bytes) -> None:
    """As a problem, like every other mistake."""
    protocol, transport = Floor().connect()
    protocol.data_received(data)

    assert b" 400 " in transport.sent
    assert b"application/problem+json" in transport.sent
    assert transport.closed


def test_memory_goes_back_after_many_connections_were_closed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Once for each time that many were closed, and not for a few."""
    given_back: list[int] = []
    monkeypatch.setattr(connection_limits, "give_back", lambda: given_back.append(1))

    async def close_many() -> None:
        loop, room = asyncio.get_running_loop(), connection_limits.Room()
        monkeypatch.setattr(loop, "call_later", lambda _, do: do())
        for count in (*range(600), *range(600, 200, -1), *range(200, 900)):
            room.note(count)
        assert given_back == []
        for count in range(900, 0, -1):
            room.note(count)

    asyncio.run(close_many())
    assert given_back == [1]
