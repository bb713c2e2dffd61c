"""The two-way channel between a worker and one of its processes: JSON frames on a socket.

A frame is four bytes of length and eight bytes with the number of the attempt that it is about (0
for none), both big-endian, and JSON. So what cannot be read costs one attempt, and is told as a
message of the kind `unreadable`. Short messages come many in one frame, as a list.

The worker sends an attempt's message over the channel, and then its number, the *ticket*, through
a pipe that both sides can read. The process begins an attempt after it has read the ticket. The
worker takes an attempt back by reading the ticket itself: a read of eight bytes is atomic, so only
one side gets it.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import struct
import threading
from collections import deque
from collections.abc import Iterable, Sequence

from yarnloom.errors import ValueRefused
from yarnloom.values import JsonObject, decode, dump

Message = JsonObject
UNREADABLE = "unreadable"
_CHUNK = 1 << 18
_READS = 4
_HEADER = struct.Struct(">IQ")
_HEAD = _HEADER.size
TOGETHER_BYTES = 1 << 17
"""Of messages in one frame; a longer one has a frame of its own."""

LARGEST = 64 * 2**20
"""Bytes of a frame; a longer one cannot have been meant."""


class ChannelClosed(Exception):
    """The other side is gone."""


class ChannelBroken(Exception):
    """What came is no frame, so nothing more can be read."""


def frame(message: Message) -> bytes:
    """Return a message as it is sent.

    Raises:
        ValueRefused: it cannot be written as JSON.
    """
    data = dump(message)
    return _HEADER.pack(len(data), message.get("attempt") or 0) + data


def frames_of(texts: Sequence[bytes]) -> list[bytes]:
    """Return messages, as JSON, in frames: short ones together, since they are read faster so."""
    frames: list[bytes] = []
    some: list[bytes] = []
    size = 0
    for text in texts:
        if some and size + len(text) > TOGETHER_BYTES:
            frames.append(_as_list(some))
            some, size = [], 0
        some.append(text)
        size += len(text)
    if some:
        frames.append(_as_list(some))
    return frames


def _as_list(texts: Sequence[bytes]) -> bytes:
    data = b"[" + b",".join(texts) + b"]"
    return _HEADER.pack(len(data), 0) + data


class Channel:
    """One end of the channel."""

    def __init__(self, sock: socket.socket) -> None:
        sock.set_inheritable(False)
        self._sock = sock
        self._buffer = bytearray()
        self._at = 0  # of the buffer, up to where it was taken
        self._ready: deque[Message] = deque()
        self._sending = threading.Lock()
        self._is_owned = True

    def fileno(self) -> int:
        """For an event loop to watch."""
        return self._sock.fileno()

    def disown(self) -> None:
        """Leave the channel to the process of which this one is a fork."""
        self._sock.close()
        self._sending = threading.Lock()
        self._is_owned = False

    def _refuse_fork(self) -> None:
        if not self._is_owned:
            raise RuntimeError(
                "a process that a task forked cannot use ctx: call it in the task's own process, "
                "and pass results there, as with multiprocessing"
            )

    def send(self, message: Message) -> None:
        """Send a message; any thread may.

        Raises:
            ValueRefused: it cannot be written as JSON; nothing was sent.
            ChannelClosed: the other side is gone.
        """
        self.send_frames((frame(message),))

    def send_frames(self, frames: Iterable[bytes]) -> None:
        """Send messages that are frames already, together.

        Raises:
            ChannelClosed: the other side is gone.
        """
        self._refuse_fork()
        data = b"".join(frames)
        with self._sending:
            try:
                self._sock.sendall(data)
            except OSError as error:
                raise ChannelClosed from error

    def receive(self) -> Message:
        """Wait for the next message.

        Raises:
            ChannelClosed: the other side is gone.
            ChannelBroken: what came is no frame.
        """
        while not self._ready:
            if not self._take():
                self._read(0)
        return self._ready.popleft()

    def pending(self) -> list[Message]:
        """The messages that have arrived, without waiting; of very many the first.

        Raises:
            ChannelClosed: the other side is gone and everything it sent was taken.
            ChannelBroken: what came is no frame.
        """
        try:
            for _ in range(_READS):
                if self._read(socket.MSG_DONTWAIT) < _CHUNK:
                    break  # that was all
        except BlockingIOError:
            pass
        except ChannelClosed:
            if len(self._buffer) == self._at and not self._ready:
                raise
        while self._take():
            pass
        found = list(self._ready)
        self._ready.clear()
        return found

    def close(self) -> None:
        """Close this end."""
        self._sock.close()

    def _read(self, flags: int) -> int:
        """Read the available bytes; return their number."""
        try:
            self._refuse_fork()
            data = self._sock.recv(_CHUNK, flags)
        except ConnectionError as error:
            raise ChannelClosed from error
        if not data:
            raise ChannelClosed
        if self._at:  # drop consumed bytes once a read, not once a frame
            del self._buffer[: self._at]
            self._at = 0
        self._buffer += data
        return len(data)

    def _take(self) -> bool:
        """Take the messages of a frame, if one is there."""
        buffer, begin = self._buffer, self._at + _HEAD
        if len(buffer) < begin:
            return False
        length, attempt = _HEADER.unpack_from(buffer, self._at)
        if length > LARGEST:
            raise ChannelBroken(f"a frame of {length:,} bytes")
        end = begin + length
        if len(buffer) < end:
            return False
        data = bytes(buffer[begin:end])
        self._at = end
        try:
            found = decode(data, "a message between a worker and its process")
        except ValueRefused as error:
            found = {"kind": UNREADABLE, "attempt": attempt, "message": str(error)}
        if isinstance(found, list):
            self._ready += found
        else:
            self._ready.append(found)
        return True


class PatientChannel(Channel):
    """The worker's end: a process that reads nothing for a while does not make the worker wait.

    Args:
        sock: the socket.
        loop: sends the rest as the process reads; only its thread may send.
    """

    def __init__(self, sock: socket.socket, loop: asyncio.AbstractEventLoop) -> None:
        super().__init__(sock)
        self._loop = loop
        self._unsent = bytearray()

    def send_frames(self, frames: Iterable[bytes]) -> None:
        """Send messages that are frames already, together, now or as soon as there is room.

        Raises:
            ChannelClosed: the other side is gone.
        """
        waits = bool(self._unsent)
        self._unsent += b"".join(frames)
        if not waits:
            self._send_some()
            if self._unsent:
                self._loop.add_writer(self.fileno(), self._go_on)

    def _send_some(self) -> None:
        try:
            while self._unsent:
                sent = self._sock.send(self._unsent[:_CHUNK], socket.MSG_DONTWAIT)
                del self._unsent[:sent]
        except BlockingIOError:
            pass
        except OSError as error:
            self._unsent.clear()
            raise ChannelClosed from error

    def _go_on(self) -> None:
        with contextlib.suppress(ChannelClosed):  # which is noticed where it is read
            self._send_some()
        if not self._unsent:
            self._loop.remove_writer(self.fileno())

    def close(self) -> None:
        """Close this end and drop unsent messages."""
        self._loop.remove_writer(self.fileno())
        super().close()


_TICKET = struct.Struct("=Q")
_ALL = 1 << 16
MOST = 512
"""How many are written at once: so many bytes are written as a whole."""


class Tickets:
    """One side of the pipe.

    Args:
        read: the end to read from; it does not block.
        write: the end to write to, which only the worker has.
    """

    def __init__(self, read: int, write: int | None = None) -> None:
        self._read = read
        self._write = write

    def fileno(self) -> int:
        """To wait for the next."""
        return self._read

    def put(self, attempts: Sequence[int]) -> None:
        """Let the process begin these, one after another; at most `MOST` wait in the pipe."""
        assert self._write is not None
        with contextlib.suppress(OSError):  # the process is dead, which is noticed elsewhere
            os.write(self._write, struct.pack(f"={len(attempts)}Q", *attempts))

    def take(self) -> int | None:
        """The next attempt, which nobody else has then; None if there is none."""
        try:
            data = os.read(self._read, _TICKET.size)
        except BlockingIOError:
            return None
        return int.from_bytes(data, "little" if _LITTLE else "big") if data else None

    def take_back(self) -> list[int]:
        """All that have not begun, in their order, none of which will."""
        try:
            data = os.read(self._read, _ALL)
        except OSError:
            return []
        return list(struct.unpack(f"={len(data) // _TICKET.size}Q", data))

    def close(self) -> None:
        """Let go of the ends."""
        os.close(self._read)
        if self._write is not None:
            os.close(self._write)


_LITTLE = _TICKET.pack(1)[0] == 1
