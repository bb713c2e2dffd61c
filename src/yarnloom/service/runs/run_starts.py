"""Starts of runs, many at once too, and those who wait for the end of runs."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from yarnloom.engine.commands import (
    CheckStarts,
    Command,
    RerunRun,
    Started,
    StartMany,
    StartRun,
    StartSchedule,
    Unchecked,
)
from yarnloom.engine.records.runs import RunRecord, StartedOne
from yarnloom.engine.rules.states import RUN_ENDED
from yarnloom.errors import InvalidInput, Problem
from yarnloom.protocol.run_answers import CheckAnswer, CheckingAnswer, StartedMany
from yarnloom.service.group_commit import settle
from yarnloom.service.processes.list_job_processes import Check, ListJobProcesses
from yarnloom.service.runs.run_reader import RunReader

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


LOOKED_AT_ONCE = 20


class RunStarts:
    """Starts runs.

    Args:
        submit: gives a command to the engine.
        processes: check rows.
        waits: hear which runs have started.
        is_closing: whether the service stops.
    """

    def __init__(
        self,
        submit: Callable[[Command], Awaitable[Any]],
        processes: ListJobProcesses,
        waits: RunWaits,
        is_closing: Callable[[], bool],
    ) -> None:
        self._submit = submit
        self._processes = processes
        self._waits = waits
        self._is_closing = is_closing

    async def start(
        self, command: StartRun | RerunRun | StartSchedule, seconds: float
    ) -> Started | CheckingAnswer:
        """Start a run, once the rows among its params are checked.

        Returns:
            What was started; or how far the check is, if it takes longer than some seconds: then
            nothing was started, and the same command is to be given again.

        Raises:
            InvalidInput: the params do not fit, or rows have errors; nothing was started.
        """
        until = asyncio.get_running_loop().time() + seconds
        while True:
            started: Started | Unchecked = await self._submit(command)
            if isinstance(started, Started):
                if started.run.state not in RUN_ENDED:
                    self._waits.note_started(started.run.number)
                return started
            if going := await self._check([started], until):
                return going

    async def _check(self, unchecked: list[Unchecked], until: float) -> CheckingAnswer | None:
        """Check rows; how far that is, if it takes longer than until then."""
        checks = [self._processes.check(rows) for one in unchecked for rows in one.rows]
        tasks = [check.task for check in checks if check.task is not None]
        left = until - asyncio.get_running_loop().time()
        _, going = await asyncio.wait(tasks, timeout=max(0.0, left))
        if wrong := [check for check in checks if check.problems]:
            raise refused_rows(wrong)
        if going or self._is_closing():
            return CheckingAnswer(checking=[_progress_of(check) for check in checks])
        for task in tasks:
            task.result()  # raises what broke
        return None

    async def start_many(
        self, starts: list[StartRun], seconds: float
    ) -> StartedMany | CheckingAnswer:
        """Start many runs in one transaction: all, or none.

        They are looked at some at a time, so that others are served meanwhile. Returns and raises
        as `start` does.
        """
        until = asyncio.get_running_loop().time() + seconds
        while True:
            prepared: list[Any] = []
            for first in range(0, len(starts), LOOKED_AT_ONCE):
                some = tuple(starts[first : first + LOOKED_AT_ONCE])
                prepared += await self._submit(CheckStarts(some, first))
            unchecked = [one for one in prepared if isinstance(one, Unchecked)]
            if not unchecked:
                runs: list[StartedOne] = await self._submit(StartMany(tuple(prepared)))
                made = sum(run.created for run in runs)
                return StartedMany.model_validate({"runs": runs, "created": made})
            if going := await self._check(unchecked, until):
                return going


def refused_rows(checks: list[Check]) -> InvalidInput:
    """The error for files whose rows have errors: the first of each."""
    problems = [
        Problem(check.rows.at, str(problem), problem.line, problem.column or "")
        for check in checks
        for problem in check.problems
    ]
    names = ", ".join(check.rows.source.get("name", "the list") for check in checks)
    errors = sum(check.errors for check in checks)
    first = f"; these are the first {len(problems)}" if errors > len(problems) else ""
    count = "1 error" if errors == 1 else f"{errors:,} errors"
    text = (
        f"{names}: {count}{first}. Nothing was started; correct them and start again, or start "
        'with the good rows: bad="collect"'
    )
    return InvalidInput(text, problems=problems)


def _progress_of(check: Check) -> CheckAnswer:
    return CheckAnswer.model_validate(
        {"param": check.rows.at, "file": check.rows.source, **check.progress}
    )
