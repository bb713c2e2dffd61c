"""Codes that open something once, within a short time. They are in memory only."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

T = TypeVar("T")

MOST = 10_000


def digest_of(text: str) -> str:
    """Return the hash by which a secret is known.

    The secrets have 160 bits and more, so a fast hash can be used.
    """
    return hashlib.sha256(text.encode()).hexdigest()


@dataclass(slots=True)
class OneTimeCodes(Generic[T]):
    """Codes of one kind.

    Args:
        seconds: how long each can be used.
        clock: the time in seconds.
    """

    seconds: float
    clock: Callable[[], float]
    _codes: dict[str, tuple[float, T]] = field(default_factory=dict)

    def make(self, opens: T) -> str:
        """Return a new code."""
        now = self.clock()
        self._codes = {key: one for key, one in self._codes.items() if one[0] > now}
        while len(self._codes) >= MOST:
            del self._codes[next(iter(self._codes))]
        code = secrets.token_urlsafe(24)
        self._codes[digest_of(code)] = (now + self.seconds, opens)
        return code

    def take(self, code: str) -> T | None:
        """Return what a code opens, and forget the code; None if it opens nothing."""
        until, opens = self._codes.pop(digest_of(code), (0.0, None))
        return opens if until > self.clock() else None
