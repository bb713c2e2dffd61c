"""Starting runs: the rows among their params are checked in other processes before."""

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
from yarnloom.engine.records.runs import StartedOne
from yarnloom.engine.rules.states import RUN_ENDED
from yarnloom.errors import InvalidInput, Problem
from yarnloom.protocol.run_answers import CheckAnswer, CheckingAnswer, StartedMany
from yarnloom.service.list_job_processes import Check, ListJobProcesses
from yarnloom.service.run_waits import RunWaits
from yarnloom.tabular.check_file import ERRORS_TOLD

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
    first = f"; these are the first {len(problems)}" if len(problems) >= ERRORS_TOLD else ""
    text = f"{names}: there are errors{first}. Nothing was started; correct them, and start again"
    return InvalidInput(text, problems=problems)


def _progress_of(check: Check) -> CheckAnswer:
    return CheckAnswer.model_validate(
        {"param": check.rows.at, "file": check.rows.source, **check.progress}
    )
