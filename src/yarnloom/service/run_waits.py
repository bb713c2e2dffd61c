"""Requests that wait for the end of a run."""

from __future__ import annotations

import asyncio

from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.states import RUN_ENDED
from yarnloom.service.futures import settle
from yarnloom.service.run_reader import RunReader

LONGEST_WAIT = 25.0
UNDER_WAY_REMEMBERED = 10_000
"""Runs whose wait begins without a look into the records, since they were just started."""
ASKS_AGAIN_WITHIN = 2.0


class RunWaits:
    """Holds requests until the runs that they wait for have ended.

    Args:
        waiters: by attempt the run whose end it waits for.
        runs: reads runs.
    """

    def __init__(self, waiters: dict[int, int], runs: RunReader) -> None:
        self.waiters = waiters
        self._runs = runs
        self._waiting: dict[int, set[asyncio.Future[None]]] = {}
        self._under_way: set[int] = set()  # runs of which this is known without a look
        self._closed = False

    def note_started(self, number: int) -> None:
        """Remember that a run has just started."""
        if len(self._under_way) >= UNDER_WAY_REMEMBERED:
            self._under_way.clear()
        self._under_way.add(number)

    def note_ended(self, numbers: set[int]) -> None:
        """Answer requests that wait for these runs."""
        self._under_way -= numbers
        for number in numbers & self._waiting.keys():
            for woken in self._waiting[number]:
                settle(woken, None)

    def close(self) -> None:
        """Answer every request as its run is now."""
        self._closed = True
        for waiting in self._waiting.values():
            for woken in waiting:
                settle(woken, None)

    async def wait_for_end(
        self, number: int, seconds: float, attempt: int | None = None
    ) -> RunRecord:
        """The run, as soon as it has ended, or after some seconds as it is then.

        Args:
            number: the run's.
            seconds: how long at most.
            attempt: that of a task that waits so.
        """
        if attempt is None:
            return await self._wait_for_end(number, seconds)
        self.waiters[attempt] = number
        try:
            return await self._wait_for_end(number, seconds)
        finally:
            # It may ask again in a moment.
            loop = asyncio.get_running_loop()
            loop.call_later(ASKS_AGAIN_WITHIN, self.waiters.pop, attempt, None)

    async def _wait_for_end(self, number: int, seconds: float) -> RunRecord:
        loop = asyncio.get_running_loop()
        until = loop.time() + min(seconds, LONGEST_WAIT)
        while True:
            woken: asyncio.Future[None] = loop.create_future()
            self._waiting.setdefault(number, set()).add(woken)
            try:
                if number not in self._under_way:
                    run = await self._runs.run(number)
                    if run.state in RUN_ENDED or loop.time() >= until or self._closed:
                        return run
                late = loop.call_at(until, settle, woken, None)
                await woken
                late.cancel()
            finally:
                self._waiting[number].discard(woken)
                if not self._waiting[number]:
                    del self._waiting[number]
            self._under_way.discard(number)  # as the records say, if it only took too long
