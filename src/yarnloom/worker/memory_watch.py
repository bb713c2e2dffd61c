"""Watching the memory of processes whose attempts may use only so much. Linux only."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from yarnloom.worker.clock import Clock, Timer
from yarnloom.worker.process_pool import ProcessPool
from yarnloom.worker.processes.child_process import Child

_PAGE = os.sysconf("SC_PAGE_SIZE")


def memory_of(pid: int) -> int | None:
    """Resident memory in bytes of a process and all below it; None where it cannot be told."""
    try:
        pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    except (OSError, IndexError, ValueError):
        return None
    return pages * _PAGE + sum(memory_of(child) or 0 for child in children_of(pid))


def children_of(pid: int) -> list[int]:
    """The processes that a process started and that live; none where it cannot be told."""
    found = []
    for path in Path(f"/proc/{pid}/task").glob("*/children"):
        try:
            found += [int(child) for child in path.read_text().split()]
        except OSError:
            continue  # the thread has ended meanwhile
    return found


MEMORY_SECONDS = 0.2


class MemoryWatch:
    """Looks at the memory of processes while any of their attempts has a limit.

    Args:
        pool: the processes.
        clock: the clock.
        measure: returns the bytes that a process uses; None where nobody knows.
        end_large: ends an attempt: its process, the attempt, what it used, its limit.
    """

    def __init__(
        self,
        pool: ProcessPool,
        clock: Clock,
        measure: Callable[[int], int | None],
        end_large: Callable[[Child, int, int, int], None],
    ) -> None:
        self._pool = pool
        self._clock = clock
        self._measure = measure
        self._end_large = end_large
        self._watching: Timer | None = None

    def close(self) -> None:
        """Stop the timer."""
        if self._watching:
            self._watching.cancel()

    def _look(self) -> None:
        """End attempts that use more memory than they may; look again while there are any."""
        self._watching = None
        for child in list(self._pool.children):
            for attempt, work in list(child.attempts.items()):
                limit, used = work.get("memory"), self._measure(child.pid)
                if limit and used and used > limit and not child.shared:
                    self._end_large(child, attempt, used, limit)
        self.keep_watching()

    def keep_watching(self) -> None:
        """Look again soon, if an attempt has a limit."""
        limited = any(
            work.get("memory") for child in self._pool.children for work in child.attempts.values()
        )
        if limited and self._watching is None:
            self._watching = self._clock.later(MEMORY_SECONDS, self._look)
