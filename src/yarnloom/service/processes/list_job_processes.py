"""List jobs in processes beside the service: rows that are checked, long lists read and gathered.

A process (`yarnloom.side_process.long_lists`) does one job at a time, and waits a while for the
next, since starting one takes longer than most jobs. A job that breaks is tried again later: what
waits for it is in the records, and `why` says so.
"""

from __future__ import annotations

import asyncio
import json
import logging
import sys
from collections import OrderedDict
from collections.abc import AsyncIterator
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.commands import Command, EndListJob, KeepRows, ListJob, RowsToCheck
from yarnloom.errors import Busy, YarnloomError
from yarnloom.service.group_commit import Writer
from yarnloom.side_process.long_lists import from_json
from yarnloom.store import Database, Kept
from yarnloom.tabular import RowProblem
from yarnloom.values import JsonObject

log = logging.getLogger("yarnloom.service")

AT_ONCE = 2
AGAIN_AFTER = 10.0
IDLE_SECONDS = 30.0
"""For how long a process waits for another job."""

REMEMBERED = 100
LONGEST_LINE = 16 * 2**20


@dataclass(slots=True)
class Check:
    """The rows of one file, while they are checked and some time after.

    Attributes:
        rows: what is checked.
        progress: how many `rows` and bytes (`read` of `size`) have been looked at.
        problems: the first errors; empty if there is none, or it goes on.
        errors: how many there are.
    """

    rows: RowsToCheck
    progress: dict[str, int] = field(default_factory=lambda: {"rows": 0, "read": 0, "size": 0})
    problems: list[RowProblem] = field(default_factory=list)
    errors: int = 0
    task: asyncio.Task[None] | None = None


class ListJobProcesses:
    """The processes beside one service.

    Args:
        database: the data folder.
        writer: told what came of a job.
        placing: held while bytes are removed, and here until what was kept is recorded.
    """

    def __init__(self, database: Database, writer: Writer, placing: asyncio.Lock) -> None:
        self._data = database.folder
        self._files = database.files
        self._writer = writer
        self._placing = placing
        self._checks: OrderedDict[tuple[str, str], Check] = OrderedDict()
        self._checking = asyncio.Semaphore(AT_ONCE)
        self._choring = asyncio.Semaphore(AT_ONCE)
        self._tasks: set[asyncio.Task[None]] = set()
        self._processes: set[asyncio.subprocess.Process] = set()
        self._idle: dict[asyncio.subprocess.Process, asyncio.TimerHandle] = {}

    # List jobs of the engine

    def do(self, list_job: ListJob) -> None:
        """Do a list job, some time, and tell the engine."""
        self._begin(self._do(list_job))

    async def _do(self, list_job: ListJob) -> None:
        job = {"do": list_job.kind, "part": list_job.part, **list_job.facts}
        try:
            async with self._choring:
                found = [message async for message in self._work(job)][-1]
        except (OSError, Busy) as error:
            log.error("a list job of part %s failed, and is tried again: %s", list_job.part, error)
            asyncio.get_running_loop().call_later(AGAIN_AFTER, self.do, list_job)
            return
        lists = {kind: from_json(kept) for kind, kept in found["lists"].items()}
        end = EndListJob(list_job.part, list_job.serial, lists, found["fault"])
        if not await self._record(end, *lists.values()):
            self.do(list_job)

    async def _record(self, command: Command, *kept: Kept) -> bool:
        """Record what was kept; False if one of them was removed, as a file that nobody used."""
        async with self._placing:
            there = all(self._files.path(one.sha256).exists() for one in kept)
            if there:
                await self._writer.submit(command)
            return there

    # Rows

    def check(self, rows: RowsToCheck) -> Check:
        """The check of a file's rows, begun now unless it was before."""
        key = (rows.source.get("sha256") or rows.source["list"], rows.kind)
        known = self._checks.get(key)
        if known is None or (known.task and known.task.done() and not known.problems):
            known = self._checks[key] = Check(rows)
            known.task = self._begin(self._check(known))
            while len(self._checks) > REMEMBERED:
                self._checks.popitem(last=False)
        return known

    async def preview(self, rows: RowsToCheck) -> JsonObject:
        """Look at the first rows of a file, as a run would get them."""
        job = {"do": "preview", "source": rows.source, "schema": rows.schema}
        async with self._checking:
            return [message async for message in self._work(job)][-1]

    async def _check(self, check: Check) -> None:
        job = {"do": "check", "source": check.rows.source, "schema": check.rows.schema}
        async with self._checking:
            async for message in self._work(job):
                if "list" in message:
                    # Where it was removed meanwhile the rows are simply checked once more.
                    kept = from_json(message["list"])
                    others = tuple(
                        (from_json(one), name, media_type)
                        for one, name, media_type in message["others"]
                    )
                    command = KeepRows(check.rows, kept, message["facts"], others)
                    await self._record(command, kept, *(one for one, _, _ in others))
                elif "problems" in message:
                    check.errors = message["errors"]
                    check.problems = [RowProblem(*one) for one in message["problems"]]
                else:
                    check.progress = message

    # Processes

    async def _work(self, job: JsonObject) -> AsyncIterator[JsonObject]:
        """What a process says that does a job.

        Raises:
            Busy: it broke.
        """
        process = self._take_idle() or await self._start()
        ended = False
        try:
            assert process.stdin
            assert process.stdout
            assert process.stderr
            process.stdin.write(json.dumps({**job, "data": str(self._data)}).encode() + b"\n")
            while line := await process.stdout.readline():
                message = json.loads(line)
                if ended := "end" in message:
                    return
                yield message
            trouble = (await process.stderr.read()).decode("utf-8", "replace").strip()
            code = await process.wait()
            log.error("a process beside the service ended badly:\n%s", trouble)
            last = trouble.rpartition("\n")[2] or f"exit code {code}"
            raise Busy(f"a process beside the service ended badly: {last}. Try again.")
        finally:
            if ended:
                timer = asyncio.get_running_loop().call_later(IDLE_SECONDS, self._end, process)
                self._idle[process] = timer
            else:
                self._end(process)

    async def _start(self) -> asyncio.subprocess.Process:
        process = await asyncio.create_subprocess_exec(
            *(sys.executable, "-m", "yarnloom.side_process.long_lists"),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            limit=LONGEST_LINE,
            start_new_session=True,
        )
        self._processes.add(process)
        return process

    def _take_idle(self) -> asyncio.subprocess.Process | None:
        """Return a process that waits for a job, if one does."""
        while self._idle:
            process, timer = self._idle.popitem()
            timer.cancel()
            if process.returncode is None:
                return process
            self._processes.discard(process)
        return None

    def _end(self, process: asyncio.subprocess.Process) -> None:
        self._idle.pop(process, None)
        self._processes.discard(process)
        if process.returncode is None:
            process.kill()

    def _begin(self, work: Any) -> asyncio.Task[None]:
        task: asyncio.Task[None] = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)
        return task

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()):
            kind = logging.WARNING if isinstance(error, YarnloomError) else logging.ERROR
            log.log(kind, "work beside the service failed: %s", error)

    def close(self) -> None:
        """End every process."""
        for task in self._tasks:
            task.cancel()
        for timer in self._idle.values():
            timer.cancel()
        for process in list(self._processes):
            self._end(process)
