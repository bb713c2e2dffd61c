"""Lines about runs for the terminal of the service: which begin, are done, or failed."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable, Iterable
from typing import Any

from yarnloom.bounded_lines import BoundedLines, LineWriter
from yarnloom.engine.rules.states import RUN_ENDED, RunState
from yarnloom.store import Printed
from yarnloom.store.runs import run_lists
from yarnloom.store.select import Record
from yarnloom.units import seconds_text

FLUSH_SECONDS = 0.2
"""A run that begins and ends within that has one line."""

_OPEN = frozenset({RunState.RUNNING, RunState.PAUSING, RunState.PAUSED, RunState.CANCELLING})


class RunNotices:
    """Says which runs begin and end, and if wanted lines of tasks.

    Args:
        read: asks the store.
        say: says a line.
        show_prints: also say lines that tasks print.
    """

    def __init__(
        self,
        read: Callable[..., Awaitable[Any]],
        say: Callable[[str], None],
        *,
        show_prints: bool = False,
    ) -> None:
        self._read = read
        self._writer = LineWriter(say)
        self._runs = BoundedLines(self._writer)
        self._prints = BoundedLines(self._writer, most=50)
        self._show_prints = show_prints
        self._begun: set[int] = set()
        self._changed: set[int] = set()
        self._ended: set[int] = set()
        self._timer: asyncio.TimerHandle | None = None
        self._flushing: asyncio.Task[None] | None = None

    def note(self, changed: set[int], ended: set[int]) -> None:
        """Take note of runs that look different, and of those of them that have ended."""
        self._changed |= changed - self._begun
        self._ended |= ended
        if (self._changed or self._ended) and self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(FLUSH_SECONDS, self._flush_soon)

    def note_lines(self, batch: Iterable[Printed]) -> None:
        """Say lines that tasks printed."""
        if not self._show_prints:
            return
        for printed in batch:
            for line in printed.lines:
                if line.get("text") and line.get("stream") != "published":
                    self._prints.add(f"{printed.printer.address}: {line['text']}")

    def _flush_soon(self) -> None:
        self._timer = None
        self._flushing = asyncio.ensure_future(self._flush())

    async def _flush(self) -> None:
        ended, self._ended = self._ended, set()
        changed, self._changed = self._changed - ended, set()
        numbers = sorted(ended) + sorted(changed)
        room = self._runs.room
        rows = await self._read(run_lists.notices, numbers[:room])
        for row in rows:
            if row["state"] in RUN_ENDED:
                self._runs.add(_end_line(row))
            elif row["state"] in _OPEN:
                self._begun.add(row["number"])
                self._runs.add(f"run {row['number']} of {row['workflow']} has begun")
        # Of those for which there is no room it is not known whether they have just begun.
        self._runs.leave_out(sum(number in ended for number in numbers[room:]))
        self._begun -= ended

    def close(self) -> None:
        """End."""
        if self._timer is not None:
            self._timer.cancel()
        self._runs.close()
        self._prints.close()
        self._writer.close()


def _end_line(row: Record) -> str:
    """How a run ended: "run 7 of coast/tides is done in 1.2 s"."""
    head = f"run {row['number']} of {row['workflow']}"
    begun = row["started_at"]
    took = seconds_text((row["ended_at"] - begun) / 1_000_000) if begun is not None else ""
    if row["state"] == RunState.DONE:
        return f"{head} is done in {took}" if took else f"{head} is done"
    error = json.loads(row["error"] or "{}")
    after = f" after {took}" if took else ""
    if row["state"] == RunState.CANCELLED:
        message = error.get("message", "")
        return f"{head} was cancelled{after}{f': {message}' if message else ''}"
    where = f" at {error['step']}" if error.get("step") else ""
    message = " ".join(str(error.get("message", "")).split())
    return f"{head} failed{after}{where}: {error.get('type', 'Error')}: {message}"[:500]
