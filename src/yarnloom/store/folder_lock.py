"""One service has a data folder, and notices when the folder is taken away from under it.

The lock is an operating-system lock (`flock`) on a descriptor of the database itself, opened before
SQLite opens it: whoever removes another file lets nobody in. It is closed only after every
connection, since closing any descriptor of a file drops the locks that SQLite has on it; nothing
else in the process opens the file. On macOS, where both kinds of locks meet, a file of its own is
locked, and compared with its path like the database.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sys
from pathlib import Path

from yarnloom.errors import FolderInUse, FolderUnusable
from yarnloom.store.file_permissions import private

FILE_NAME = "yarnloom.db"
HOLDER = "holder"
"""Says who has the folder, for the message that the next one gets; it locks nothing."""

_APART = "lock"
_NETWORK = {"nfs", "nfs4", "cifs", "smb3", "smbfs", "afs", "9p", "ceph", "glusterfs", "fuse.sshfs"}


class FolderLock:
    """The hold of one service on a data folder, made if it is missing.

    Args:
        folder: the data folder.
        holder: says who has it.

    Raises:
        FolderInUse: another service has it.
        FolderUnusable: it cannot be written, or is on a network file system.
    """

    def __init__(self, folder: Path, holder: str) -> None:
        self._folder = folder
        path, apart = folder / FILE_NAME, sys.platform == "darwin"
        self._open: dict[Path, int] = {}
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._refuse_network()
            for one in (path, folder / _APART) if apart else (path,):
                self._open[one] = private(str(one), os.O_RDWR | os.O_CREAT)
        except OSError as error:
            self.release()
            raise FolderUnusable(
                f"the data folder {folder} cannot be written: {error.strerror}. "
                "Give a folder that can, with --data or YARNLOOM_DATA."
            ) from error
        try:
            fcntl.flock(self._open[folder / _APART if apart else path], _EXCLUSIVE)
        except OSError as error:
            self.release()
            raise FolderInUse(
                f"the data folder {folder} is in use by {self._other()}. "
                "Stop that one, or give another folder with --data."
            ) from error
        with contextlib.suppress(OSError):
            note = private(str(folder / HOLDER), os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            with open(note, "w", encoding="utf-8") as file:
                file.write(holder or f"process {os.getpid()}")

    def taken_away(self) -> str | None:
        """Say what is wrong if the open files are not those at their paths any more.

        Costs microseconds: nothing is opened or read.
        """
        for path, descriptor in self._open.items():
            try:
                there = os.stat(path)
            except FileNotFoundError:
                return f"{path} was moved or removed while the service has it open"
            except OSError as error:
                return f"{path} cannot be looked at: {error.strerror}"
            here = os.fstat(descriptor)
            if (there.st_dev, there.st_ino) != (here.st_dev, here.st_ino):
                return f"{path} was replaced by another file while the service has it open"
        return None

    def release(self) -> None:
        """Give the folder free; every connection to the database is closed by now."""
        for descriptor in self._open.values():
            os.close(descriptor)
        self._open.clear()

    def _other(self) -> str:
        try:
            text = (self._folder / HOLDER).read_text(encoding="utf-8", errors="replace")
        except OSError:
            text = ""
        return text.strip()[:200] or "another service"

    def _refuse_network(self) -> None:
        kind = _file_system(self._folder)
        if kind in _NETWORK:
            raise FolderUnusable(
                f"the data folder {self._folder} is on a network file system ({kind}), where locks "
                "and flushes cannot be trusted. Give a folder on a local disk, with --data."
            )


_EXCLUSIVE = fcntl.LOCK_EX | fcntl.LOCK_NB


def _file_system(folder: Path) -> str:
    """The type of the file system that a folder is on; empty where the system does not say."""
    try:
        mounts = Path("/proc/self/mountinfo").read_text(encoding="utf-8").splitlines()
    except OSError:
        return ""
    here, found, length = str(folder.resolve()), "", -1
    for line in mounts:
        before, _, after = line.partition(" - ")
        point = before.split()[4]
        if (here + "/").startswith(point.rstrip("/") + "/") and len(point) >= length:
            found, length = after.split()[0], len(point)
    return found
