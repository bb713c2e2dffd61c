"""A service beside a web server: started with the application, and ended with its last process.

`running(...)` is an asynchronous context manager for the lifespan of an ASGI application, and a
plain one for WSGI. Every process of the application holds a connection to one service. The system
closes it whatever ends the process, so the service hears of every end, and goes 5 s after the last.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import importlib.util
import json
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from yarnloom import local_socket
from yarnloom.client.target import Target
from yarnloom.errors import NotReachable, StartError
from yarnloom.settings.project import data_folder_here, prepare_data_folder
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient, Client

LOCK, LOG = "starting.lock", "service.log"
LOOK_SECONDS = 0.05
AGAIN_SECONDS = 0.5
MOST_FILES = 2_000
DRAIN_SECONDS = 5
_LINE = 1 << 16


class running:  # it is called like the function that it is to its users
    """Run a service and workers beside this program; gives a client of it.

    Several processes of one application share one service: that of the data folder. The newest code
    that joins is published, and its workers take over. With `YARNLOOM_URL` set nothing is started.

    Args:
        load: the looms, as `module:loom`; one, or several.
        data: the data folder; else that of the project, or the user's own.
        workers: how many workers.
        processes: of each worker; the cores are shared unless given.
        release: of the code, a number that grows; else the time of its newest file.
        within: how long it may take until work is taken.

    Raises:
        StartError: the service or its looms cannot be started; the message says why.
    """

    def __init__(
        self,
        *,
        load: str | Sequence[str] = (),
        data: str | os.PathLike[str] | None = None,
        workers: int = 1,
        processes: int | None = None,
        release: float | None = None,
        within: Duration = "60s",
    ) -> None:
        from yarnloom.process_identity import cores

        self._load = (load,) if isinstance(load, str) else tuple(load)
        self._data = Path(data) if data is not None else None
        self._workers = workers
        self._processes = processes or max(1, cores() // workers)
        self._release = release
        self._within = seconds(within)
        self._holder: _Holder | None = None
        self._client: Client | None = None
        self._async_client: AsyncClient | None = None

    def __enter__(self) -> Client:
        from yarnloom.client import Client

        self._client = Client(target=self._begin(), wait_for_service=self._within)
        return self._client

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._client is not None:
            self._client.close()
        self._end()

    async def __aenter__(self) -> AsyncClient:
        from yarnloom.client import AsyncClient

        target = await asyncio.to_thread(self._begin)
        self._async_client = AsyncClient(target=target, wait_for_service=self._within)
        return self._async_client

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._async_client is not None:
            await self._async_client.close()
        self._end()

    def _begin(self) -> Target:
        if os.environ.get("YARNLOOM_URL"):
            return Target.find()
        data = (self._data or data_folder_here()).absolute()
        release = newest_file(self._load) if self._release is None else float(self._release)
        wish: JsonObject = {
            "load": list(self._load),
            "folder": str(Path.cwd()),
            "path": [place for place in sys.path if place and Path(place).is_dir()],
            "workers": self._workers,
            "processes": self._processes,
            "release": release,
        }
        self._holder = _Holder(data, wish, self._within)
        return self._holder.begin()

    def _end(self) -> None:
        if self._holder is not None:
            self._holder.end()


class _Holder:
    """Holds the service of a data folder, and starts one where none lives.

    Args:
        data: the data folder.
        wish: the body of the request that holds it.
        within: seconds for it to take work.
    """

    def __init__(self, data: Path, wish: JsonObject, within: float) -> None:
        self._data = data
        self._wish = wish
        self._within = within
        self._ended = threading.Event()
        self._held: socket.socket | None = None

    def begin(self) -> Target:
        """Hold it once it takes work; keep it up from then on."""
        record = self._hold()
        threading.Thread(target=self._keep, name="yarnloom-holder", daemon=True).start()
        return Target(record.url, f"the service of {self._data}", data=str(self._data))

    def end(self) -> None:
        """Let it go."""
        self._ended.set()
        if self._held is not None:
            with contextlib.suppress(OSError):
                self._held.shutdown(socket.SHUT_RDWR)

    def _keep(self) -> None:
        """Read what the service says, until it is gone; then hold another."""
        while not self._ended.is_set():
            held = self._held
            with contextlib.suppress(OSError):
                while held is not None and held.recv(_LINE):
                    pass
            if held is not None:
                held.close()
            while not self._ended.wait(AGAIN_SECONDS):
                with contextlib.suppress(StartError, NotReachable, OSError):
                    self._hold()
                    break

    def _hold(self) -> local_socket.ServiceRecord:
        """Connect to the service, started if there is none, and wait until it takes work."""
        until = time.monotonic() + self._within
        while True:
            with _only_one(self._data):
                record = self._living() or self._start(until)
            try:
                self._held = self._ask(record, until)
                return record
            except (OSError, NotReachable) as error:
                # It was just about to end, or has not begun to answer: once more.
                if time.monotonic() > until:
                    raise StartError(f"no service holds for {self._data}: {error}") from error
                time.sleep(LOOK_SECONDS)

    def _living(self) -> local_socket.ServiceRecord | None:
        record = local_socket.read_record(self._data)
        return record if record is not None and local_socket.answers(record.socket) else None

    def _start(self, until: float) -> local_socket.ServiceRecord:
        prepare_data_folder(self._data)
        words = ["serve", "--data", str(self._data), "--port", "0", "--drain", f"{DRAIN_SECONDS}s"]
        words += [word for loom in self._wish["load"] for word in ("--load", loom)]
        words += ["--workers", str(self._wish["workers"])]
        words += ["--processes", str(self._wish["processes"])]
        words += ["--held-release", repr(self._wish["release"])]
        log = self._data / LOG
        with log.open("a") as lines:
            process = subprocess.Popen(
                [sys.executable, "-m", "yarnloom", *words],
                stdin=subprocess.DEVNULL,
                stdout=lines,
                stderr=subprocess.STDOUT,
                start_new_session=True,  # Ctrl-C in the terminal is for the web server
                env={**os.environ, "PYTHONPATH": os.pathsep.join(self._wish["path"])},
                cwd=self._wish["folder"],
            )
        while (record := self._living()) is None:
            if process.poll() is not None:
                last = log.read_text(errors="replace").splitlines()[-3:]
                raise StartError(f"the service has ended: {' '.join(last) or 'it said nothing'}")
            if time.monotonic() > until:
                raise StartError(f"the service has not begun within {self._within:g} s; see {log}")
            time.sleep(LOOK_SECONDS)
        # So that it is no zombie for as long as this program goes on.
        threading.Thread(target=process.wait, name="yarnloom-service", daemon=True).start()
        return record

    def _ask(self, record: local_socket.ServiceRecord, until: float) -> socket.socket:
        """Send the request that stays open; return its connection once work is taken."""
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            sock.settimeout(max(1.0, until - time.monotonic()))
            sock.connect(record.socket)
            if not local_socket.is_trusted(sock, record.socket):
                raise NotReachable(local_socket.not_trusted(record.socket))
            body = json.dumps(self._wish).encode()
            head = (
                "POST /api/v1/holders HTTP/1.1\r\nHost: localhost\r\nAccept: text/event-stream\r\n"
                f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n"
            )
            sock.sendall(head.encode() + body)
            said = b""
            while b"yarnloom.held" not in said:
                some = sock.recv(_LINE)
                if not some:
                    raise NotReachable("the service is ending")
                said += some
                if said.startswith(b"HTTP/1.1 ") and said[9:12] not in (b"200", b"503"):
                    raise StartError(f"the service refuses: {_detail_of(said)}")
                if said[9:12] == b"503":
                    raise NotReachable("the service is ending")
            sock.settimeout(None)
        except BaseException:
            sock.close()
            raise
        return sock


@contextlib.contextmanager
def _only_one(data: Path) -> Iterator[None]:
    """Let one process at a time look for the service of a data folder, or start it."""
    data.mkdir(mode=0o700, parents=True, exist_ok=True)
    with (data / LOCK).open("a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def _detail_of(answer: bytes) -> str:
    """What a refusal says."""
    body = answer.partition(b"\r\n\r\n")[2]
    try:
        return str(json.loads(body)["detail"])
    except (ValueError, KeyError, TypeError):
        return body.decode("utf-8", "replace")[:500]


def newest_file(load: Sequence[str]) -> float:
    """When the newest file of some looms' packages was written; 0 where none is found."""
    newest = 0.0
    for loom in load:
        top = loom.partition(":")[0].partition(".")[0]
        try:
            spec = importlib.util.find_spec(top)
        except (ImportError, ValueError):
            continue
        if spec is None or spec.origin is None:
            continue
        folder = Path(spec.origin).parent
        deep = spec.submodule_search_locations is not None
        files = folder.rglob("*.py") if deep else folder.glob("*.py")
        for _, path in zip(range(MOST_FILES), files, strict=False):
            with contextlib.suppress(OSError):
                newest = max(newest, path.stat().st_mtime)
    return newest
