"""Lines for a terminal at a bounded rate; further lines are counted."""

from __future__ import annotations

import asyncio
import contextlib
import queue
import threading
from collections.abc import Callable

MOST = 20
SECONDS = 1.0
MOST_WAITING = 500
PATIENCE = 0.5


class LineWriter:
    """Says lines on a thread of its own, so that a terminal that takes none holds nobody up.

    A terminal can be stopped (Ctrl-S), and the reader of a pipe be busy. Then lines are dropped.

    Args:
        say: says a line; it may block.
    """

    def __init__(self, say: Callable[[str], None]) -> None:
        self._say = say
        self._waiting: queue.Queue[str | None] = queue.Queue(MOST_WAITING)
        self._thread = threading.Thread(target=self._write, name="yarnloom-lines", daemon=True)
        self._thread.start()

    def __call__(self, line: str) -> None:
        """Say a line, or drop it where too many wait."""
        with contextlib.suppress(queue.Full):
            self._waiting.put_nowait(line)

    def _write(self) -> None:
        while (line := self._waiting.get()) is not None:
            self._say(line)

    def close(self) -> None:
        """Say the lines that wait, unless that takes too long."""
        with contextlib.suppress(queue.Full):
            self._waiting.put_nowait(None)
        self._thread.join(PATIENCE)


class BoundedLines:
    """Says at most so many lines in a time, and how many more there were.

    Args:
        say: says a line.
        most: so many lines.
        seconds: in this time.
    """

    def __init__(
        self, say: Callable[[str], None], most: int = MOST, seconds: float = SECONDS
    ) -> None:
        self._say = say
        self._most = most
        self._seconds = seconds
        self._said = 0
        self._left_out = 0
        self._timer: asyncio.TimerHandle | None = None

    @property
    def room(self) -> int:
        """How many lines are said at once from now on."""
        return max(0, self._most - self._said)

    def add(self, line: str) -> None:
        """Say a line, or count it."""
        if not self.room:
            self.leave_out(1)
            return
        self._said += 1
        self._say(line)
        self._begin()

    def leave_out(self, count: int) -> None:
        """Count lines that are not said."""
        if count:
            self._left_out += count
            self._begin()

    def _begin(self) -> None:
        if self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(self._seconds, self._end)

    def _end(self) -> None:
        left_out, self._said, self._left_out, self._timer = self._left_out, 0, 0, None
        if left_out:
            self._say(f"and {left_out:,} more")

    def close(self) -> None:
        """Say how many were left out, and end."""
        if self._timer is not None:
            self._timer.cancel()
            self._end()
