"""Messages that a process keeps back for a moment, in memory that its worker reads as well.

A process sends short messages many at once (`outbox`). What waits to be sent must not be lost when
the process dies, and must not come behind what another program prints after it. So the texts are
also in the page that both share: the worker reads them there before it reads a pipe, and when the
process has died. When they arrive over the channel, behind a mark, it drops what it has read.

The memory begins with a number of eight bytes, which is written as a whole: how often messages
were sent from here, and how many bytes wait. The texts follow, a comma before each.
"""

from __future__ import annotations

import struct

from yarnloom.interrupts import HELD_AT, HELD_BYTES, Page
from yarnloom.values import decode, dump
from yarnloom.worker.frames import Message

KIND = "held"
MARK = dump({"kind": KIND})
_WORD = struct.Struct("@Q")
_TEXTS_AT = HELD_AT + _WORD.size
_ROOM = HELD_BYTES - _WORD.size
_SIZE_BITS = 24
TRIES = 100
"""Of reading what was sent since, before the memory is read."""


class HeldMessages:
    """The side of the process, which writes.

    Args:
        page: shared with the worker.
    """

    def __init__(self, page: Page) -> None:
        self._memory = page.memory
        self._sent = self._size = 0

    def add(self, text: bytes) -> bool:
        """Keep the text of a message; return whether there was room."""
        size = self._size + len(text) + 1
        if size > _ROOM:
            return False
        self._memory[_TEXTS_AT + self._size : _TEXTS_AT + size] = b"," + text
        self._size = size
        self._write()
        return True

    def clear(self) -> None:
        """Forget what was added: it has been sent, behind `MARK`."""
        self._sent += 1
        self._size = 0
        self._write()

    def forget(self) -> None:
        """Use the memory no more: this process is a fork, and it is its parent's."""
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

    def __init__(self, page: Page) -> None:
        self._memory = page.memory
        self._sent = 0  # how often messages from the memory have arrived
        self._read = 0  # bytes that were read ahead of their arrival
        self._early = 0  # the messages in them
        self._drop = 0  # how many of the next that arrive were read before

    def unread(self, arrived: list[Message]) -> list[Message]:
        """Return those of arrived messages that were not read in the memory."""
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

        None where others were sent before them and have not been read from the channel.

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
        messages: list[Message] = decode(b"[" + data[1:] + b"]", "what a process keeps back")
        self._read += len(data)
        self._early += len(messages)
        return messages

    def _look(self) -> tuple[int, int]:
        (word,) = _WORD.unpack_from(self._memory, HELD_AT)
        return word >> _SIZE_BITS, word & ((1 << _SIZE_BITS) - 1)
