"""Workers as processes of `serve --load`: how they are started, also before the service is there.

Loading the service takes about as long as loading a worker. So `serve` takes its port, starts its
workers and only then loads the rest: what a worker asks meanwhile waits in the port's queue.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import subprocess
import sys
import uuid
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from yarnloom.masking import TASK_TOKEN_VARIABLE, environment_without_secrets
from yarnloom.values import JsonObject

LONGEST_LINE = 2**20


@dataclass(frozen=True, slots=True)
class Helpers:
    """What runs beside the service.

    Attributes:
        load: MODULE:LOOM of each loom; empty for nothing.
        workers: how many workers.
        processes: how many processes each worker has.
        folder: the folder to find the module in.
        reload: publish again, and replace the processes, when code changes.
        task_token: a file with the token that tasks use; empty for none.
        relay: the outbox that is delivered from; empty for none.
        path: further places where modules are found.
        drain: seconds that running attempts get at the end; None for the worker's own.
        first: the number of the first worker.
    """

    load: tuple[str, ...] = ()
    workers: int = 1
    processes: int = 1
    folder: Path = Path()
    reload: bool = False
    task_token: str = ""
    relay: str = ""
    path: tuple[str, ...] = ()
    drain: float | None = None
    first: int = 1

    @property
    def names(self) -> list[str]:
        """What the workers are called."""
        if not self.load:
            return []
        return [f"w{number}" for number in range(self.first, self.first + self.workers)]

    def command(self, name: str, worker: str, *, publishes: bool) -> list[str]:
        """How a worker is started.

        Args:
            name: its name.
            worker: its id.
            publishes: whether it publishes the looms first.
        """
        return [
            *(sys.executable, "-m", "yarnloom", "worker", "--name", name, "--id", worker),
            *(word for one in self.load for word in ("--load", one)),
            # The service says itself which runs begin and end.
            *("--processes", str(self.processes), "--end-with-stdin", "--quiet"),
            *(["--reload"] if self.reload else []),
            *(["--publish"] if publishes else []),
            *([] if self.drain is None else ["--drain", f"{self.drain:g}"]),
        ]

    def surroundings(self, url: str) -> JsonObject:
        """Where and with what a worker runs.

        Ctrl-C in the terminal is for the service, which tells them; the end of their standard input
        tells them that this service is gone, however that happened.
        """
        environment = {**environment_without_secrets(), "YARNLOOM_URL": url}
        if self.path:
            known = environment.get("PYTHONPATH", "")
            places = [*self.path, *known.split(os.pathsep)]
            environment["PYTHONPATH"] = os.pathsep.join(dict.fromkeys(filter(None, places)))
        if self.task_token:
            environment[TASK_TOKEN_VARIABLE] = self.task_token
        return {"env": environment, "cwd": self.folder, "start_new_session": True}


class WorkerProcess(Protocol):
    """A worker's process."""

    stdout: asyncio.StreamReader | None

    @property
    def returncode(self) -> int | None:
        """Its exit code, negative for a signal; None while it lives."""

    async def wait(self) -> int:
        """Wait until it has ended; its exit code."""

    def terminate(self) -> None:
        """Tell it to end."""

    def kill(self) -> None:
        """Kill it."""


class EarlyWorker:
    """A worker that was started before there was an event loop to watch it.

    Attributes:
        name: of the worker.
        id: of the worker.
    """

    def __init__(self, helpers: Helpers, name: str, url: str) -> None:
        self.name = name
        self.id = new_id(name)
        self.stdout: asyncio.StreamReader | None = None
        self._taken = False
        self._process = subprocess.Popen(
            helpers.command(name, self.id, publishes=name == helpers.names[0]),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            **helpers.surroundings(url),
        )

    async def take(self) -> None:
        """Watch it from now on."""
        self._taken = True
        reader = asyncio.StreamReader(limit=LONGEST_LINE)
        await asyncio.get_running_loop().connect_read_pipe(
            lambda: asyncio.StreamReaderProtocol(reader), self._process.stdout
        )
        self.stdout = reader

    @property
    def returncode(self) -> int | None:
        """Its exit code, negative for a signal; None while it lives."""
        return self._process.poll()

    async def wait(self) -> int:
        """Wait until it has ended; its exit code."""
        return await asyncio.to_thread(self._process.wait)

    def terminate(self) -> None:
        """Tell it to end."""
        self._process.terminate()

    def kill(self) -> None:
        """Kill it."""
        self._process.kill()

    def give_up(self) -> None:
        """The service did not begin: end what nobody watches."""
        if not self._taken:
            self.kill()
            self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout):
                with contextlib.suppress(OSError):
                    if pipe:
                        pipe.close()


def new_id(name: str) -> str:
    """An id for a worker of a name."""
    return f"{name}-{uuid.uuid4().hex[:8]}"
