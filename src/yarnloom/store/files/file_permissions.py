"""Whose eyes the records are for: their owner's only, also in a folder from before."""

from __future__ import annotations

import logging
import os
from pathlib import Path

log = logging.getLogger("yarnloom.service")

_OTHERS = 0o077
_FILES = (
    *("yarnloom.db", "yarnloom.db-wal", "yarnloom.db-shm"),
    *("logs.db", "logs.db-wal", "logs.db-shm"),
    *("holder", "lock", "numbers.json", "secret.key"),
)
_FOLDERS = ("files",)


def private(path: str, flags: int) -> int:
    """Open a file that only its owner can read: an `opener` for `open`."""
    return os.open(path, flags, 0o600)


def make_private(folder: Path) -> None:
    """Make a folder, and those above it that are missing, for its owner only."""
    if not folder.exists():
        make_private(folder.parent)
        folder.mkdir(mode=0o700, exist_ok=True)


def close_to_others(folder: Path) -> None:
    """Let nobody but the owner read the records in a data folder.

    The folder itself is closed where nothing else is in it. Otherwise others may need to get in, so
    it is left as it is, with a warning.
    """
    for name in _FILES:
        _close(folder / name)
    for name in _FOLDERS:
        inner = folder / name
        if inner.is_dir() and inner.stat().st_mode & _OTHERS:
            for path in inner.rglob("*"):
                _close(path)
            _close(inner)
    if not folder.stat().st_mode & _OTHERS:
        return
    others = [one.name for one in folder.iterdir() if one.name not in (*_FILES, *_FOLDERS)]
    if others:
        log.warning(
            "the data folder %s can be read by others, and holds more than the records (%s), so it "
            "is left as it is; the records in it are closed to others",
            folder,
            ", ".join(sorted(others)[:5]),
        )
    else:
        _close(folder)


def _close(path: Path) -> None:
    try:
        mode = path.stat().st_mode
        if mode & _OTHERS:
            path.chmod(mode & ~_OTHERS & 0o777)
    except OSError:
        pass  # not there, or not ours to change: what matters is closed by its own rights
