"""Warnings about what clients send: one a second, so that nobody can fill a disk with them."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable


class OncePerSecond(logging.Filter):
    """Lets one warning a second through, and says how many were left out before it.

    Args:
        clock: gives seconds.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        super().__init__()
        self._clock = clock
        self._next_at = 0.0
        self._left_out = 0

    def filter(self, record: logging.LogRecord) -> bool:
        """Whether a record is logged."""
        if record.levelno != logging.WARNING:
            return True
        now = self._clock()
        if now < self._next_at:
            self._left_out += 1
            return False
        self._next_at = now + 1.0
        if self._left_out:
            record.msg = f"{record.getMessage()} ({self._left_out} more like it before)"
            record.args = None
            self._left_out = 0
        return True
