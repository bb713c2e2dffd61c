"""How much memory a process uses, with those that it started. Linux only: elsewhere unknown."""

from __future__ import annotations

import os
from pathlib import Path

_PAGE = os.sysconf("SC_PAGE_SIZE")


def memory_of(pid: int) -> int | None:
    """Resident memory in bytes of a process and all below it; None where it cannot be told."""
    try:
        pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    except (OSError, IndexError, ValueError):
        return None
    return pages * _PAGE + sum(memory_of(child) or 0 for child in children_of(pid))


def children_of(pid: int) -> list[int]:
    """The processes that a process started and that live; none where it cannot be told."""
    found = []
    for path in Path(f"/proc/{pid}/task").glob("*/children"):
        try:
            found += [int(child) for child in path.read_text().split()]
        except OSError:
            continue  # the thread has ended meanwhile
    return found
