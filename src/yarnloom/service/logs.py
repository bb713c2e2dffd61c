"""What attempts printed: one file of JSON lines for each attempt that printed anything.

A worker says which line its batch begins at, so that a batch sent twice is written once.
"""

from __future__ import annotations

import json
from collections import OrderedDict
from pathlib import Path
from typing import Any

LINE_LIMIT = 20_000
SIZE_LIMIT = 4 * 1024 * 1024
_REMEMBERED = 2_000

Line = dict[str, Any]


class LogFolder:
    """The logs of all attempts, below the data folder."""

    def __init__(self, data: Path) -> None:
        self._folder = data / "logs"
        self._counts: OrderedDict[int, int] = OrderedDict()

    def append(self, attempt: int, first: int, lines: list[Line]) -> None:
        """Keep lines of an attempt.

        Args:
            attempt: its id.
            first: how many lines came before these.
            lines: each with `at` (RFC 3339), `stream` and `text`.
        """
        have = self._count(attempt)
        fresh = lines[max(0, have - first) :]
        path = self._path(attempt)
        if not fresh:
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        room = SIZE_LIMIT - (path.stat().st_size if path.exists() else 0)
        with path.open("a", encoding="utf-8") as file:
            for line in fresh:
                if room <= 0:
                    break
                text = json.dumps({**line, "text": str(line.get("text", ""))[:LINE_LIMIT]})
                room -= file.write(text + "\n")
                if room <= 0:
                    note = f"more than {SIZE_LIMIT:,} bytes; what follows was dropped"
                    file.write(json.dumps({**line, "stream": "yarnloom", "text": note}) + "\n")
        self._remember(attempt, have + len(fresh))

    def read(self, attempt: int, after: int = 0, limit: int = 1_000) -> list[Line]:
        """Lines of an attempt, from a line number on."""
        try:
            with self._path(attempt).open(encoding="utf-8") as file:
                found = []
                for index, text in enumerate(file):
                    if index >= after:
                        found.append({"line": index, **json.loads(text)})
                    if len(found) >= limit:
                        break
                return found
        except FileNotFoundError:
            return []

    def written_at(self, attempt: int) -> int | None:
        """When the last line of an attempt came, in microseconds since 1970 UTC."""
        try:
            return self._path(attempt).stat().st_mtime_ns // 1_000
        except FileNotFoundError:
            return None

    def _count(self, attempt: int) -> int:
        if attempt not in self._counts:
            try:
                with self._path(attempt).open("rb") as file:
                    self._remember(attempt, sum(1 for _ in file))
            except FileNotFoundError:
                return 0
        return self._counts[attempt]

    def _remember(self, attempt: int, count: int) -> None:
        self._counts[attempt] = count
        self._counts.move_to_end(attempt)
        while len(self._counts) > _REMEMBERED:
            self._counts.popitem(last=False)

    def _path(self, attempt: int) -> Path:
        return self._folder / f"{attempt // 1000:06d}" / f"{attempt}.jsonl"
