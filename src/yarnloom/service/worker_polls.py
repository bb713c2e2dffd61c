"""Open requests of workers, and workers whose process has ended."""

from __future__ import annotations

import asyncio
import random
from collections import deque
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from yarnloom.begun_files import begins_of, remove_files
from yarnloom.engine.commands import ClosePoll, Command, LoseWorker, Poll
from yarnloom.errors import WorkerUnknown
from yarnloom.process_identity import has_ended
from yarnloom.service.group_commit import Writer, settle
from yarnloom.service.runs.run_starts import LONGEST_WAIT
from yarnloom.values import JsonObject

Message = JsonObject

PAUSES_TO_END = (0.02, 0.1, 0.5, 2.0)
"""Between looks whether a process ends that closed its connection."""
CAME_REMEMBERED = 1_000
"""Workers that registered: one that was started early may have before anybody waits for it."""


class WorkerPolls:
    """Holds workers' open requests until there is something for them.

    Args:
        writer: knows the workers' processes.
        submit: gives a command to the engine.
    """

    def __init__(self, writer: Writer, submit: Callable[[Command], Awaitable[Any]]) -> None:
        self._writer = writer
        self._submit = submit
        self._polls: dict[str, asyncio.Future[list[Message]]] = {}
        self._registrations: dict[str, asyncio.Future[None]] = {}
        self._came: deque[str] = deque(maxlen=CAME_REMEMBERED)
        self._tasks: set[asyncio.Task[None]] = set()
        self._closed = False

    def answer(self, messages: Mapping[str, list[Message]], gone: set[str]) -> None:
        """Answer the requests for which there are messages, and those of workers that are gone."""
        for worker, some in messages.items():
            if answer := self._polls.get(worker):
                settle(answer, some)
        for worker in gone & self._polls.keys():
            answer = self._polls[worker]
            if not answer.done():
                answer.set_exception(WorkerUnknown(f"worker {worker} was given up; register again"))

    def close(self) -> None:
        """Answer every open request, and hold no more."""
        self._closed = True
        for answer in self._polls.values():
            settle(answer, [])

    async def poll(self, command: Poll, closed: asyncio.Future[None]) -> list[Message]:
        """Hold a worker's open request until there is something for it.

        Args:
            command: the request.
            closed: done when the worker closes its connection.
        """
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[list[Message]] = loop.create_future()
        if before := self._polls.get(command.worker):
            settle(before, [])  # one open request a worker: the newer one takes its place
        self._polls[command.worker] = answer
        try:
            await self._submit(command)
            waited: list[asyncio.Future[Any]] = [answer, closed]
            await asyncio.wait(
                waited,
                timeout=LONGEST_WAIT * random.uniform(0.8, 1.0),
                return_when=asyncio.FIRST_COMPLETED,
            )
            if closed.done() and not self._closed:
                self._watching_end(command.worker)
            if not answer.done() and not self._closed:
                await self._submit(ClosePoll(command.worker))
            return answer.result() if answer.done() else []
        finally:
            if self._polls.get(command.worker) is answer:
                del self._polls[command.worker]

    def _watching_end(self, worker: str) -> None:
        """A worker closed its connection: if its process ends with that, it is lost at once."""
        looking = asyncio.ensure_future(self._lose_if_ended(worker))
        self._tasks.add(looking)
        looking.add_done_callback(self._tasks.discard)

    async def _lose_if_ended(self, worker: str) -> None:
        for pause in PAUSES_TO_END:
            self.lose_ended({worker: self._writer.processes().get(worker, {})})
            await asyncio.sleep(pause)

    def lose_ended(self, processes: Mapping[str, JsonObject]) -> None:
        """Give up workers whose process on this machine is gone."""
        for worker, process in processes.items():
            if has_ended(process):
                why = f"its process {process['pid']} on this machine has ended"
                self._writer.submit_soon(LoseWorker(worker, why, begins_of(worker)))
                remove_files({worker})

    def registration(self, worker: str) -> asyncio.Future[None]:
        """Return a future that is done when a worker of this id registers."""
        future = self._registrations.setdefault(worker, asyncio.get_running_loop().create_future())
        if worker in self._came:
            self._registrations.pop(worker)
            settle(future, None)
        return future

    def note_registered(self, worker: str) -> None:
        """A worker has registered."""
        self._came.append(worker)
        if registration := self._registrations.pop(worker, None):
            settle(registration, None)
