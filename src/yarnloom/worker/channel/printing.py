"""Output of attempts: each line with the attempt that printed it.

Lines that Python prints are sent as messages. Output at system level (C code, a subprocess,
`os.write(1, ...)`) goes through pipes that the worker reads. When an attempt ends, its process
waits until the pipes are empty, so that the worker assigns the output to the right attempt.
"""

from __future__ import annotations

import contextlib
import fcntl
import io
import os
import struct
import termios
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TextIO

from yarnloom.sdk.interrupts import SharedPage, attempt_now
from yarnloom.task_texts import LINE_LIMIT, printable
from yarnloom.values import JsonValue
from yarnloom.worker.channel.frames import ChannelClosed, Message

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


def published(attempt: int, value: JsonValue) -> Message:
    """The message that passes on what an attempt published.

    Raises:
        ValueRefused: the value is no JSON.
    """
    at = datetime.now(UTC).isoformat()
    return {"kind": "line", "attempt": attempt, "at": at, "stream": "published", "value": value}
