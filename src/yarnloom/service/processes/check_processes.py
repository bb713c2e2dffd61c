"""The processes that check what is too large or too costly for the service's own
(`side_process/check_values`).

They are started when the first such thing comes, and end after a while without any. A job that
takes longer than its deadline ends its process; the next job gets a new one.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import pickle
import sys
from contextvars import ContextVar
from typing import Any, TypeVar
from weakref import WeakValueDictionary

from pydantic import BaseModel

from yarnloom.engine.state.verdicts import Unjudged
from yarnloom.errors import Busy, InvalidInput, Problem
from yarnloom.masking import environment_without_secrets
from yarnloom.side_process.check_values import CheckValue, Job, ParseBody, Parsed

log = logging.getLogger("yarnloom.service")

Model = TypeVar("Model", bound=BaseModel)

PROCESSES = 2
START_SECONDS = 30.0
PARSE_SECONDS = 5.0
CHECK_SECONDS = 2.0
IDLE_SECONDS = 60.0
_MAIN = "from yarnloom.side_process.check_values import main; main()"
LONGEST_FRAME = 64 * 2**20


LARGE_BODY = 2**20
"""Bytes of a body; larger ones never take all processes."""

CLIENT: ContextVar[str] = ContextVar("client", default="")
"""Who sent the request at hand, as far as that can be seen."""


class CheckTooSlow(Exception):
    """A job was not done within its deadline."""


class CheckProcesses:
    """Gives jobs to a few processes, one job each at a time."""

    def __init__(self) -> None:
        self._free: list[_Process] = []
        self._all: set[_Process] = set()
        self._places = asyncio.Semaphore(PROCESSES)
        self._large = asyncio.Semaphore(PROCESSES - 1)
        self._turns: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._closing = False

    async def parse(self, model: type[Model], raw: bytes) -> Model:
        """Return a large body as its model; takes it over piece by piece.

        Raises:
            InvalidInput: it does not fit; every problem is named.
            Busy: the process ended, or took too long.
        """
        large = self._large if len(raw) > LARGE_BODY else contextlib.nullcontext()
        try:
            async with large:
                found = await self._do(ParseBody(model, raw), PARSE_SECONDS)
        except CheckTooSlow:
            text = f"the body could not be read within {PARSE_SECONDS:g} s; send less at a time"
            raise InvalidInput(text) from None
        if not isinstance(found, Parsed):
            raise InvalidInput("the body does not fit; see `problems`", problems=found)
        body: Model = pickle.loads(found.head)
        for name, piece in found.pieces:
            getattr(body, name).extend(pickle.loads(piece))
            await asyncio.sleep(0)
        return body

    async def problems(self, question: Unjudged) -> list[Problem]:
        """Return what is wrong with a value, or that it could not be found out in time."""
        value, schema = json.dumps(question.value), json.dumps(question.schema)
        try:
            found: list[Problem] = await self._do(CheckValue(value, schema), CHECK_SECONDS)
        except CheckTooSlow:
            text = (
                f"it could not be checked within {CHECK_SECONDS:g} s; its schema is too costly for "
                "a value of that size. Give less, or a file"
            )
            return [Problem("", text)]
        return found

    async def _do(self, job: Job, seconds: float) -> Any:
        """Do a job; those of one client wait for each other, and leave a process to the rest."""
        client = CLIENT.get()
        turn = self._turns.setdefault(client, asyncio.Lock())
        async with turn, self._places:
            process = self._free.pop() if self._free else _Process()
            self._all.add(process)
            try:
                answer = await process.do(job, seconds)
            except BaseException:
                process.kill()
                self._all.discard(process)
                raise
            process.rest(lambda: self._forget(process))
            self._free.append(process)
        if isinstance(answer, Exception):
            log.error("a check broke: %r", answer)
            raise Busy("a check of the request broke; the service's log says more")
        return answer

    def _forget(self, process: _Process) -> None:
        if process in self._free:
            self._free.remove(process)
            self._all.discard(process)
            process.kill()

    def close(self) -> None:
        """End every process."""
        for process in self._all:
            process.kill()


class _Process:
    """One process, started with its first job."""

    def __init__(self) -> None:
        self._process: asyncio.subprocess.Process | None = None
        self._timer: asyncio.TimerHandle | None = None

    async def do(self, job: Job, seconds: float) -> Any:
        if self._timer:
            self._timer.cancel()
        try:
            if self._process is None:
                async with asyncio.timeout(START_SECONDS):
                    self._process = await asyncio.create_subprocess_exec(
                        # Not -m: what a main module defines cannot be pickled for others.
                        *(sys.executable, "-c", _MAIN),
                        stdin=asyncio.subprocess.PIPE,
                        stdout=asyncio.subprocess.PIPE,
                        limit=LONGEST_FRAME,
                        env=environment_without_secrets(),
                        start_new_session=True,
                    )
                    await self._read()
            async with asyncio.timeout(seconds):
                assert self._process.stdin
                data = pickle.dumps(job)
                self._process.stdin.write(len(data).to_bytes(4, "big") + data)
                await self._process.stdin.drain()
                return await self._read()
        except TimeoutError as error:
            raise CheckTooSlow from error
        except (asyncio.IncompleteReadError, OSError) as error:
            raise Busy("the process that checks requests ended; try again") from error

    async def _read(self) -> Any:
        assert self._process
        assert self._process.stdout
        size = int.from_bytes(await self._process.stdout.readexactly(4), "big")
        return pickle.loads(await self._process.stdout.readexactly(size))

    def rest(self, forget: Any) -> None:
        """End it after a while, unless there is another job."""
        self._timer = asyncio.get_running_loop().call_later(IDLE_SECONDS, forget)

    def kill(self) -> None:
        if self._timer:
            self._timer.cancel()
        if self._process and self._process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                self._process.kill()
