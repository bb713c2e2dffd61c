"""A service as a process: start, signals, and the order of its end."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
from collections.abc import Awaitable, Callable, Iterator
from typing import Any

import uvicorn

from yarnloom.errors import YarnloomError
from yarnloom.service.address import listen
from yarnloom.service.app import create_app
from yarnloom.service.connections import (
    MOST_CONNECTIONS,
    OWN_FILES,
    Room,
    protocol_for,
    raise_file_limit,
)
from yarnloom.service.helpers import Helpers, Supervisor
from yarnloom.service.memory import stay_small
from yarnloom.service.settings import ServiceSettings
from yarnloom.store import Database, LogFile

Main = Callable[[str], Awaitable[None]]


class _Server(uvicorn.Server):
    """uvicorn without its own signal handlers: what ends in which order is decided here."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Leave the signals alone."""
        yield


class Service:
    """One service process.

    Args:
        settings: how the service runs.
        helpers: the workers to start with it.
        say: tells the user, one line at a time.
    """

    def __init__(
        self, settings: ServiceSettings, helpers: Helpers, say: Callable[[str], None]
    ) -> None:
        settings.check()
        self._settings = settings
        self._helpers = helpers
        self._say = say
        self._stop = asyncio.Event()
        self._hurry = asyncio.Event()

    async def run(self, main: Main | None = None) -> None:
        """Serve until SIGINT or SIGTERM, or until `main` has ended.

        Args:
            main: runs beside the service, and is given its address; when it ends, so does this.

        Raises:
            StartError: the port or the data folder cannot be had, or the loom not be published.
        """
        stay_small()
        sock = listen(self._settings.host, self._settings.port)
        url = _url(self._settings.host, sock)
        try:
            holder = f"the service at {url} (process {os.getpid()})"
            database = Database(self._settings.data, holder)
            try:
                log_file = LogFile(self._settings.data)
            except BaseException:
                database.close()
                raise
        except BaseException:
            sock.close()
            raise
        app = create_app(self._settings, database, log_file)
        config = uvicorn.Config(
            app,
            log_config=None,
            access_log=False,
            lifespan="on",
            timeout_graceful_shutdown=1,
            timeout_keep_alive=75,
            http=protocol_for(Room(min(MOST_CONNECTIONS, raise_file_limit() - OWN_FILES))),
        )
        server = _Server(config)
        self._handle_signals()
        serving = asyncio.create_task(server.serve(sockets=[sock]))
        while not server.started and not serving.done():
            await asyncio.sleep(0.005)
        if serving.done():
            await serving
            raise YarnloomError("the service ended while it started; its log has the details")
        self._say(f"Yarn Loom serves at {url}, data in {self._settings.data}")
        core = app.state.core
        supervisor = Supervisor(core, self._helpers, url, self._say)
        try:
            await self._until_told(supervisor, serving, main, url)
        finally:
            await supervisor.stop(self._hurry)
            core.close_gates()
            server.should_exit = True
            await serving
            self._say("the service has ended")

    async def _until_told(
        self,
        supervisor: Supervisor,
        serving: asyncio.Task[None],
        main: Main | None,
        url: str,
    ) -> None:
        stop: asyncio.Future[Any] = asyncio.create_task(self._stop.wait())
        starting: asyncio.Future[Any] = asyncio.create_task(supervisor.start())
        await asyncio.wait([stop, serving, starting], return_when=asyncio.FIRST_COMPLETED)
        if starting.done():
            starting.result()
        watched: list[asyncio.Future[Any]] = [serving]
        if main and not self._stop.is_set():
            watched.append(asyncio.ensure_future(main(url)))
        await asyncio.wait([stop, *watched], return_when=asyncio.FIRST_COMPLETED)
        for task in (starting, *watched[1:]):
            if task.done():
                task.result()
            else:
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task

    def _handle_signals(self) -> None:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self._told_to_stop, signal.Signals(number).name)

    def _told_to_stop(self, name: str) -> None:
        if self._stop.is_set():
            self._hurry.set()
            return
        self._say(f"{name}: stopping; workers finish what they run (again: at once)")
        self._stop.set()


def _url(host: str, sock: socket.socket) -> str:
    port = sock.getsockname()[1]
    name = {"0.0.0.0": "127.0.0.1", "::": "[::1]"}.get(host, host)
    return f"http://[{name}]:{port}" if ":" in name and "[" not in name else f"http://{name}:{port}"
