"""Processor time of a service and its worker, by what each process is for."""

from __future__ import annotations

import contextlib
import os
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

SERVICE, WORKER, PROCESSES = "service", "worker", "processes"


def processor_seconds(mark: str) -> float:
    """Return the processor time so far of every process whose environment holds a text."""
    return sum(by_role(mark).values())


def by_role(mark: str) -> Counter[str]:
    """The same for the service, the worker, and the processes that run tasks."""
    ticks = os.sysconf("SC_CLK_TCK")
    found: Counter[str] = Counter()
    for folder, role in _marked_processes(mark):
        with contextlib.suppress(OSError):
            fields = (folder / "stat").read_text().rpartition(")")[2].split()
            found[role] += (int(fields[11]) + int(fields[12])) / ticks
    return found


def pid_of(mark: str, role: str) -> int:
    """The first process of those that has a role."""
    return next(int(folder.name) for folder, one in _marked_processes(mark) if one == role)


def _marked_processes(mark: str) -> Iterator[tuple[Path, str]]:
    """Folders in `/proc` of processes whose environment holds a text, with their roles."""
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if mark.encode() in (folder / "environ").read_bytes():
                yield folder, _role((folder / "cmdline").read_bytes().split(b"\0"))
        except OSError:
            continue


def _role(command: list[bytes]) -> str:
    if b"serve" in command:
        return SERVICE
    return WORKER if b"work" in command or b"worker" in command else PROCESSES


@contextlib.contextmanager
def marked(name: str) -> Iterator[str]:
    """Mark every process started in this block; yield the text in its environment."""
    os.environ[name] = str(os.getpid())
    try:
        yield f"{name}={os.getpid()}"
    finally:
        del os.environ[name]
