"""The workers and the publication that `serve --load` starts, and keeps up."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
from collections.abc import Callable, Sequence
from typing import Any

from yarnloom.begun_files import begins_of, remove_files
from yarnloom.engine.commands import DrainWorker, LoseWorker
from yarnloom.errors import NotFound, StartError
from yarnloom.service.core import Core
from yarnloom.service.processes.relay_process import keep_relaying
from yarnloom.service.processes.worker_process import (
    LONGEST_LINE,
    EarlyWorker,
    Helpers,
    WorkerProcess,
    new_id,
)

QUICK_DEATH = 2.0
LONGEST_PAUSE = 30.0


class Supervisor:
    """Starts workers, starts a new one for each that dies, and ends them.

    Args:
        core: the service.
        helpers: the workers to start.
        url: the address of the service's Unix socket.
        say: tells the user.
        early: workers that run already.
    """

    def __init__(
        self,
        core: Core,
        helpers: Helpers,
        url: str,
        say: Callable[[str], None],
        early: Sequence[EarlyWorker] = (),
    ) -> None:
        self._core = core
        self._helpers = helpers
        self._url = url
        self._say = say
        self._early = {one.name: one for one in early}
        self._processes: dict[str, WorkerProcess] = {}
        self._tasks: list[asyncio.Task[None]] = []
        self._relay: asyncio.Task[None] | None = None
        self._ids: dict[str, str] = {}
        self._current, self._next = helpers, helpers.first + helpers.workers
        self._ending = False

    async def start(self) -> None:
        """Publish the loom, and start the workers.

        Raises:
            StartError: the loom cannot be published; its errors have been shown.
        """
        if self._helpers.relay:
            relaying = keep_relaying(
                self._helpers.relay, self._helpers.folder, self._url, self._say
            )
            self._relay = asyncio.create_task(relaying)
        if not self._helpers.load:
            return
        publishing: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._begin(self._helpers, publishing)
        try:
            await publishing
        except StartError as error:
            self._core.looms.note_failed(error.detail)
            raise
        self._core.looms.note_published()

    async def replace(self, helpers: Helpers) -> None:
        """Publish other code, and let workers with it take over; the old ones drain.

        Raises:
            StartError: the looms cannot be published; the workers that are there stay.
        """
        old = dict(self._ids)
        helpers = dataclasses.replace(
            helpers,
            first=self._next,
            task_token=self._helpers.task_token,
            drain=self._helpers.drain,
        )
        publishing: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._begin(helpers, publishing)
        await publishing
        self._helpers = self._current = helpers
        for name, worker in old.items():
            self._say(f"worker {name} drains: newer code has taken over")
            with contextlib.suppress(NotFound):
                await self._core.submit(DrainWorker(worker, "serve", "newer code has taken over"))

    def _begin(self, helpers: Helpers, publishing: asyncio.Future[None]) -> None:
        """Start workers, of which the first publishes the looms."""
        self._next = helpers.first + helpers.workers
        for index, name in enumerate(helpers.names):
            keep_up = self._keep_up(helpers, name, publishing if index == 0 else None)
            self._tasks.append(asyncio.create_task(keep_up))

    async def stop(self, hurry: asyncio.Event) -> None:
        """End the workers: ask first, and kill when hurried."""
        self._ending = True
        if self._relay is not None:
            self._relay.cancel()
            await asyncio.wait([self._relay])
        for process in self._processes.values():
            if process.returncode is None:
                process.terminate()
        ended: asyncio.Future[Any] = asyncio.gather(*self._tasks, return_exceptions=True)
        hurried: asyncio.Future[Any] = asyncio.create_task(hurry.wait())
        await asyncio.wait([ended, hurried], return_when=asyncio.FIRST_COMPLETED)
        if not ended.done():
            for process in self._processes.values():
                if process.returncode is None:
                    process.terminate()  # the second one means: at once
            await asyncio.wait([ended], timeout=3.0)
            for process in self._processes.values():
                if process.returncode is None:
                    process.kill()
            await ended
        hurried.cancel()

    async def _keep_up(
        self, helpers: Helpers, name: str, publishing: asyncio.Future[None] | None
    ) -> None:
        """Keep a worker alive.

        Args:
            helpers: what it loads.
            name: the worker's.
            publishing: done when it has published the looms; None where another does that.
        """
        pause = 0.0
        while not self._ending:
            begun = asyncio.get_running_loop().time()
            if early := self._early.pop(name, None):
                await early.take()
                worker, process = early.id, self._note(name, early.id, early)
            else:
                worker = new_id(name)
                spawned = await self._spawn(helpers, name, worker, publishing)
                process = self._note(name, worker, spawned)
            # Whatever it says is passed on, also when it cannot publish.
            passing = asyncio.create_task(self._pass_on(process))
            if publishing is not None and not publishing.done():
                await self._until_published(helpers, worker, passing, publishing)
            await passing
            code = await process.wait()
            self._ids.pop(name, None)
            if self._ending or (publishing is not None and publishing.exception()):
                return
            if code == 0:
                self._say(f"worker {name} has ended as it was told; none takes its place")
                return
            how = f"signal {-code}" if code < 0 else f"exit code {code}"
            begins = begins_of(worker)
            await self._core.submit(LoseWorker(worker, f"its process ended with {how}", begins))
            remove_files({worker})
            if helpers is not self._current:
                return  # newer code has taken over meanwhile
            lived = asyncio.get_running_loop().time() - begun
            pause = min(LONGEST_PAUSE, max(0.5, pause * 2)) if lived < QUICK_DEATH else 0.0
            self._say(f"worker {name} ended with {how}; another one is started")
            await asyncio.sleep(pause)

    async def _until_published(
        self,
        helpers: Helpers,
        worker: str,
        passing: asyncio.Task[None],
        publishing: asyncio.Future[None],
    ) -> None:
        """Wait until a worker has registered, which it does when it has published, or ended."""
        registered = self._core.polls.registration(worker)
        await asyncio.wait([passing, registered], return_when=asyncio.FIRST_COMPLETED)
        if registered.done() or self._ending:
            publishing.set_result(None)
        else:
            names = ", ".join(helpers.load)
            publishing.set_exception(StartError(f"{names} was not published; see above"))

    def _note(self, name: str, worker: str, process: WorkerProcess) -> WorkerProcess:
        self._processes[name], self._ids[name] = process, worker
        return process

    async def _pass_on(self, process: WorkerProcess) -> None:
        """Say what a process says, line by line, until it ends."""
        assert process.stdout
        while line := await process.stdout.readline():
            self._say(line.decode("utf-8", "replace").rstrip("\n"))

    async def _spawn(
        self, helpers: Helpers, name: str, worker: str, publishing: asyncio.Future[None] | None
    ) -> asyncio.subprocess.Process:
        publishes = publishing is not None and (helpers.reload or not publishing.done())
        return await asyncio.create_subprocess_exec(
            *helpers.command(name, worker, publishes=publishes),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT,
            limit=LONGEST_LINE,
            **helpers.surroundings(self._url),
        )
