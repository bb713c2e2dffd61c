"""The two-way channel between a worker and one of its processes: JSON frames on a socket.

A frame is four bytes of length, big-endian, and that many bytes of JSON.
"""

from __future__ import annotations

import contextlib
import socket
import threading
from typing import Any

from pydantic_core import to_json

from yarnloom.values import decode

Message = dict[str, Any]
_CHUNK = 1 << 18
_READS = 4


class Closed(Exception):
    """The other side is gone."""


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
            Closed: the other side is gone.
        """
        data = to_json(message)
        with self._sending:
            try:
                self._sock.sendall(len(data).to_bytes(4, "big") + data)
            except OSError as error:
                raise Closed from error

    def receive(self) -> Message:
        """Wait for the next message.

        Raises:
            Closed: the other side is gone.
        """
        while (message := self._take()) is None:
            self._read(0)
        return message

    def pending(self) -> list[Message]:
        """The messages that have arrived, without waiting; of very many the first.

        Raises:
            Closed: the other side is gone and everything it sent was taken.
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
        if len(self._buffer) < 4:
            return None
        end = 4 + int.from_bytes(self._buffer[:4], "big")
        if len(self._buffer) < end:
            return None
        message: Message = decode(bytes(self._buffer[4:end]))
        del self._buffer[:end]
        return message
