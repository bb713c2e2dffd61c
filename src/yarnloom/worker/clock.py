"""The clock of a worker, which a test passes itself, and its lease."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from typing import Any, Protocol

from yarnloom.worker.child.deadline import now


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


SURE = 0.9
"""The part of its lease for which a worker is sure that nobody else has what it has."""


class Lease:
    """The lease of one worker.

    Args:
        clock: the clock.
        on_over: called when the service was not heard of for a whole lease, and so may have given
            this worker's attempts to others.
        on_heard: called with the time until which it surely does not, on the clock of
            `worker.child.deadline`.

    Attributes:
        seconds: how long it is.
    """

    def __init__(
        self, clock: Clock, on_over: Callable[[], None], on_heard: Callable[[float], None]
    ) -> None:
        self._clock = clock
        self._on_over = on_over
        self._on_heard = on_heard
        self.seconds = 30.0
        self._heard_at, self._heard_sent = clock.now(), now()
        self._watch: Timer | None = None

    def set(self, seconds: float) -> None:
        """Take the length that the service says at registration."""
        self.seconds = seconds
        self._on_heard(self._heard_sent + SURE * seconds)

    def now(self) -> tuple[float, float]:
        """Return the time at which a request is sent, on both clocks."""
        return self._clock.now(), now()

    def renew(self, sent: tuple[float, float]) -> None:
        """Count the lease from when the service got a request: at the earliest as it was sent."""
        self._heard_at = max(self._heard_at, sent[0])
        self._heard_sent = max(self._heard_sent, sent[1])
        self._on_heard(self._heard_sent + SURE * self.seconds)

    @property
    def is_over(self) -> bool:
        """Whether the service was not heard of for a whole lease."""
        return self._clock.now() - self._heard_at > self.seconds

    def watch(self) -> None:
        """Look again when the lease would end, if nothing more were heard."""
        left = self._heard_at + SURE * self.seconds - self._clock.now()
        if left <= 0:
            self._on_over()
            left = SURE * self.seconds
        self._watch = self._clock.later(left, self.watch)

    @property
    def is_watched(self) -> bool:
        """Whether somebody looks at its end."""
        return self._watch is not None

    def close(self) -> None:
        """Look no more."""
        if self._watch:
            self._watch.cancel()
