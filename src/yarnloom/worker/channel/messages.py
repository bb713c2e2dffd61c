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
import fcntl
import io
import os
import struct
import termios
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TextIO

from yarnloom.sdk.interrupts import HELD_AT, HELD_BYTES, SharedPage, attempt_now
from yarnloom.task_texts import LINE_LIMIT, printable
from yarnloom.values import JsonValue, decode, dump
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


PATIENCE = 1.0
"""Seconds after which a process goes on though something is in its pipes: what an attempt has left
behind may write for ever."""

_LOOK_SECONDS = 0.0002
_CLOSED_BY_TASK = contextlib.suppress(OSError, ValueError)
_NOTHING = struct.pack("=i", 0)

Send = Callable[[Message], None]


class Pipes:
    """The pipes into which this process prints.

    Args:
        page: in which the worker says that it reads them.
    """

    def __init__(self, page: SharedPage) -> None:
        self._page = page

    def settle(self) -> None:
        """Wait until everything that was written is read, and is known whose it was."""
        until = 0.0
        while self._page.reading or _waits_in(1) or _waits_in(2):  # most often nothing does
            now = time.monotonic()
            until = until or now + PATIENCE
            if now >= until:
                return
            time.sleep(_LOOK_SECONDS)


def _waits_in(descriptor: int) -> bool:
    """Whether bytes are in a pipe that nobody has read; no, where the system does not say."""
    try:
        return fcntl.ioctl(descriptor, termios.FIONREAD, _NOTHING) != _NOTHING
    except OSError:
        return False


class AttemptStream(io.TextIOWrapper):
    """A standard stream that knows which attempt prints.

    Args:
        name: stdout or stderr.
        original: the stream until now, which gets what no attempt prints.
        send: sends a message to the worker.
        before: called before a line is sent, so that earlier system-level output comes first.
    """

    def __init__(
        self, name: str, original: TextIO, send: Send, before: Callable[[], None] | None = None
    ) -> None:
        super().__init__(
            original.buffer, encoding="utf-8", errors="backslashreplace", line_buffering=True
        )
        self._stream = name
        self._original = original
        self._send = send
        self._before = before
        self._partial: dict[int, str] = {}
        self._is_forked = False
        os.register_at_fork(after_in_child=self._in_fork)

    def _in_fork(self) -> None:
        self._is_forked = True

    def write(self, text: str) -> int:
        """Send whole lines to the attempt; what no attempt prints goes where it always went."""
        attempt = attempt_now()
        if attempt is None or self._is_forked:
            return super().write(text)
        if text == "\n":  # `print` writes it apart
            self._send_line(attempt, self._partial.pop(attempt, ""))
            return 1
        if not isinstance(text, str):
            raise TypeError(f"write() argument must be str, not {type(text).__name__}")
        *lines, rest = (self._partial.pop(attempt, "") + text).split("\n")
        while len(rest) > LINE_LIMIT:
            lines.append(rest[:LINE_LIMIT])
            rest = rest[LINE_LIMIT:]
        for line in lines:
            self._send_line(attempt, line)
        if rest:
            self._partial[attempt] = rest
        return len(text)

    def finish(self, attempt: int) -> None:
        """Send what an attempt left without a line's end."""
        if self._partial and (rest := self._partial.pop(attempt, "")):
            self._send_line(attempt, rest)
        with _CLOSED_BY_TASK:
            self.flush()

    def _send_line(self, attempt: int, line: str) -> None:
        if self._before:
            self._before()
        for begin in range(0, len(line) or 1, LINE_LIMIT):
            message = {
                "kind": "line",
                "attempt": attempt,
                "at": datetime.now(UTC).isoformat(),
                "stream": self._stream,
                "text": printable(line[begin : begin + LINE_LIMIT]),
            }
            try:
                self._send(message)
            except ChannelClosed:
                return


def published(attempt: int, value: JsonValue, to: str = "", *, append: bool = False) -> Message:
    """The message that passes on what an attempt published.

    Raises:
        ValueRefused: the value is no JSON.
    """
    at = datetime.now(UTC).isoformat()
    said = {"kind": "line", "attempt": attempt, "at": at, "stream": "published", "value": value}
    return said | ({"to": to} if to else {}) | ({"append": True} if append else {})
