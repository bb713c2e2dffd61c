"""The lease of a worker: until when the service surely gives none of its attempts to others."""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.worker.child.deadline import now
from yarnloom.worker.clock import Clock, Timer

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
