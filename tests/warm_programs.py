"""Starts `yarnloom` as a process without waiting for its imports: forks of one that has them.

Each is a process of its own, with its own session, folder, environment, descriptors and exit code.
One process per test session has the modules, and only forks (`python -m tests.warm_programs`).
"""

from __future__ import annotations

import contextlib
import gc
import io
import json
import os
import select
import signal
import socket
import subprocess
import sys
from collections.abc import Mapping, Sequence
from functools import cache
from typing import Any

PRELOADED = (
    *("rich.console", "rich.live", "rich.progress", "rich.table", "rich.syntax", "rich.tree"),
    *("httpx", "yarnloom.client", "yarnloom.sdk", "yarnloom.drawing", "argcomplete"),
    *("yarnloom.service", "yarnloom.service.server", "yarnloom.service.app", "uvicorn"),
)
"""Modules that keep nothing of the environment or the terminal."""
READ_AT_START = ("PYTHON", "LANG", "LC_", "TZ")
"""Variables that begin so are read when Python starts, so a fork would not see them."""


class WarmProgram:
    """A `yarnloom` process, with those methods of `subprocess.Popen` that the tests use.

    Args:
        arguments: of the command.
        env: its environment.
        cwd: its working folder.
        descriptors: its standard input, output and error.
        unbuffered: whether it writes each piece of text at once.
    """

    def __init__(
        self,
        arguments: Sequence[str],
        env: Mapping[str, str],
        cwd: str,
        descriptors: tuple[int, int, int],
        *,
        unbuffered: bool = False,
    ) -> None:
        self.args = ["yarnloom", *arguments]
        self.returncode: int | None = None
        self._status, status = os.pipe()
        request = {"argv": self.args, "env": dict(env), "cwd": cwd, "unbuffered": unbuffered}
        data = json.dumps(request).encode()
        template = _template()
        socket.send_fds(template, [len(data).to_bytes(8, "big")], [*descriptors, status])
        template.sendall(data)
        os.close(status)
        self.pid = int.from_bytes(_exactly(template, 8), "big")

    def poll(self) -> int | None:
        """The exit code, or None while it runs."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.wait(0)
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end."""
        if self.returncode is None:
            ready, *_ = select.select([self._status], [], [], timeout)
            if not ready:
                raise subprocess.TimeoutExpired(self.args, timeout or 0)
            status = int.from_bytes(os.read(self._status, 8), "big")
            os.close(self._status)
            self.returncode = os.waitstatus_to_exitcode(status)
        return self.returncode

    def send_signal(self, number: int) -> None:
        """Send a signal, unless it has ended."""
        if self.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, number)

    def kill(self) -> None:
        """As `kill -9` does."""
        self.send_signal(signal.SIGKILL)


def fits(env: Mapping[str, str]) -> bool:
    """Whether a fork sees these variables as a new process would."""
    return not any(
        name.startswith(READ_AT_START) and env[name] != os.environ.get(name) for name in env
    )


@cache
def _template() -> socket.socket:
    """The socket of the process that forks, which is started now."""
    own, other = socket.socketpair()
    subprocess.Popen(
        [sys.executable, "-m", "tests.warm_programs", str(other.fileno())],
        pass_fds=[other.fileno()],
        stdin=subprocess.DEVNULL,
    )
    other.close()
    return own


def _exactly(stream: socket.socket, count: int) -> bytes:
    data = b""
    while len(data) < count:
        some = stream.recv(count - len(data))
        if not some:
            raise EOFError
        data += some
    return data


# The process that forks


def _fork_on_request(stream: socket.socket) -> dict[str, Any] | None:
    """Fork for each request; returns the request in each fork, and None at the end."""
    statuses: dict[int, int] = {}
    woken, wake = os.pipe()
    for end in (woken, wake):
        os.set_blocking(end, False)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    signal.set_wakeup_fd(wake)
    while True:
        ready, *_ = select.select([stream, woken], [], [])
        if woken in ready:
            os.read(woken, 4096)
            _report_ended(statuses)
        if stream not in ready:
            continue
        head, descriptors, *_ = socket.recv_fds(stream, 8, 4)
        if not head:
            return None
        request: dict[str, Any] = json.loads(_exactly(stream, int.from_bytes(head, "big")))
        pid = os.fork()
        if pid == 0:
            signal.set_wakeup_fd(-1)
            for end in (woken, wake, stream.detach(), *statuses.values(), descriptors[3]):
                os.close(end)
            return {**request, "descriptors": descriptors[:3]}
        statuses[pid] = descriptors[3]
        for descriptor in descriptors[:3]:
            os.close(descriptor)
        stream.sendall(pid.to_bytes(8, "big"))


def _report_ended(statuses: dict[int, int]) -> None:
    while statuses:
        pid, status = os.waitpid(-1, os.WNOHANG)
        if not pid:
            return
        end = statuses.pop(pid)
        with contextlib.suppress(BrokenPipeError):  # nobody waits for it
            os.write(end, status.to_bytes(8, "big"))
        os.close(end)


def _become(request: dict[str, Any]) -> None:
    """Be the process that was asked for."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    os.setsid()
    for number, descriptor in enumerate(request["descriptors"]):
        os.dup2(descriptor, number)
        os.close(descriptor)
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    sys.path[0] = os.getcwd()
    sys.argv = request["argv"]
    through = request["unbuffered"]
    sys.stdin = io.TextIOWrapper(open(0, "rb", closefd=False), encoding="utf-8")  # noqa: SIM115
    sys.stdout = _text_stream(1, through=through)
    sys.stderr = _text_stream(2, through=True)


def _text_stream(number: int, *, through: bool) -> io.TextIOWrapper:
    raw = open(number, "wb", buffering=0 if through else -1, closefd=False)  # noqa: SIM115
    return io.TextIOWrapper(raw, encoding="utf-8", write_through=through)


def _main() -> None:
    for name in PRELOADED:
        __import__(name)
    from tests import held_answers

    held_answers.install()
    gc.collect()
    gc.freeze()
    request = _fork_on_request(socket.socket(fileno=int(sys.argv[1])))
    if request is not None:
        _become(request)
        from yarnloom.cli import entry

        entry()


if __name__ == "__main__":
    _main()
