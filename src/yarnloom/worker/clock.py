"""The clock of a worker: a test passes its own."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from typing import Any, Protocol


class Timer(Protocol):
    """A call that is still to come."""

    def cancel(self) -> None:
        """Do not make the call."""


class Clock(Protocol):
    """Tells the time, and calls later."""

    def now(self) -> float:
        """Seconds of a clock that never jumps, the same in all processes of the machine."""

    def later(self, seconds: float, call: Callable[..., Any], *args: Any) -> Timer:
        """Call a function after some seconds."""


class LoopClock:
    """The clock of the running event loop."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()

    def now(self) -> float:
        """Seconds of the machine's steady clock."""
        return time.monotonic()

    def later(self, seconds: float, call: Callable[..., Any], *args: Any) -> Timer:
        """Call a function on the event loop."""
        return self._loop.call_later(seconds, call, *args)
