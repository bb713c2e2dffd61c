"""The two-way channel between a worker and one of its processes: JSON frames on a socket.

A frame is four bytes of length and eight bytes with the number of the attempt that it is about (0
for none), both big-endian, and JSON. So what cannot be read costs one attempt, and is told as a
message of the kind `unreadable`.
"""

from __future__ import annotations

import contextlib
import socket
import threading
from typing import Any

from yarnloom.errors import ValueRefused
from yarnloom.values import decode, dump

Message = dict[str, Any]
UNREADABLE = "unreadable"
_CHUNK = 1 << 18
_READS = 4
_HEAD = 12
LARGEST = 64 * 2**20
"""Bytes of a frame; a longer one cannot have been meant."""


class Closed(Exception):
    """The other side is gone."""


class Broken(Exception):
    """What came is no frame, so nothing more can be read."""


class Channel:
    """One end of the channel."""

    def __init__(self, sock: socket.socket) -> None:
        sock.set_inheritable(False)
        self._sock = sock
        self._buffer = bytearray()
        self._sending = threading.Lock()

    def fileno(self) -> int:
        """For an event loop to watch."""
        return self._sock.fileno()

    def send(self, message: Message) -> None:
        """Send a message; any thread may.

        Raises:
            ValueRefused: it cannot be written as JSON; nothing was sent.
            Closed: the other side is gone.
        """
        data = dump(message)
        head = len(data).to_bytes(4, "big") + (message.get("attempt") or 0).to_bytes(8, "big")
        with self._sending:
            try:
                self._sock.sendall(head + data)
            except OSError as error:
                raise Closed from error

    def receive(self) -> Message:
        """Wait for the next message.

        Raises:
            Closed: the other side is gone.
            Broken: what came is no frame.
        """
        while (message := self._take()) is None:
            self._read(0)
        return message

    def pending(self) -> list[Message]:
        """The messages that have arrived, without waiting; of very many the first.

        Raises:
            Closed: the other side is gone and everything it sent was taken.
            Broken: what came is no frame.
        """
        found: list[Message] = []
        try:
            with contextlib.suppress(BlockingIOError):
                for _ in range(_READS):
                    self._read(socket.MSG_DONTWAIT)
        except Closed:
            if not self._buffer:
                raise
        while (message := self._take()) is not None:
            found.append(message)
        return found

    def close(self) -> None:
        """Close this end."""
        self._sock.close()

    def _read(self, flags: int) -> None:
        try:
            data = self._sock.recv(_CHUNK, flags)
        except ConnectionError as error:
            raise Closed from error
        if not data:
            raise Closed
        self._buffer += data

    def _take(self) -> Message | None:
        if len(self._buffer) < _HEAD:
            return None
        length = int.from_bytes(self._buffer[:4], "big")
        if length > LARGEST:
            raise Broken(f"a frame of {length:,} bytes")
        end = _HEAD + length
        if len(self._buffer) < end:
            return None
        attempt = int.from_bytes(self._buffer[4:_HEAD], "big")
        data = bytes(self._buffer[_HEAD:end])
        del self._buffer[:end]
        try:
            message: Message = decode(data, "a message between a worker and its process")
        except ValueRefused as error:
            return {"kind": UNREADABLE, "attempt": attempt, "message": str(error)}
        return message
