"""What attempts printed and published: files of JSON lines, below the data folder.

One for each attempt that printed anything, and one for each run of which something was published.
A worker says which line its batch begins at, so that a batch sent twice is written once.
"""

from __future__ import annotations

import asyncio
import json
from collections import OrderedDict, defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

LINE_LIMIT = 20_000
SIZE_LIMIT = 4 * 1024 * 1024
PUBLISHED_LIMIT = 64 * 1024 * 1024
_REMEMBERED = 2_000
PUBLISHED = "published"
_LONG = ("value", "address")

Line = dict[str, Any]


class LogFolder:
    """The logs of all attempts, below the data folder."""

    def __init__(self, data: Path) -> None:
        self._folder = data / "logs"
        self._published = data / "published"
        self._counts: OrderedDict[int, int] = OrderedDict()
        self._watchers: dict[Path, set[asyncio.Event]] = defaultdict(set)

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
                if line.get("stream") == PUBLISHED:
                    self._publish(attempt, line)
                if room <= 0:
                    continue
                kept = {name: value for name, value in line.items() if name not in _LONG}
                text = json.dumps({**kept, "text": _text_of(line)[:LINE_LIMIT]})
                room -= file.write(text + "\n")
                if room <= 0:
                    note = f"more than {SIZE_LIMIT:,} bytes; what follows was dropped"
                    file.write(json.dumps({**line, "stream": "yarnloom", "text": note}) + "\n")
        self._remember(attempt, have + len(fresh))
        self._wake(path)

    def read(self, attempt: int, after: int = 0, limit: int = 1_000) -> list[Line]:
        """Lines of an attempt, from a line number on."""
        return _lines(self._path(attempt), after, limit)

    def read_published(self, run: int, after: int = 0, limit: int = 1_000) -> list[Line]:
        """What a run published, from a line number on."""
        return _lines(self._run_path(run), after, limit)

    @contextmanager
    def watch(
        self, *, attempt: int | None = None, run: int | None = None
    ) -> Iterator[asyncio.Event]:
        """An event that is set when an attempt has printed, or a run has published, something."""
        path = self._path(attempt) if attempt is not None else self._run_path(run or 0)
        woken = asyncio.Event()
        self._watchers[path].add(woken)
        try:
            yield woken
        finally:
            self._watchers[path].discard(woken)
            if not self._watchers[path]:
                del self._watchers[path]

    def close(self) -> None:
        """Wake everybody who watches."""
        for path in list(self._watchers):
            self._wake(path)

    def _publish(self, attempt: int, line: Line) -> None:
        """Keep what was published with its run, in the order in which it came."""
        address = str(line.get("address", ""))
        number = address.partition("/")[0]
        if not number.isdigit():
            return
        path = self._run_path(int(number))
        path.parent.mkdir(parents=True, exist_ok=True)
        size = path.stat().st_size if path.exists() else 0
        entry = {"at": line.get("at"), "address": address, "attempt": attempt}
        if size + len(text := json.dumps({**entry, "value": line.get("value")})) > PUBLISHED_LIMIT:
            note = f"more than {PUBLISHED_LIMIT:,} bytes published; what follows was dropped"
            if self._said_dropped(path):
                return
            text = json.dumps({**entry, "dropped": True, "value": note})
        with path.open("a", encoding="utf-8") as file:
            file.write(text + "\n")
        self._wake(path)

    @staticmethod
    def _said_dropped(path: Path) -> bool:
        """Whether it was said before that what follows is dropped."""
        if not path.exists():
            return False
        with path.open("rb") as file:
            file.seek(max(0, path.stat().st_size - 500))
            return b'"dropped": true' in file.read()

    def _wake(self, path: Path) -> None:
        for woken in self._watchers.get(path, ()):
            woken.set()

    def _run_path(self, run: int) -> Path:
        return self._published / f"{run // 1000:06d}" / f"{run}.jsonl"

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


def _text_of(line: Line) -> str:
    """What a line shows: of something published its value."""
    if line.get("stream") != PUBLISHED:
        return str(line.get("text", ""))
    value = line.get("value")
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _lines(path: Path, after: int, limit: int) -> list[Line]:
    try:
        with path.open(encoding="utf-8") as file:
            found = []
            for index, text in enumerate(file):
                if index >= after:
                    found.append({"line": index, **json.loads(text)})
                if len(found) >= limit:
                    break
            return found
    except FileNotFoundError:
        return []
