"""A service as a process: start, signals, and the order of its end.

Decision: `docs/decisions/16-start-of-the-service.md`.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal
import socket
from collections.abc import Awaitable, Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import uvicorn

from yarnloom import local_socket
from yarnloom.errors import YarnloomError
from yarnloom.local_socket import BACKLOG
from yarnloom.service.app import create_app
from yarnloom.service.http.connection_limits import (
    MOST_CONNECTIONS,
    OWN_FILES,
    Room,
    protocol_for,
    raise_file_limit,
)
from yarnloom.service.http.listen_address import Door, open_door
from yarnloom.service.http.log_limit import OncePerSecond
from yarnloom.service.processes.process_memory import stay_small
from yarnloom.service.processes.worker_process import EarlyWorker, Helpers
from yarnloom.service.processes.worker_supervisor import Supervisor
from yarnloom.service.runs.run_notices import RunNotices
from yarnloom.service.settings import ServiceSettings
from yarnloom.store import Database, LogFile

Main = Callable[[str], Awaitable[None]]


class _Server(uvicorn.Server):
    """uvicorn with a Unix socket too, and without its own signal handlers.

    What ends in which order is decided here.

    While nothing happens it wakes once a second, where uvicorn's own loop does ten times.
    """

    def __init__(self, config: uvicorn.Config, own: socket.socket) -> None:
        super().__init__(config)
        self._own = own
        self._ended = asyncio.Event()

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Begin to listen: at the ports, and at the Unix socket."""
        await super().startup(sockets)
        if not self.started:
            return

        def new_protocol() -> asyncio.Protocol:
            kind: Any = self.config.http_protocol_class
            protocol: asyncio.Protocol = kind(
                config=self.config, server_state=self.server_state, app_state=self.lifespan.state
            )
            return protocol

        loop = asyncio.get_running_loop()
        self.servers.append(
            await loop.create_unix_server(new_protocol, sock=self._own, backlog=BACKLOG)
        )

    def end(self) -> None:
        """Take no more requests, and end."""
        self.should_exit = True
        self._ended.set()

    async def main_loop(self) -> None:
        """Renew what answers say of the time, until the end."""
        while not await self.on_tick(0):
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(1):
                    await self._ended.wait()

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Leave the signals alone."""
        yield


@dataclass(frozen=True, slots=True)
class Notices:
    """Lines about runs that a service says on its terminal.

    Attributes:
        show_prints: also say lines that tasks print.
    """

    show_prints: bool = False


class Service:
    """One service process.

    Args:
        settings: how the service runs.
        helpers: the workers to start with it.
        say: tells the user, one line at a time.
        door: the port and the Unix socket, where they are taken already.
        early: workers that run already.
        notices: which lines about runs it says; None for none.
        release: of the code that is loaded, where programs hold the service, and it ends with the
            last of them; None where it stays.
        signs_in: the user that the printed sign-in address is for; empty without a terminal, since
            such an address is as good as a token.
    """

    def __init__(
        self,
        settings: ServiceSettings,
        helpers: Helpers,
        say: Callable[[str], None],
        door: Door | None = None,
        early: Sequence[EarlyWorker] = (),
        notices: Notices | None = None,
        *,
        signs_in: str = "",
        release: float | None = None,
    ) -> None:
        settings.check()
        self._door = door
        self._early = early
        self._settings = settings
        self._helpers = helpers
        self._say = say
        self._notices = notices
        self._signs_in = signs_in
        self._release = release
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
        door = self._door or open_door(self._settings.host, self._settings.port)
        url = door.url
        try:
            holder = f"the service at {url} (process {os.getpid()})"
            database = Database(self._settings.data, holder)
            try:
                log_file = LogFile(self._settings.data)
            except BaseException:
                database.close()
                raise
        except BaseException:
            door.close()
            raise
        looms = ", ".join(self._helpers.load)
        app = create_app(self._settings, database, log_file, looms, self._release or 0.0)
        config = uvicorn.Config(
            app,
            log_config=None,
            access_log=False,
            ws="none",
            lifespan="on",
            timeout_graceful_shutdown=1,
            timeout_keep_alive=75,
            http=protocol_for(Room(min(MOST_CONNECTIONS, raise_file_limit() - OWN_FILES))),
        )
        logging.getLogger("uvicorn.error").addFilter(OncePerSecond())
        server = _Server(config, door.own)
        self._handle_signals()
        serving = asyncio.create_task(server.serve(sockets=[door.port]))
        while not server.started and not serving.done():
            await asyncio.sleep(0.005)
        if serving.done():
            await serving
            raise YarnloomError("the service ended while it started; its log has the details")
        # Now other programs can find it.
        record = local_socket.ServiceRecord(str(door.path), url, os.getpid())
        local_socket.write_record(self._settings.data, record)
        self._say(f"Yarn Loom serves at {url}, data in {self._settings.data}")
        core = app.state.core
        core.address = core.address or url
        if self._signs_in:
            address = core.sign_in_address(self._signs_in)
            self._say(f"the console, once and within 15 minutes: {address}")
        if self._notices is not None:
            show_prints = self._notices.show_prints
            core.notices = RunNotices(core.read, self._say, show_prints=show_prints)
            if show_prints:
                core.lines.listen(core.notices.note_lines)
        supervisor = Supervisor(core, self._helpers, door.url_of_own, self._say, self._early)
        if self._release is not None:
            core.holders.replace_with(supervisor.replace)
            core.holders.end_with_last(self._end_alone)
        try:
            await self._until_told(supervisor, serving, main, url)
        finally:
            await supervisor.stop(self._hurry)
            core.close_gates()
            server.end()
            await serving
            door.close()
            local_socket.remove_record(self._settings.data, door.path)
            self._say("the service has ended")

    async def _until_told(
        self, supervisor: Supervisor, serving: asyncio.Task[None], main: Main | None, url: str
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

    def _end_alone(self) -> None:
        self._say("nobody holds this service any more; it ends")
        self._stop.set()

    def _told_to_stop(self, name: str) -> None:
        if self._stop.is_set():
            self._hurry.set()
            return
        self._say(f"{name}: stopping; workers finish what they run (again: at once)")
        self._stop.set()
