"""Starting a process: its pipes, its channel, and what it is started with."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
from collections.abc import Sequence
from typing import Protocol

from yarnloom.masking import environment_for_tasks
from yarnloom.sdk.interrupts import SharedPage
from yarnloom.worker.channel.frames import Tickets


class Process(Protocol):
    """A process that was started."""

    @property
    def pid(self) -> int:
        """Its number."""

    def poll(self) -> int | None:
        """Return its exit code, negative for a signal; None while it lives."""


class ForkFailed(Exception):
    """The template did not fork in time."""


class Forked:
    """A process that the template forked, and that is a child of this one since."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._code: int | None = None

    def poll(self) -> int | None:
        """Return its exit code, negative for a signal; None while it lives."""
        if self._code is None:
            try:
                pid, status = os.waitpid(self.pid, os.WNOHANG)
            except ChildProcessError:
                self._code = -int(signal.SIGKILL)  # somebody else took it
            else:
                self._code = os.waitstatus_to_exitcode(status) if pid else None
        return self._code


class ProcessEnds:
    """Both ends of a process's channel, page and pipes."""

    def __init__(self, until: float, owner: str) -> None:
        self.ours, self.theirs = socket.socketpair()
        self.page = SharedPage(owner=owner)
        self.page.allow_until(until)
        self.tickets = os.pipe()
        os.set_blocking(self.tickets[0], False)
        self.out = os.pipe()
        self.err = os.pipe()

    @property
    def of_process(self) -> tuple[int, int, int]:
        """What the process has beside its pipes."""
        return self.theirs.fileno(), self.page.descriptor, self.tickets[0]

    def close_theirs(self) -> None:
        """The process has its own by now."""
        self.theirs.close()
        os.close(self.out[1])
        os.close(self.err[1])

    def close(self) -> None:
        """Close all of it."""
        self.close_theirs()
        self.ours.close()
        self.page.close()
        Tickets(*self.tickets).close()
        os.close(self.out[0])
        os.close(self.err[0])


def start_python(
    module: str, specs: Sequence[str], ends: ProcessEnds, more: Sequence[str], *pass_fds: int
) -> subprocess.Popen[bytes]:
    """Start a process with its ends, and `more` arguments."""
    given = ends.of_process
    return subprocess.Popen(
        [
            *(sys.executable, "-m", module),
            *(str(one) for one in given),
            *(str(os.getpid()), ",".join(specs), *more),
        ],
        stdin=subprocess.DEVNULL,
        stdout=ends.out[1],
        stderr=ends.err[1],
        pass_fds=(*given, *pass_fds),
        env=environment_for_tasks(),
        start_new_session=True,
    )
