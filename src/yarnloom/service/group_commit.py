"""`submit(command)` for many callers at once: group commit.

All commands that arrive in one turn of the event loop share one transaction, and each caller gets
its answer after the commit. Commits run on the event loop itself, which is fastest where the disk
is; where a flush takes longer than `SLOW_FLUSH`, they run on one writer thread instead, so that
the loop is never blocked. While a commit runs on the thread, new commands gather for the next.

A commit on the loop takes only so many commands (`MOST_WEIGHT`). A command that can be large, such
as a mend, has a commit of its own, on the thread: it is done as a whole and becomes visible at
once, and requests that need no commit are answered meanwhile.

Decision: `docs/decisions/01-one-writer.md`.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from statistics import median
from typing import TYPE_CHECKING, Any, TypeVar

from yarnloom.engine.commands import Command, InHand, Report, StartRun, Tick
from yarnloom.engine.results import Results
from yarnloom.engine.rules.run_clock import Moment
from yarnloom.errors import Busy
from yarnloom.store import Printer
from yarnloom.values import JsonObject

if TYPE_CHECKING:
    from yarnloom.engine.engine import Engine


T = TypeVar("T")


def settle(future: asyncio.Future[T], value: T) -> None:
    """Set the result of a future that has none."""
    if not future.done():
        future.set_result(value)


log = logging.getLogger("yarnloom.service")

SLOW_FLUSH = 0.003
WATCHED = 101
MOST_WEIGHT = 40
"""Commands in one commit on the loop, and reported items: about 20 ms of work at most."""

LARGE_PARAMS = 100
"""Values in the params of a start; one with more may begin with a long list."""

Clock = Callable[[], Moment]


def system_clock() -> Moment:
    """The present, by this machine's clocks."""
    return Moment(time.time_ns() // 1_000, time.monotonic())


class Writer:
    """Gathers commands into batches for one engine.

    Args:
        engine: the engine; nobody else may call it.
        clock: gives the time that each batch is done at.
        on_results: told of each batch after its commit, on the event loop.
        threaded: True commits on a thread from the start.
    """

    def __init__(
        self,
        engine: Engine,
        clock: Clock,
        on_results: Callable[[Results], None],
        *,
        threaded: bool = False,
    ) -> None:
        self._engine = engine
        self._clock = clock
        self._on_results = on_results
        self._loop = asyncio.get_running_loop()
        self._pending: list[tuple[Command, asyncio.Future[Any]]] = []
        self._scheduled = False
        self._timer: asyncio.TimerHandle | None = None
        self._timer_at: float | None = None
        self._times: deque[float] = deque(maxlen=WATCHED)
        self._threaded = threaded
        self._thread: ThreadPoolExecutor | None = None
        self._on_thread = False  # whether a batch is there now
        self._closed = False
        self.submit_soon(Tick())

    @property
    def threaded(self) -> bool:
        """Whether all commits run on the thread."""
        return self._threaded

    def processes(self) -> dict[str, JsonObject]:
        """By worker which process it says that it is, as far as workers say it."""
        return self._engine.processes()

    @property
    def closed_pools(self) -> frozenset[str]:
        """Pools in which nothing begins until somebody opens them."""
        return self._engine.closed_pools

    def has_worker(self, worker: str) -> bool:
        """Whether a worker was here and has not left."""
        return self._engine.has_worker(worker)

    def knows_worker(self, worker: str) -> bool:
        """Whether a worker is registered, as far as is known without a transaction."""
        return self._engine.knows_worker(worker)

    @property
    def ahead(self) -> int:
        """By how many microseconds the time of runs is ahead of the clock."""
        return self._engine.ahead

    @property
    def takes_work(self) -> bool:
        """Whether a worker is there that takes work."""
        return self._engine.takes_work

    async def in_hand(self, command: InHand) -> dict[int, Printer | None]:
        """Answer which attempts are a worker's own: from memory where that is known, at once."""
        if not self._on_thread:
            found = self._engine.in_hand(command)
            if found is not None:
                return found
        own: dict[int, Printer | None] = await self.submit(command)
        return own

    async def submit(self, command: Command) -> Any:
        """Do a command; its answer, once that is durable.

        Raises:
            Refused: the engine says no; nothing changed.
        """
        return await self.submit_soon(command)

    def submit_soon(self, command: Command) -> asyncio.Future[Any]:
        """Like `submit`, without waiting."""
        future: asyncio.Future[Any] = self._loop.create_future()
        # An answer that nobody reads any more, such as a tick's, is no error of the loop.
        future.add_done_callback(lambda done: done.cancelled() or done.exception())
        self._pending.append((command, future))
        self._schedule()
        return future

    def _refuse_all(self) -> None:
        batch, self._pending = self._pending, []
        for _, future in batch:
            if not future.done():
                future.set_exception(Busy("the service is stopping; try again when it is back"))

    def close(self) -> None:
        """Stop the timer and the thread; what comes now, or was not begun, is refused."""
        self._closed = True
        if self._timer:
            self._timer.cancel()
        if self._thread:
            self._thread.shutdown()

    def _schedule(self) -> None:
        if not self._scheduled:
            self._scheduled = True
            self._loop.call_soon(self._flush)

    def _flush(self) -> None:
        if self._closed:
            self._scheduled = False
            self._refuse_all()
            return
        batch = self._take_batch()
        commands = [command for command, _ in batch]
        if not self._threaded and not is_large(commands[0]):
            results = self._do(commands)
            self._answer(batch, results)
            if results.commit_seconds is not None:
                self._watch(results.commit_seconds)
            return
        if self._thread is None:
            self._thread = ThreadPoolExecutor(1, thread_name_prefix="yarnloom-writer")
        self._on_thread = True
        work = self._loop.run_in_executor(self._thread, self._do, commands)
        work.add_done_callback(lambda done: self._answer(batch, done.result()))

    def _take_batch(self) -> list[tuple[Command, asyncio.Future[Any]]]:
        """The commands for the next commit: a large one alone, of others so many."""
        if self._threaded:
            batch, self._pending = self._pending, []
            return batch
        count = weight = 0
        for command, _ in self._pending:
            if count and (is_large(command) or weight >= MOST_WEIGHT):
                break
            count, weight = count + 1, weight + _weight(command)
            if is_large(command):
                break
        batch, self._pending = self._pending[:count], self._pending[count:]
        return batch

    def _do(self, commands: list[Command]) -> Results:
        """Do a batch; a bug in the engine fails it, and those behind it go on."""
        moment = self._clock()
        try:
            return self._engine.execute(commands, moment)
        except Exception as error:
            log.exception("a batch of %d commands broke", len(commands))
            return Results([error] * len(commands), next_due=moment.mono + 1.0)

    def _answer(self, batch: list[tuple[Command, asyncio.Future[Any]]], results: Results) -> None:
        self._scheduled = self._on_thread = False
        self._on_results(results)  # first: work goes out before the start that made it is answered
        for (_, future), answer in zip(batch, results.answers, strict=True):
            if future.done():
                continue
            if isinstance(answer, BaseException):
                future.set_exception(answer)
            else:
                future.set_result(answer)
        self._arm(results.next_due)
        if self._pending:
            self._schedule()

    def _watch(self, seconds: float) -> None:
        """Move to the thread when the disk turns out slow."""
        self._times.append(seconds)
        if len(self._times) == WATCHED and median(self._times) > SLOW_FLUSH:
            self._threaded = True

    def _arm(self, due: float | None) -> None:
        if due == self._timer_at and self._timer is not None:
            return
        if self._timer:
            self._timer.cancel()
            self._timer = None
        self._timer_at = due
        if due is not None:
            delay = max(0.0, due - self._clock().mono)
            self._timer = self._loop.call_later(delay, self._due)

    def _due(self) -> None:
        self._timer = None
        self.submit_soon(Tick())


def is_large(command: Command) -> bool:
    """Return whether a command can take long, since what it concerns has no bound."""
    if command.is_large:
        return True
    return isinstance(command, StartRun) and any(
        len(value) > LARGE_PARAMS for value in command.params.values() if isinstance(value, list)
    )


def _weight(command: Command) -> int:
    return 1 + len(command.items) + len(command.saved) if isinstance(command, Report) else 1
