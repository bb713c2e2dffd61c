"""What attempts printed and published: files of JSON lines, below the data folder.

One for each attempt that printed anything, and one for each run of which something was published.
A worker says which line its batch begins at, so that a batch sent twice is written once.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections import OrderedDict, defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from yarnloom.store import make_private, private
from yarnloom.values import depth_problem

log = logging.getLogger("yarnloom.service")

LINE_LIMIT = 20_000
SIZE_LIMIT = 4 * 1024 * 1024
PUBLISHED_LIMIT = 64 * 1024 * 1024
_REMEMBERED = 2_000
PUBLISHED = "published"
_SHORT = ("at", "stream", "level", "logger")

Line = dict[str, Any]


class LogFolder:
    """The logs of all attempts, below the data folder."""

    def __init__(self, data: Path) -> None:
        self._folder = data / "logs"
        self._published = data / "published"
        self._counts: OrderedDict[int, int] = OrderedDict()
        self._watchers: dict[Path, set[asyncio.Event]] = defaultdict(set)
        self._failing = False

    def append(
        self,
        attempt: int,
        first: int,
        lines: list[Line],
        place: tuple[int, str] | None = None,
    ) -> None:
        """Keep lines of an attempt; where that cannot be done they are lost, and nothing else is.

        Args:
            attempt: its id.
            first: how many lines came before these.
            lines: each with `at` (RFC 3339), `stream` and `text`.
            place: its run and its address, for what it published.
        """
        try:
            have = self._count(attempt)
            fresh = lines[max(0, have - first) :]
            if not fresh:
                return
            self._write(attempt, fresh, place)
        except OSError as error:
            self._note_failure(error)
            return
        self._failing = False
        self._remember(attempt, have + len(fresh))
        self._wake(self._path(attempt))

    def _write(self, attempt: int, fresh: list[Line], place: tuple[int, str] | None) -> None:
        path = self._path(attempt)
        make_private(path.parent)
        room = SIZE_LIMIT - (path.stat().st_size if path.exists() else 0)
        with open(path, "a", encoding="utf-8", opener=private) as file:
            for line in fresh:
                if line.get("stream") == PUBLISHED and place is not None:
                    self._publish(attempt, line, *place)
                if room <= 0:
                    continue
                kept = {name: str(line[name])[:100] for name in _SHORT if line.get(name)}
                text = json.dumps({**kept, "text": _text_of(line)[:LINE_LIMIT]})
                room -= file.write(text + "\n")
                if room <= 0:
                    note = f"more than {SIZE_LIMIT:,} bytes; what follows was dropped"
                    file.write(json.dumps({**kept, "stream": "yarnloom", "text": note}) + "\n")

    def _note_failure(self, error: OSError) -> None:
        """Say once that lines are lost."""
        if not self._failing:
            self._failing = True
            log.error("log lines are lost, since they cannot be written: %s", error)

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

    def _publish(self, attempt: int, line: Line, run: int, address: str) -> None:
        """Keep what was published with its run, in the order in which it came."""
        path = self._run_path(run)
        make_private(path.parent)
        size = path.stat().st_size if path.exists() else 0
        entry = {"at": str(line.get("at"))[:100], "address": address, "attempt": attempt}
        value = line.get("value")
        if problem := depth_problem(value):
            value = f"what was published cannot be shown: {problem}"
        if size + len(text := json.dumps({**entry, "value": value})) > PUBLISHED_LIMIT:
            note = f"more than {PUBLISHED_LIMIT:,} bytes published; what follows was dropped"
            if self._said_dropped(path):
                return
            text = json.dumps({**entry, "dropped": True, "value": note})
        with open(path, "a", encoding="utf-8", opener=private) as file:
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
        except (FileNotFoundError, NotADirectoryError):
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
    except (FileNotFoundError, NotADirectoryError):
        return []
