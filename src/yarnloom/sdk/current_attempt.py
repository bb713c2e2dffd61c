"""For which attempt the present code runs; outside of a worker's process for none."""

from __future__ import annotations

import contextlib
from contextvars import ContextVar

ATTEMPT: ContextVar[int | None] = ContextVar("yarnloom_attempt", default=None)
"""The attempt that the present thread or coroutine runs for, in a shared process."""

_alone: list[int] = []


def attempt_now() -> int | None:
    """The id of the attempt that calls, in any thread where it is its process's only one."""
    found = ATTEMPT.get()
    if found is None and _alone:
        with contextlib.suppress(IndexError):  # it ended in this moment
            return _alone[0]
    return found


def alone(attempt: int | None) -> None:
    """Say which attempt is the only one of this process; None says that it has ended."""
    _alone[:] = [] if attempt is None else [attempt]
