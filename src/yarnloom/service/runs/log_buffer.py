"""Logs of a running service: buffers what workers report, stores it in batches, wakes readers.

Lines wait at most `FLUSH_SECONDS` in memory, so that a service that is killed loses no more than
that. A report with published values is answered after they are stored. One thread has the file.
"""

from __future__ import annotations

import asyncio
import logging
from collections import defaultdict, deque
from collections.abc import Callable, Hashable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import NamedTuple, TypeVar

from yarnloom.errors import CannotStore, FolderUnusable
from yarnloom.store.logs.log_chunks import Wanted
from yarnloom.store.logs.log_file import LogFile
from yarnloom.store.logs.log_records import (
    PUBLISHED,
    AttemptKey,
    Line,
    LogPage,
    Mark,
    Printed,
    Printer,
)

log = logging.getLogger("yarnloom.service")

T = TypeVar("T")

FLUSH_SECONDS = 0.5
BUFFER_SIZE = 4 * 2**20
"""Characters of text, about, that wait to be stored before reports wait for that too."""


class Whole(NamedTuple):
    """All that the steps of a run print."""

    run: int


class Logs:
    """The logs of a running service.

    Args:
        file: closed with this.
    """

    def __init__(self, file: LogFile) -> None:
        self._file = file
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="yarnloom-logs")
        self._waiting: deque[Printed] = deque()
        self._size = 0
        self._timer: asyncio.TimerHandle | None = None
        self._watchers: dict[Hashable, set[asyncio.Event]] = defaultdict(set)
        self._failing = False

    async def append(self, batch: list[Printed]) -> None:
        """Keep lines of attempts; published values are on disk when this returns.

        Where that cannot be done they are lost and a line in the service's log says so. Lines that
        are kept already are left out.
        """
        self._waiting += batch
        publishes = False
        for printed in batch:
            own = False
            for line in printed.lines:
                self._size += len(line.get("text") or "") + 100
                own = own or line.get("stream") == PUBLISHED
            publishes = publishes or own
            if self._watchers:
                self._wake_for(printed.printer, publishes=own)
        if publishes or self._size > BUFFER_SIZE:
            await self._in_thread(self._flush)
        elif self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(FLUSH_SECONDS, self._flush_soon)

    async def lines(self, key: AttemptKey, after: int = 0, limit: int = 1_000) -> list[Line]:
        """Return lines of an attempt, from an index on.

        Raises:
            CannotStore: the log file cannot be read.
        """
        return await self._read(lambda file: file.lines(key, after, limit))

    async def lines_after(self, run: int, after: Mark, wanted: Wanted) -> LogPage:
        """Return lines of all steps of a run from a mark on, in the order in which they arrived.

        Raises:
            CannotStore: the log file cannot be read.
        """
        return await self._read(lambda file: file.lines_after(run, after, wanted))

    async def lines_before(self, run: int, before: Mark | None, wanted: Wanted) -> LogPage:
        """Return the newest lines of all steps of a run, or the newest before a mark.

        Raises:
            CannotStore: the log file cannot be read.
        """
        return await self._read(lambda file: file.lines_before(run, before, wanted))

    async def published(self, run: int, after: int = 0, limit: int = 1_000) -> list[Line]:
        """Return what a run published, from an index on.

        Raises:
            CannotStore: the log file cannot be read.
        """
        return await self._read(lambda file: file.published(run, after, limit))

    async def written_at(self, key: AttemptKey) -> int | None:
        """Return when the newest line of an attempt arrived, in microseconds since 1970 UTC.

        Raises:
            CannotStore: the log file cannot be read.
        """
        return await self._read(lambda file: file.written_at(key))

    @contextmanager
    def watch(self, subject: AttemptKey | int | Whole) -> Iterator[asyncio.Event]:
        """Give an event that is set when an attempt or a whole run printed, or a run published."""
        woken = asyncio.Event()
        self._watchers[subject].add(woken)
        try:
            yield woken
        finally:
            self._watchers[subject].discard(woken)
            if not self._watchers[subject]:
                del self._watchers[subject]

    def close_gates(self) -> None:
        """Wake everybody who watches."""
        for subject in list(self._watchers):
            self._wake(subject)

    def close(self) -> None:
        """Write the buffered lines, and close the file."""
        if self._timer is not None:
            self._timer.cancel()
        self._thread.submit(self._flush)
        self._thread.submit(self._file.close)
        self._thread.shutdown()

    def _wake_for(self, printer: Printer, *, publishes: bool) -> None:
        self._wake(printer.key)
        self._wake(Whole(printer.run))
        if publishes:
            self._wake(printer.run)

    def _wake(self, subject: Hashable) -> None:
        for woken in self._watchers.get(subject, ()):
            woken.set()

    def _flush_soon(self) -> None:
        self._timer = None
        self._thread.submit(self._flush)

    async def _in_thread(self, do: Callable[[], T]) -> T:
        return await asyncio.get_running_loop().run_in_executor(self._thread, do)

    async def _read(self, ask: Callable[[LogFile], T]) -> T:
        def flush_and_ask() -> T:
            self._flush()
            return ask(self._file)

        return await self._in_thread(flush_and_ask)

    def _flush(self) -> None:
        """Write the buffered lines. Runs in the thread of the file."""
        batch = [self._waiting.popleft() for _ in range(len(self._waiting))]
        self._size = 0
        if not batch:
            return
        try:
            if self._file.open_again_if_replaced():
                log.error("%s was moved or removed; it is made anew", self._file.path)
            self._file.write(batch)
        except (CannotStore, FolderUnusable) as error:
            if not self._failing:
                self._failing = True
                log.error("log lines are lost, since they cannot be written: %s", error)
        else:
            self._failing = False
