"""The processes of a worker, found in `/proc`, and signals for them."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path


def send(pid: int, number: int) -> None:
    """Send a signal to a process, if it is there."""
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, number)


def children_of(pid: int) -> list[int]:
    """The children of a process."""
    try:
        text = Path(f"/proc/{pid}/task/{pid}/children").read_text(encoding="ascii")
    except OSError:
        return []
    return [int(one) for one in text.split()]


def guardians(worker: int) -> list[int]:
    """A worker's guardian, if it has one."""
    return [pid for pid in children_of(worker) if b"guardian.py" in _fact("cmdline", pid)]


def templates(worker: int) -> list[int]:
    """The process of which a worker's processes are forks, if it has one."""
    return [pid for pid in children_of(worker) if _fact("comm", pid) == b"loom-template\n"]


def _fact(name: str, pid: int) -> bytes:
    try:
        return Path(f"/proc/{pid}/{name}").read_bytes()
    except OSError:
        return b""
