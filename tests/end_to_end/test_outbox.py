"""The outbox under kill -9: of the caller, of the relay, of the service, at every point."""

from __future__ import annotations

import contextlib
import functools
import multiprocessing
import os
import signal
import socket
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests import outbox_app, raw_http
from tests.helpers import LOOM, PATIENCE, Program, ServiceProgram, eventually, run_command, service
from tests.postgres import postgres
from yarnloom import Client, Outbox, Relay

pytestmark = pytest.mark.slow

MOST = 60
FORK = multiprocessing.get_context("fork")
"""Processes that have their modules at once."""


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    """A PostgreSQL server."""
    with postgres() as url:
        yield url


@pytest.fixture(params=["sqlite", "postgresql"])
def database(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """The caller's database, on either."""
    if request.param == "sqlite":
        return str(request.getfixturevalue("path"))
    url: str = request.getfixturevalue("server")
    with outbox_app.connect_to(url) as connection:
        connection.execute("DROP TABLE IF EXISTS orders, yarnloom_outbox")
        connection.execute("CREATE TABLE orders (number TEXT PRIMARY KEY)")
        outbox_app.outbox_of(url).create_table(connection)
    return url


@pytest.fixture
def path(tmp_path: Path) -> Path:
    """The caller's database."""
    with sqlite3.connect(tmp_path / "app.db") as connection:
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("CREATE TABLE orders (number TEXT PRIMARY KEY)")
        Outbox().create_table(connection)
    return tmp_path / "app.db"


def app(what: str, database: str | Path, url: str, last: int, key: str) -> int:
    """Run the caller or the relay as a process; its exit code, -9 where it was killed."""
    process = FORK.Process(target=outbox_app.main, args=(what, database, url, last, key))
    process.start()
    process.join(PATIENCE)
    assert process.exitcode is not None
    return process.exitcode


def column(database: str | Path, sql: str) -> list[str]:
    """A column of the caller's database."""
    with contextlib.closing(outbox_app.connect_to(str(database))) as connection:
        return [row[0] for row in connection.execute(sql).fetchall()]


def orders(database: str | Path) -> set[str]:
    """What was ordered."""
    return set(column(database, "SELECT number FROM orders"))


def started(client: Client) -> list[str]:
    """The keys of all runs."""
    return [run.data["key"] for run in client.runs(workflow="sums", limit=500)]


def relay_all(database: str | Path, url: str) -> None:
    """Deliver what is left."""
    with Client(url) as client:
        connect = functools.partial(outbox_app.connect_to, database)
        Relay(outbox_app.outbox_of(database), connect, client).deliver()


def test_a_caller_that_is_killed_starts_what_it_committed_and_nothing_else(database: str) -> None:
    """At each point of its transaction."""
    killed, last = 0, 0
    while app("order", database, "", last, f"order-{last}") == -9:
        killed, last = killed + 1, last + 1
        assert last < MOST
    left = set(column(database, "SELECT start_key FROM yarnloom_outbox"))
    assert killed == 7
    assert left == orders(database)
    # It was killed once between the commit and the end, and once not at all.
    assert left == {f"order-{last - 1}", f"order-{last - 2}", f"order-{last}"}


def test_a_relay_that_is_killed_at_any_point_makes_one_run_of_each_order(
    database: str, tmp_path: Path
) -> None:
    """Before and after each statement, request and answer."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        last = killed = 0
        while True:
            assert app("order", database, "", 1_000, f"order-{last}") == 0
            if app("relay", database, program.url, last, "") == 0:
                break
            killed, last = killed + 1, last + 1
            relay_all(database, program.url)
            assert last < MOST
        assert killed > 8
        assert sorted(started(program.client())) == sorted(orders(database))
        assert column(database, "SELECT start_key FROM yarnloom_outbox") == []


class Breaker:
    """Stands between a relay and a service, and kills the service at some point of a request."""

    def __init__(self, program: ServiceProgram, point: str) -> None:
        self.program = program
        self.point = point
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self.listener.getsockname()[1]}"
        threading.Thread(target=self.serve, daemon=True).start()

    def serve(self) -> None:
        """Pass requests on, each on a thread of its own."""
        while True:
            try:
                inward, _ = self.listener.accept()
            except OSError:
                return
            threading.Thread(target=self.pass_on, args=(inward,), daemon=True).start()

    def pass_on(self, inward: socket.socket) -> None:
        """A request, up to the point at which the service is killed."""
        with inward:
            if self.point == "before it arrives":
                return self.program.kill()
            try:
                outward = raw_http.connect(self.program.port)
            except OSError:
                return None
            with outward:
                request = inward.recv(1 << 20)
                if self.point == "half of it":
                    outward.sendall(request[: len(request) // 2])
                    return self.program.kill()
                outward.sendall(request)
                if b"Content-Length: 0" not in request and not request.endswith(b"}"):
                    outward.sendall(inward.recv(1 << 20))
                if self.point == "before its answer":
                    return self.program.kill()
                answer = outward.recv(1 << 20)
                self.program.kill()
                if self.point == "half of its answer":
                    inward.sendall(answer[: len(answer) // 2])
                return None


@pytest.mark.parametrize(
    "point",
    ["before it arrives", "half of it", "before its answer", "its answer", "half of its answer"],
)
def test_a_service_that_is_killed_makes_one_run(path: Path, tmp_path: Path, point: str) -> None:
    """What the relay does not know it asks again when the service is back."""
    data = tmp_path / "data"
    program = ServiceProgram(data, "--load", LOOM)
    with sqlite3.connect(path) as connection:
        Outbox().start(connection, "sums", number=1, key="order")
    breaker = Breaker(program, point)
    with Client(breaker.url) as client:
        found = Relay(Outbox(), lambda: sqlite3.connect(path), client).deliver()
    breaker.listener.close()
    assert found.delivered == 0
    assert found.broken
    with service(data, "--load", LOOM, port=program.port) as program:
        relay_all(path, program.url)
        assert started(program.client()) == ["order"]
        assert next(program.client().runs(key="order")).wait(60) == 3
    assert column(path, "SELECT start_key FROM yarnloom_outbox") == []


def test_the_command_delivers_as_soon_as_something_is_committed(path: Path, tmp_path: Path) -> None:
    """It watches a SQLite file: a look each hour would not do; through a restart of the service."""
    data = tmp_path / "data"
    program = ServiceProgram(data, "--load", LOOM)
    relay = Program("relay", str(path), "--every", "1h", env={"YARNLOOM_URL": program.url})
    relay.wait_for("delivers from")
    with sqlite3.connect(path) as connection:
        Outbox().start(connection, "sums", number=1, key="first")
    eventually(lambda: list(program.client().runs(key="first")))
    program.kill()
    with sqlite3.connect(path) as connection:
        Outbox().start(connection, "sums", number=1, key="second")
    relay.wait_for("waits: no service answers")
    with service(data, "--load", LOOM, port=program.port) as program:
        eventually(lambda: list(program.client().runs(key="second")))
        relay.wait_for("delivers again")
        assert relay.end() == 0


def test_serve_runs_the_relay_by_a_setting(path: Path, tmp_path: Path) -> None:
    """What it says is said; it is started again when it is killed, and ends with the service."""
    env = {"YARNLOOM_RELAY": str(path)}
    with service(tmp_path / "data", "--load", LOOM, env=env) as program:
        program.wait_for("relay: delivers from")
        with sqlite3.connect(path) as connection:
            Outbox().start(connection, "sums", number=1, key="one")
            Outbox().start(connection, "sums", nummer=1, key="wrong")
        program.wait_for(r"relay: refused: wrong: the params do not fit")
        eventually(lambda: started(program.client()) == ["one"])
        (pid,) = relays(path)
        os.kill(pid, signal.SIGKILL)
        program.wait_for(r"relay: ended with exit code -9; another one is started")
        with sqlite3.connect(path) as connection:
            Outbox().start(connection, "sums", number=1, key="two")
        eventually(lambda: set(started(program.client())) == {"one", "two"})
        program.kill()
        eventually(lambda: relays(path) == [])


def relays(path: Path) -> list[int]:
    """The processes that relay from a file."""
    words = [b"relay", str(path).encode()]
    return [
        int(folder.name)
        for folder in Path("/proc").glob("[0-9]*")
        if words == command_line(folder)[3:5]
    ]


def command_line(folder: Path) -> list[bytes]:
    """The words of a process's command; none of one that has just ended."""
    try:
        return (folder / "cmdline").read_bytes().split(b"\0")
    except OSError:
        return []


def test_the_command_says_what_is_refused_and_tries_again(path: Path, tmp_path: Path) -> None:
    """And works over a connection that a function makes."""
    (tmp_path / "own.py").write_text(
        f"import sqlite3\ndef connect():\n    return sqlite3.connect({str(path)!r})\n"
    )
    with service(tmp_path / "data", "--load", LOOM) as program:
        with sqlite3.connect(path) as connection:
            Outbox().start(connection, "sums", nummer=1, key="wrong")
        given = {"url": program.url, "cwd": tmp_path}
        done = run_command("relay", "--connect", "own:connect", "--once", **given)
        assert (done.returncode, "refused: wrong: the params" in done.stderr) == (1, True)
        listed = run_command("relay", str(path), "--list", **given).stdout
        assert "wrong" in listed
        assert "refused: the params do not fit workflow" in listed
        with sqlite3.connect(path) as connection:
            connection.execute(
                "UPDATE yarnloom_outbox SET body = replace(body, 'nummer', 'number')"
            )
        run_command("relay", str(path), "--once", "--retry", **given)
        assert next(program.client().runs(key="wrong")).wait(60) == 3
        assert "is empty" in run_command("relay", str(path), "--list", **given).stderr
    assert "there is no database" in run_command("relay", "nothing.db").stderr
    assert "--connect x:y" in run_command("relay", "--connect", "x:y").stderr
