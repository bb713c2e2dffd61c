"""Messages that a process holds for a moment, in memory that its worker reads as well.

A process sends short messages many at once (`outbox`). Two things must not happen to a message that
waits: it must not be lost when the process dies, and must not come behind what another program
prints later. So waiting messages are also in the page that both share. The worker reads them there
before it reads a pipe, and after the process has died. When they arrive over the channel, behind a
mark, the worker drops those that it has read.

The memory begins with a number of eight bytes, which is written as a whole: how often messages
were sent from here, and how many bytes wait. The texts follow, a comma before each.

Decision: `docs/decisions/14-batches-in-a-process.md`.

Short attempts end faster than single messages can be sent. So messages wait for up to `TOGETHER`
of them or `HELD_SECONDS`, as long as another attempt waits. A thread sends the rest when an
attempt takes longer than that.
"""

from __future__ import annotations

import contextlib
import os
import struct
import threading
import time

from yarnloom.sdk.interrupts import HELD_AT, HELD_BYTES, SharedPage
from yarnloom.values import decode, dump
from yarnloom.worker.channel.frames import Channel, ChannelClosed, Message, frames_of

KIND = "held"
MARK = dump({"kind": KIND})
_WORD = struct.Struct("@Q")
_TEXTS_AT = HELD_AT + _WORD.size
_ROOM = HELD_BYTES - _WORD.size
_SIZE_BITS = 24
TRIES = 100
"""How often a worker reads the channel before it gives up reading the memory."""


class HeldMessages:
    """The side of the process, which writes.

    Args:
        page: shared with the worker.
    """

    def __init__(self, page: SharedPage) -> None:
        self._memory = page.memory
        self._sent = self._size = 0

    def add(self, text: bytes) -> bool:
        """Add the text of a message; return whether there was room."""
        size = self._size + len(text) + 1
        if size > _ROOM:
            return False
        self._memory[_TEXTS_AT + self._size : _TEXTS_AT + size] = b"," + text
        self._size = size
        self._write()
        return True

    def clear(self) -> None:
        """Empty the memory after its messages were sent, behind `MARK`."""
        self._sent += 1
        self._size = 0
        self._write()

    def forget(self) -> None:
        """Leave the memory to the parent of this process, which is a fork."""
        self._size = 0

    def __bool__(self) -> bool:
        """Return whether anything waits."""
        return self._size > 0

    def _write(self) -> None:
        _WORD.pack_into(self._memory, HELD_AT, self._sent << _SIZE_BITS | self._size)


class HeldReader:
    """The side of the worker.

    Args:
        page: shared with the process.
    """

    def __init__(self, page: SharedPage) -> None:
        self._memory = page.memory
        self._sent = 0  # how often messages from the memory have arrived
        self._read = 0  # bytes that were read ahead of their arrival
        self._early = 0  # the messages in them
        self._drop = 0  # how many of the next that arrive were read before

    def unread(self, arrived: list[Message]) -> list[Message]:
        """Return those of arrived messages that were not read in the memory before."""
        messages: list[Message] = []
        for message in arrived:
            if message["kind"] == KIND:
                self._sent += 1
                self._drop, self._early, self._read = self._early, 0, 0
            elif self._drop:
                self._drop -= 1
            else:
                messages.append(message)
        return messages

    def take(self) -> list[Message] | None:
        """Return the messages that wait and were not read yet.

        None if the channel has earlier ones that were not read yet.

        Raises:
            ValueRefused: the memory holds something else.
        """
        sent = data = None
        while data is None or self._look()[0] != sent:  # it was written anew meanwhile
            sent, size = self._look()
            if sent != self._sent:
                return None if sent > self._sent else []
            data = self._memory[_TEXTS_AT + self._read : _TEXTS_AT + min(size, _ROOM)]
        if not data:
            return []
        messages: list[Message] = decode(b"[" + data[1:] + b"]", "the unsent messages of a process")
        self._read += len(data)
        self._early += len(messages)
        return messages

    def _look(self) -> tuple[int, int]:
        (word,) = _WORD.unpack_from(self._memory, HELD_AT)
        return word >> _SIZE_BITS, word & ((1 << _SIZE_BITS) - 1)


TOGETHER = 64
HELD_SECONDS = 0.003


class MessageBuffer:
    """Sends messages over a channel; any thread may.

    Args:
        channel: to the worker.
        kept: where the worker reads waiting messages.
    """

    def __init__(self, channel: Channel, kept: HeldMessages) -> None:
        self._channel = channel
        self._kept = kept
        self._lock = threading.RLock()
        self._texts: list[bytes] = []  # JSON
        self._since = 0.0
        self._held = False
        self._some = threading.Event()
        self._pid = 0  # of the process in which the thread runs
        self._is_owned = True

    def hold(self, on: bool) -> None:
        """Say whether messages may wait a little from now on."""
        self._held = on

    def send(self, message: Message) -> None:
        """Send a message.

        Raises:
            ValueRefused: it cannot be written as JSON; nothing was sent.
            ChannelClosed: the other side is gone.
        """
        text = dump(message)
        if not self._is_owned:
            self._channel.send_frames([text])  # which says why a fork cannot
        with self._lock:
            self._texts.append(text)
            if not self._held or not self._kept.add(text):
                self._tell()
            elif len(self._texts) == 1:
                self._since = time.monotonic()
                self._wake()
            elif len(self._texts) >= TOGETHER or self._is_late():
                self._tell()

    def flush(self) -> None:
        """Send what waits; from now on everything is sent at once.

        Raises:
            ChannelClosed: the other side is gone.
        """
        with self._lock:
            self._held = False
            self._tell()

    def _tell(self) -> None:
        if self._texts:
            texts, self._texts = self._texts, []
            if not self._kept:
                self._channel.send_frames(frames_of(texts))
                return
            self._channel.send_frames(frames_of([MARK, *texts]))
            self._kept.clear()

    def _is_late(self) -> bool:
        return time.monotonic() - self._since >= HELD_SECONDS

    def _wake(self) -> None:
        """Let the thread send the waiting messages soon, whatever the main thread does."""
        if self._pid != os.getpid():
            self._pid = os.getpid()
            threading.Thread(target=self._tell_late, name="yarnloom-outbox", daemon=True).start()
        self._some.set()

    def _tell_late(self) -> None:
        while True:
            self._some.wait()
            self._some.clear()
            time.sleep(HELD_SECONDS)
            with self._lock, contextlib.suppress(ChannelClosed):
                if self._texts:
                    if self._is_late():
                        self._tell()
                    else:
                        self._some.set()

    def in_fork(self) -> None:
        """Leave the waiting messages, and their memory, to the process of which this is a fork."""
        self._is_owned = False
        self._lock = threading.RLock()
        self._some = threading.Event()
        self._texts, self._held = [], False
        self._kept.forget()
