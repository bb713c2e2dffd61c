"""Lines for the terminal of a worker: ends of attempts, and lines of tasks."""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.bounded_lines import BoundedLines, LineWriter
from yarnloom.units import seconds_text
from yarnloom.values import JsonObject

_ENDS = {"called_again": "will be called again", "handed_back": "was handed back"}


class AttemptNotices:
    """Says how attempts ended, and if wanted lines of tasks.

    Args:
        say: says a line.
        show_prints: also say lines that tasks print.
    """

    def __init__(self, say: Callable[[str], None], *, show_prints: bool = False) -> None:
        self._writer = LineWriter(say)
        self._ends = BoundedLines(self._writer)
        self._prints = BoundedLines(self._writer, most=50)
        self._show_prints = show_prints

    def ended(self, address: str, item: JsonObject) -> None:
        """Say how an attempt ended.

        Args:
            address: of its step, with the run's number.
            item: its report: `outcome`, `begun_at` and `ended_at` in seconds of one clock, `error`.
        """
        if not self._ends.room:
            self._ends.leave_out(1)
            return
        outcome = item["outcome"]
        begun, ended = item.get("begun_at"), item.get("ended_at")
        took = "" if begun is None or ended is None else seconds_text(ended - begun)
        if outcome == "done":
            self._ends.add(f"{address} is done{f' in {took}' if took else ''}")
            return
        error = item.get("error") or {}
        why = " ".join(f"{error.get('type', '')}: {error.get('message', '')}".split())
        words = _ENDS.get(outcome, outcome.replace("_", " "))
        after = f" after {took}" if took else ""
        self._ends.add(f"{address} {words}{after}{f': {why}' if error else ''}"[:500])

    def line(self, address: str, line: JsonObject) -> None:
        """Say a line that a task printed."""
        if self._show_prints and line.get("text") and line["stream"] != "published":
            self._prints.add(f"{address}: {line['text']}")

    def close(self) -> None:
        """End."""
        self._ends.close()
        self._prints.close()
        self._writer.close()
