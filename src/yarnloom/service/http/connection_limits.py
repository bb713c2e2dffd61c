"""Connections: how many there are, and how much time and room each may take before it is answered.

uvicorn has no limits for headers and none for requests that come slowly, so its protocol is
subclassed. A held request and an event stream have been received whole: they are never idle.
"""

from __future__ import annotations

import asyncio
import logging
import resource
import socket
from collections import deque
from dataclasses import dataclass, field
from typing import Any, NoReturn

import httptools
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from yarnloom.errors import BadRequest, Busy, TooLarge, TooSlow, YarnloomError
from yarnloom.local_socket import is_trusted
from yarnloom.service.http.guard import guarded
from yarnloom.service.http.problems import MEDIA_TYPE, problem_of
from yarnloom.service.processes.process_memory import give_back
from yarnloom.values import dump

log = logging.getLogger("yarnloom.service")

HEAD_LIMIT = 64 * 2**10
"""Bytes of the request line and all headers."""

HEAD_SECONDS = 10.0
"""For these to arrive."""

MOST_WAITING = 16
"""Requests on one connection that wait for the answer to an earlier one."""

FREE_CHUNKS, SMALLEST_CHUNK = 1_000, 64
"""Pieces of a body that may be of any size; all others have so many bytes, in the mean."""

CHUNK_HEAD = 32
"""Bytes around a piece, at most."""

TRAILER_LIMIT = 8 * 2**10
"""Bytes of headers behind a body; nobody reads them."""

STALL_SECONDS = 30.0
"""Without any byte of a body that is not complete."""

SLOWEST = 1024
"""Bytes a second that a body must bring, over a minute."""

SLOW_SECONDS = 60.0
CHECK_SECONDS = 5.0

MOST_CONNECTIONS = 10_000
OWN_FILES = 256
"""File handles that are kept for everything but connections."""

MANY_CLOSED = 500
"""After so many connections were closed, their memory is given back."""

FOR_WORKERS = 0.1
"""The share of all connections that only workers get."""

_OF_WORKERS = b"/api/v1/workers"


