"""The guardian: a process that kills the others when this worker is killed.

Decision: `docs/decisions/07-stops-in-processes.md`.
"""

from __future__ import annotations

import contextlib
import subprocess
import sys
from pathlib import Path

from yarnloom.masking import environment_for_tasks


class Guardian:
    """The process that kills the others when this worker is killed."""

    def __init__(self) -> None:
        self._groups: set[int] = set()
        self._process = self._start()

    def _start(self) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-I", "-S", str(Path(__file__).with_name("guardian.py"))],
            stdin=subprocess.PIPE,
            start_new_session=True,
            env=environment_for_tasks(),
        )

    @property
    def pid(self) -> int:
        """The process."""
        return self._process.pid

    def reap(self) -> bool:
        """Start another if it has died; whether it had."""
        if self._process.poll() is None:
            return False
        self._close_pipe()
        self._process = self._start()
        for group in self._groups:
            self._tell(f"+{group}\n")
        return True

    def watch(self, group: int) -> None:
        """Kill a group when this worker is gone."""
        self._groups.add(group)
        self._tell(f"+{group}\n")

    def forget(self, group: int) -> None:
        """A group has ended; its number may soon be another's."""
        self._groups.discard(group)
        self._tell(f"-{group}\n")

    def close(self) -> None:
        """End it; nothing is left to be watched."""
        self._close_pipe()
        self._process.wait()

    def _close_pipe(self) -> None:
        with contextlib.suppress(OSError):
            if self._process.stdin:
                self._process.stdin.close()

    def _tell(self, line: str) -> None:
        if self._process.stdin:
            with contextlib.suppress(OSError):
                self._process.stdin.write(line.encode())
                self._process.stdin.flush()
