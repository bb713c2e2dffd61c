"""Files that say which attempts a worker's processes began, also after both were killed.

Each process writes the begin of every attempt into memory that it shares with its worker, and that
memory is a file. When the worker is gone, whoever is on its machine reads it: the service, or the
next worker there. So what never began is handed back, and only what began counts as lost.
"""

from __future__ import annotations

import contextlib
import os
import struct
import tempfile
import time
from collections.abc import Collection, Iterator
from mmap import mmap
from pathlib import Path

RING_ENTRIES = 1_024
"""Begins that are remembered: more than a process is given ahead of what is reported."""

_ENTRY = struct.Struct("=Qq")
"""An attempt, and when it began in microseconds since 1970 UTC."""

RING_BYTES = RING_ENTRIES * _ENTRY.size


class BegunRing:
    """The newest begins, in memory that is a file.

    Args:
        memory: all of the file.
        at: where the ring lies in it.
    """

    def __init__(self, memory: mmap, at: int) -> None:
        self._memory = memory
        self._at = at
        self._next = 0

    def add(self, attempt: int) -> None:
        """Note that an attempt begins now."""
        place = self._at + self._next * _ENTRY.size
        _ENTRY.pack_into(self._memory, place, attempt, time.time_ns() // 1_000)
        self._next = (self._next + 1) % RING_ENTRIES


def make_file(owner: str) -> tuple[int, Path]:
    """Make a file for one process of a worker, and return its descriptor and path."""
    folder = _folder()
    folder.mkdir(mode=0o700, exist_ok=True)
    descriptor, path = tempfile.mkstemp(prefix=f"{owner}.{os.getpid()}.", dir=folder)
    return descriptor, Path(path)


def begins_of_gone() -> dict[str, dict[int, int]]:
    """Return what workers of this machine began of which files are left and that have ended.

    Returns:
        By worker when each attempt began, in microseconds since 1970 UTC, as `begins_of` does.
    """
    begins: dict[str, dict[int, int]] = {}
    for path in _files():
        owner, pid, _ = path.name.rsplit(".", 2)
        try:
            os.kill(int(pid), 0)
        except ProcessLookupError:
            begins.setdefault(owner, {}).update(_read(path))
        except (OSError, ValueError):
            continue
    return begins


def begins_of(owner: str) -> dict[int, int] | None:
    """Return which attempts the processes of a worker on this machine began.

    Args:
        owner: the worker's id.

    Returns:
        When each began, in microseconds since 1970 UTC; None where no file of it is here.
    """
    begins: dict[int, int] | None = None
    for path in _files():
        if _owner_of(path) == owner:
            begins = (begins or {}) | _read(path)
    return begins


def remove_files(owners: Collection[str], older_than: float = 0.0) -> None:
    """Remove the files of workers that are gone, where they are so many seconds old."""
    for path in _files():
        with contextlib.suppress(OSError):
            if _owner_of(path) in owners and time.time() - path.stat().st_mtime >= older_than:
                path.unlink()


def _owner_of(path: Path) -> str:
    return path.name.rsplit(".", 2)[0]


def _files() -> Iterator[Path]:
    with contextlib.suppress(OSError):
        yield from [path for path in _folder().iterdir() if path.name.count(".") >= 2]


def _read(path: Path) -> dict[int, int]:
    """The begins in a file, whose ring is its end."""
    try:
        data = path.read_bytes()[-RING_BYTES:]
    except OSError:
        return {}
    entries = _ENTRY.iter_unpack(data[: len(data) // _ENTRY.size * _ENTRY.size])
    return {attempt: at for attempt, at in entries if attempt}


def _folder() -> Path:
    """Where they are: in memory where the system has a folder for that, and this user's own."""
    memory = Path("/dev/shm")
    base = memory if os.access(memory, os.W_OK) else Path(tempfile.gettempdir())
    return base / f"yarnloom-{os.getuid()}"