def raise_file_limit() -> int:
    """Raise the number of file handles to the most that the system allows; return how many."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = hard if hard != resource.RLIM_INFINITY else max(soft, MOST_CONNECTIONS + OWN_FILES)
    try:
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
    except (ValueError, OSError):
        return soft
    return most


@dataclass(slots=True)
class Room:
    """How many connections there may be, and whether it was said that there are too many."""

    most: int = MOST_CONNECTIONS
    full: bool = field(default=False, init=False)
    _highest: int = field(default=0, init=False)

    def note(self, count: int) -> None:
        """Log once when connections run short, and once when there is room again.

        After many connections were closed, return their memory to the system.
        """
        self._highest = max(self._highest, count)
        if self._highest - count >= MANY_CLOSED:
            self._highest = count
            asyncio.get_running_loop().call_later(1, give_back)
        if count > self.most and not self.full:
            self.full = True
            log.error(
                "%d connections are open, the most that there may be; more are refused", count
            )
        elif self.full and count < 0.9 * self.most:
            self.full = False
            log.warning("%d connections are open; new ones are taken again", count)


class LimitedProtocol(HttpToolsProtocol):
    """One connection of a client, with limits.

    Attributes:
        room: shared by all connections; set on a subclass for each service.
    """

    room = Room()

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._refused = False
        self._receiving_body = False
        self._head_bytes = 0
        self._timer: asyncio.TimerHandle | None = None
        self._body_at = 0.0
        self._body_bytes = 0
        self._chunks = self._taken_bytes = self._trailer_bytes = 0
        self._samples: deque[tuple[float, int]] = deque()

    # The connection

    def connection_made(self, transport: Any) -> None:
        """Take a connection, unless there are too many; a request is to begin soon."""
        super().connection_made(transport)
        sock = transport.get_extra_info("socket")
        if sock is not None and sock.family == socket.AF_UNIX:
            if not is_trusted(sock, ""):
                self.transport.close()  # another user's, who is not even answered
                self._refused = True
                return
            self.app_state = {**self.app_state, "own_user": True}
        count = len(self.connections)
        self.room.note(count)
        if count > self.room.most:
            self._refuse(Busy("the service has too many connections; try again in a moment"))
            return
        self._set_timer(HEAD_SECONDS, self._head_is_late)

    def connection_lost(self, exc: Exception | None) -> None:
        """Forget the connection."""
        self._stop_timer()
        super().connection_lost(exc)
        self.room.note(len(self.connections))

    def data_received(self, data: bytes) -> None:
        """Pass on what came, within the limits."""
        if self._refused:
            return
        if self._receiving_body:
            self._body_at = self.loop.time()
            self._body_bytes += len(data)
            # What is neither body nor the sizes of its pieces is one header without an end.
            around = self._body_bytes - self._taken_bytes - len(data)
            if around > TRAILER_LIMIT + CHUNK_HEAD * self._chunks:
                self._refuse_head()
                return
        else:
            self._head_bytes += len(data)
            if self._timer is None:
                self._set_timer(HEAD_SECONDS, self._head_is_late)
        super().data_received(data)
        if not self._refused and not self._receiving_body and self._head_bytes > HEAD_LIMIT:
            self._refuse_head()

    def send_400_response(self, msg: str) -> None:
        """Answer what is no HTTP; what was refused already is answered."""
        if not self._refused:
            self._refuse(BadRequest(f"{msg} Expected HTTP/1.1."))

    def _unsupported_upgrade_warning(self) -> None:
        """Say nothing of a client that asks for another protocol: it is answered by HTTP."""

    def shutdown(self) -> None:
        """End with the service."""
        self._stop_timer()
        super().shutdown()

    # A request

    def on_headers_complete(self) -> None:
        """Begin with a request whose headers are all there."""
        self._stop_timer()
        self._head_bytes = 0
        size = len(self.url) + sum(len(name) + len(value) + 4 for name, value in self.headers)
        if size > HEAD_LIMIT:
            self._refuse_head()
            return
        room_left = len(self.connections) <= (1 - FOR_WORKERS) * self.room.most
        if not room_left and not self.url.startswith(_OF_WORKERS):
            self._refuse(Busy("the service has too many connections; try again in a moment"))
            return
        if sum(name == b"host" for name, _ in self.headers) > 1:
            self._refuse(BadRequest("the request has the header Host more than once."))
            return
        if len(self.pipeline) >= MOST_WAITING:
            self._stop_reading(f"more than {MOST_WAITING} requests wait on one connection.")
        try:
            super().on_headers_complete()
        except (httptools.HttpParserInvalidURLError, UnicodeError):
            self._refuse(BadRequest("the address of the request cannot be read."))
            return
        self._receiving_body = True
        self._body_at, self._body_bytes = self.loop.time(), 0
        self._chunks = self._taken_bytes = self._trailer_bytes = 0
        self._samples.clear()
        self._set_timer(CHECK_SECONDS, self._check_body)

    def on_chunk_header(self) -> None:
        """Count the pieces that a client makes of a body."""
        self._chunks += 1
        if self._chunks > FREE_CHUNKS + self._taken_bytes // SMALLEST_CHUNK:
            self._stop_reading(f"its body comes in pieces of less than {SMALLEST_CHUNK} bytes.")

    def on_header(self, name: bytes, value: bytes) -> None:
        """Take a header; one behind a body is counted and dropped."""
        if not self._receiving_body:
            super().on_header(name, value)
            return
        self._trailer_bytes += len(name) + len(value) + 4
        if self._trailer_bytes > TRAILER_LIMIT:
            self._stop_reading(f"there are more than {TRAILER_LIMIT:,} bytes behind its body.")

    def on_body(self, body: bytes) -> None:
        """Take a piece of a body."""
        self._taken_bytes += len(body)
        if not self._refused:
            super().on_body(body)

    def on_message_complete(self) -> None:
        """The request is there as a whole."""
        if self._refused:
            return
        self._receiving_body = False
        self._stop_timer()
        super().on_message_complete()

    def on_response_complete(self) -> None:
        """Close a connection on which more of an answered request would still come."""
        super().on_response_complete()
        if self._receiving_body and not self.transport.is_closing():
            self.transport.close()

    # Limits

    def _set_timer(self, seconds: float, then: Any) -> None:
        self._stop_timer()
        self._timer = self.loop.call_later(seconds, then)

    def _stop_timer(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _head_is_late(self) -> None:
        self._timer = None
        if self._head_bytes:
            text = f"the headers of a request did not arrive within {HEAD_SECONDS:g} s"
            self._refuse(TooSlow(text))
        else:
            self.transport.close()  # nothing was asked, so nothing is answered

    def _check_body(self) -> None:
        """Look now and then whether a body still comes, and fast enough."""
        self._timer = None
        now = self.loop.time()
        if self.flow.read_paused:
            # The service itself is slow to take it: that is not the client's fault.
            self._body_at = now
            self._samples.clear()
        if now - self._body_at > STALL_SECONDS:
            self._refuse(TooSlow(f"nothing of the body came for {STALL_SECONDS:g} s"))
            return
        self._samples.append((now, self._body_bytes))
        first, bytes_then = self._samples[0]
        if now - first >= SLOW_SECONDS:
            if self._body_bytes - bytes_then < SLOWEST * (now - first):
                self._refuse(TooSlow(f"the body came slower than {SLOWEST:,} bytes a second"))
                return
            self._samples.popleft()
        self._set_timer(CHECK_SECONDS, self._check_body)

    def _stop_reading(self, why: str) -> NoReturn:
        """Refuse a request while it is parsed, and parse no more of it."""
        self._refuse(BadRequest(why))
        raise httptools.HttpParserError(why)

    def _refuse_head(self) -> None:
        text = f"the headers of a request may have {HEAD_LIMIT:,} bytes; these have more"
        self._refuse(TooLarge(text), 431)

    def _refuse(self, error: YarnloomError, status: int | None = None) -> None:
        """Answer where no handler does, unless it has begun to, and close the connection."""
        self._refused = True
        self._stop_timer()
        if self.cycle is None or not self.cycle.response_started or self.cycle.response_complete:
            code, body = problem_of(error)
            content = dump({**body, "status": status or code})
            headers = guarded(
                [
                    (b"content-type", MEDIA_TYPE.encode()),
                    (b"content-length", str(len(content)).encode()),
                    (b"connection", b"close"),
                ]
            )
            lines = [f"HTTP/1.1 {status or code} Refused".encode()]
            lines += [name + b": " + value for name, value in headers]
            self.transport.write(b"\r\n".join(lines) + b"\r\n\r\n" + content)
        self.transport.close()
        if self.cycle is not None and not self.cycle.response_complete:
            # Its handler waits for the rest, which nobody will read.
            self.cycle.disconnected = True
            self.cycle.message_event.set()


def protocol_for(room: Room) -> type[LimitedProtocol]:
    """Return the protocol of one service's connections."""
    return type("Protocol", (LimitedProtocol,), {"room": room})
