"""A service beside a web server: it comes and goes with the application, whatever ends that."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

import yarnloom
from tests.helpers import PATIENCE, ROOT, eventually, processes_with
from yarnloom import Client
from yarnloom.client import Target
from yarnloom.errors import StartError

pytestmark = pytest.mark.slow

APP = (ROOT / "docs" / "examples" / "web_app.py").read_text()


class WebServer:
    """uvicorn with the example application, in a folder of its own."""

    def __init__(self, folder: Path, *options: str) -> None:
        self.folder = folder
        self.data = folder / "data"
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port = int(free.getsockname()[1])
        self.mark = f"beside-{self.port}"
        self.options = options
        folder.mkdir(exist_ok=True)
        if not (folder / "web_app.py").exists():
            (folder / "web_app.py").write_text(APP)
        self.process = self.start()

    def start(self) -> subprocess.Popen[bytes]:
        """Start it, and wait until it answers."""
        env = {name: one for name, one in os.environ.items() if name != "YARNLOOM_URL"}
        env |= {"YARNLOOM_DATA": str(self.data), "YARNLOOM_TEST_MARK": self.mark}
        words = ["uvicorn", "web_app:app", "--port", str(self.port), "--log-level", "warning"]
        self.process = subprocess.Popen(
            [sys.executable, "-m", *words, *self.options],
            cwd=self.folder,
            env=env,
            start_new_session=True,
        )
        eventually(self.answers, "the web server answers")
        return self.process

    def answers(self) -> bool:
        """Whether it does."""
        try:
            return httpx.get(f"http://127.0.0.1:{self.port}/docs", trust_env=False).is_success
        except httpx.TransportError:
            return False

    def order(self) -> int:
        """Order a ticket; its run."""
        answer = httpx.post(f"http://127.0.0.1:{self.port}/tickets", trust_env=False, timeout=60)
        assert answer.status_code == 200, answer.text
        return int(answer.json()["run"])

    def kill(self) -> None:
        """As `kill -9` does, the whole group."""
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def client(self) -> Client:
        """A client of the service that is there now."""
        from yarnloom.local_socket import read_record

        record = eventually(lambda: read_record(self.data))
        return Client(target=Target(record.url, "test", data=str(self.data)))

    def left(self) -> list[int]:
        """Processes that belong to it."""
        return processes_with(self.mark)


@contextlib.contextmanager
def web_server(folder: Path, *options: str) -> Iterator[WebServer]:
    """A server that is killed afterwards."""
    server = WebServer(folder, *options)
    try:
        yield server
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(server.process.pid, signal.SIGKILL)
        server.process.wait()
        eventually(lambda: not server.left(), lambda: f"left: {server.left()}")


@pytest.mark.parametrize("options", [(), ("--workers", "4")])
def test_a_killed_web_server_leaves_nothing_running_and_loses_nothing(
    tmp_path: Path, options: tuple[str, ...]
) -> None:
    """The service goes after it; the next server's first request is answered, and the run ends."""
    with web_server(tmp_path / "app", *options) as server:
        first = server.order()
        server.kill()
        eventually(lambda: not server.left(), lambda: f"left: {server.left()}")
        server.start()
        second = server.order()
        with server.client() as client:
            for number in (first, second):
                assert client.run(number).wait(60) == "a ticket for the grey heron"


def test_one_of_four_processes_is_recycled_and_the_others_go_on(tmp_path: Path) -> None:
    """All four hold one service, which stays."""
    with web_server(tmp_path / "app", "--workers", "4") as server:
        server.order()
        with server.client() as client:
            before = client.service().pid
            children = [
                pid
                for pid in server.left()
                if pid != server.process.pid and _parent_of(pid) == server.process.pid
            ]
            os.kill(max(children), signal.SIGKILL)
            for _ in range(20):
                server.order()
            assert client.service().pid == before


def test_with_reload_new_code_runs(tmp_path: Path) -> None:
    """The newest code that joins is published, and its workers take over."""
    with web_server(tmp_path / "app", "--reload") as server:
        with server.client() as client:
            assert client.run(server.order()).wait(60) == "a ticket for the grey heron"
        (server.folder / "web_app.py").write_text(APP.replace("grey heron", "white egret"))

        def renewed() -> bool:
            with contextlib.suppress(AssertionError, httpx.TransportError):
                number = server.order()
                with server.client() as client:
                    return client.run(number).wait(60) == "a ticket for the white egret"
            return False

        eventually(renewed)


def test_the_plain_wsgi_example_serves_and_leaves_nothing(tmp_path: Path) -> None:
    """Killed, too."""
    (tmp_path / "wsgi_app.py").write_text((ROOT / "docs/examples/wsgi_app.py").read_text())
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = int(free.getsockname()[1])
    mark = f"wsgi-{port}"
    env = {name: value for name, value in os.environ.items() if name != "YARNLOOM_URL"}
    env |= {"YARNLOOM_DATA": str(tmp_path / "data"), "YARNLOOM_TEST_MARK": mark}
    env["PORT"] = str(port)
    words = [sys.executable, "wsgi_app.py"]
    with subprocess.Popen(words, cwd=tmp_path, env=env, stderr=subprocess.DEVNULL) as server:

        def ordered() -> bool:
            with contextlib.suppress(httpx.TransportError):
                answer = httpx.get(f"http://127.0.0.1:{port}/", trust_env=False, timeout=60)
                return bool(answer.json()["run"])
            return False

        eventually(ordered)
        server.kill()
    eventually(lambda: not processes_with(mark), lambda: f"left: {processes_with(mark)}")


def test_in_a_plain_program_it_begins_and_ends(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It returns when work is taken; two programs share one; a loom that is wrong says why."""
    monkeypatch.delenv("YARNLOOM_URL", raising=False)
    data = tmp_path / "data"
    with yarnloom.running(load="tests.looms:loom", data=data, processes=1) as client:
        assert client.start("sums", number=1).wait(60) == 3
        pid = client.service().pid
        with yarnloom.running(load="tests.looms:loom", data=data, processes=1) as other:
            assert other.service().pid == pid
    begun = time.monotonic()
    eventually(lambda: not Path(f"/proc/{pid}").exists(), patience=PATIENCE)
    assert time.monotonic() - begun < PATIENCE
    with (
        pytest.raises(StartError, match=r"could not be loaded|was not published|has ended"),
        yarnloom.running(load="tests.wrong_loom:loom", data=tmp_path / "wrong", processes=1),
    ):
        pass


def test_a_service_that_is_killed_is_started_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By the program that holds it."""
    monkeypatch.delenv("YARNLOOM_URL", raising=False)
    with yarnloom.running(load="tests.looms:loom", data=tmp_path, processes=1) as client:
        pid = client.service().pid
        os.kill(pid, signal.SIGKILL)
        assert client.start("sums", number=1).wait(60) == 3
        assert client.service().pid != pid


def test_with_an_address_nothing_is_started(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It connects to what `YARNLOOM_URL` names."""
    monkeypatch.setenv("YARNLOOM_URL", "http://127.0.0.1:9")
    with yarnloom.running(load="tests.looms:loom", data=tmp_path) as client:
        assert client.target.url == "http://127.0.0.1:9"
    assert list(tmp_path.iterdir()) == []
    assert threading.active_count() >= 1


def _parent_of(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    except OSError:
        return 0
