"""The database of a data folder: its lock, its connections, its tables."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import queue
import sqlite3
import statistics
import sys
import tempfile
import time
import uuid
from collections.abc import Callable, Iterator
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any, TypeVar

from yarnloom.errors import Busy, FolderInUse, FolderUnusable
from yarnloom.store import integrity
from yarnloom.store.files.file_folder import FileFolder
from yarnloom.store.files.file_permissions import close_to_others, private
from yarnloom.store.integrity import Verdict
from yarnloom.store.logs.log_file import verify_logs
from yarnloom.store.restored_copies import Past

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
                f"the data folder {folder} cannot be written: {error.strerror}.",
                hint="Give a folder that can, with --data or YARNLOOM_DATA.",
            ) from error
        try:
            fcntl.flock(self._open[folder / _APART if apart else path], _EXCLUSIVE)
        except OSError as error:
            self.release()
            raise FolderInUse(
                f"the data folder {folder} is in use by {self._other()}.",
                hint="Stop that one, or give another folder with --data.",
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
                "and flushes cannot be trusted.",
                hint="Give a folder on a local disk, with --data.",
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


T = TypeVar("T")

SCHEMA_VERSION = 26
"""Of the tables in `schema.sql`: one more with each change to them."""

READ_LIMIT = 2.0
"""Seconds of processor time that one reading may take."""

READ_PATIENCE = 5 * READ_LIMIT
"""Seconds that it may take in all, where the disk is slow or others are busy."""

LOG_LIMIT = 16 * 2**20
"""Bytes that the write-ahead log keeps on disk when nobody needs what is in it."""
READERS = 3
WRITE_CACHE = 16_000
READ_CACHE = 4_000
"""Kilobytes of pages that a connection keeps; a service's memory grows by them under load."""


class Connection(sqlite3.Connection):
    """A connection to the records, which knows where the files are."""

    files: FileFolder
    lists: dict[int, Any]
    """By each the values of its list, where a reader has just decoded them: they never change."""


class Database:
    """An open data folder.

    Args:
        folder: made if it is missing.
        holder: says who holds the lock, for the message that the next one gets.

    Raises:
        FolderInUse: another service has it.
        FolderUnusable: it cannot be written, is on a network file system, or its records are
            damaged, incomplete, of another version or of something else.

    Attributes:
        looked_through: whether all of the file was looked through for damage.
    """

    def __init__(self, folder: Path, holder: str = "") -> None:
        self.folder = folder
        self._lock = FolderLock(folder, holder)
        self.files = FileFolder(folder)
        try:
            self._open()
        except BaseException as error:
            if hasattr(self, "writer"):
                self.writer.close()
            self._lock.release()
            if isinstance(error, (sqlite3.Error, OSError)):
                raise unusable(self.path, error) from error
            raise
        self._readers: queue.SimpleQueue[Connection] = queue.SimpleQueue()
        for _ in range(READERS):
            self._readers.put(self.connect(read_only=True))
        self._for_short_reads = self.connect(read_only=True)

    def _open(self) -> None:
        close_to_others(self.folder)
        self.writer = self.connect()
        open_tables(self.writer)
        integrity.refuse_incomplete(self.writer, self.path, _shape_of_schema())
        faults = integrity.look_for_damage(self.writer, integrity.QUICK_SECONDS)
        if faults:
            raise sqlite3.DatabaseError(f"they are damaged: {faults[0]}")
        self.looked_through = faults is not None
        self.id, self.starts = _identity(self.writer)
        self.past = Past(self.folder, self.writer)
        self._clear_files()

    def look_for_damage(self) -> list[str]:
        """What is damaged, looked for through all of the file; takes long for a large one."""
        with contextlib.closing(self.connect(read_only=True)) as connection:
            return integrity.look_for_damage(connection, None) or []

    def _clear_files(self) -> None:
        """Remove the bytes that a killed service left and that no row names."""
        self.files.clear_incoming()
        known = self.writer.execute("SELECT sha256 FROM files")
        for stray in self.files.stray(sha256 for (sha256,) in known):
            self.files.remove(stray)

    def taken_away(self) -> str | None:
        """Say what is wrong if the open file is not the one in the folder any more."""
        return self._lock.taken_away()

    @property
    def path(self) -> Path:
        """The SQLite file."""
        return self.folder / FILE_NAME

    def connect(self, *, read_only: bool = False) -> Connection:
        """A new connection, without Python's own transactions."""
        return _connect(self.folder, read_only=read_only)

    def keep_fact(self, key: str, value: str) -> str:
        """Keep something about the service, unless it is kept already; what is kept."""
        self.writer.execute("INSERT OR IGNORE INTO service VALUES (?, ?)", (key, value))
        row = self.writer.execute("SELECT value FROM service WHERE key = ?", (key,)).fetchone()
        return str(row[0])

    @contextlib.contextmanager
    def reader(self) -> Iterator[Connection]:
        """A read-only connection, cut off after `READ_LIMIT` seconds; rows have names.

        Its user stays in one thread, whose processor time counts.
        """
        connection = self._readers.get()
        worked, until = time.thread_time() + READ_LIMIT, time.monotonic() + READ_PATIENCE
        connection.set_progress_handler(
            lambda: time.thread_time() > worked or time.monotonic() > until, 100_000
        )
        try:
            yield connection
        except sqlite3.OperationalError as error:
            if str(error) != "interrupted":
                raise
            raise Busy(
                f"the answer was not found within {READ_LIMIT:g} s; ask for less, or try again"
            ) from error
        finally:
            connection.set_progress_handler(None, 0)
            self._readers.put(connection)

    def read(self, ask: Callable[[Connection], T]) -> T:
        """What a function of `store.reading` answers, from one consistent state."""
        with self.reader() as connection:
            return _from_one_state(connection, ask)

    def read_at_once(self, ask: Callable[[Connection], T]) -> T:
        """The same for what reads a few rows, always from one and the same thread."""
        return _from_one_state(self._for_short_reads, ask)

    def flush_time(self, probes: int = 7) -> float:
        """Median seconds that the disk under the folder takes to make a small write durable."""
        times = []
        with tempfile.TemporaryFile(dir=self.folder) as probe:
            for _ in range(probes):
                begun = time.perf_counter()
                probe.write(b"x" * 4096)
                probe.flush()
                os.fsync(probe.fileno())
                times.append(time.perf_counter() - begun)
        return statistics.median(times)

    def close(self) -> None:
        """Close every connection and give the folder free."""
        with contextlib.suppress(queue.Empty):
            while True:
                self._readers.get_nowait().close()
        self._for_short_reads.close()
        self.past.note()
        with contextlib.suppress(sqlite3.Error):  # on a full disk, the records are whole without it
            self.writer.execute("PRAGMA optimize")
        self.writer.close()
        self._lock.release()


def _from_one_state(connection: Connection, ask: Callable[[Connection], T]) -> T:
    connection.execute("BEGIN")
    try:
        return ask(connection)
    finally:
        connection.execute("ROLLBACK")


@contextlib.contextmanager
def open_reader(folder: Path) -> Iterator[Connection]:
    """A read-only connection to the records of a service that runs, for a process beside it."""
    connection = _connect(folder, read_only=True)
    try:
        yield connection
    finally:
        connection.close()


def verify(folder: Path) -> Verdict:
    """Look at everything in a data folder, with or without a service on it; nothing is changed.

    Raises:
        FolderUnusable: there are no records, or they cannot be opened.
    """
    if not (folder / FILE_NAME).is_file():
        raise FolderUnusable(
            f"there are no records in {folder}: {FILE_NAME} is not there.",
            hint="Give the data folder of a service, with --data.",
        )
    with open_reader(folder) as connection:
        try:
            integrity.refuse_foreign(connection, folder / FILE_NAME)
            _refuse_other_version(connection)
            integrity.refuse_incomplete(connection, folder / FILE_NAME, _shape_of_schema())
            verdict = integrity.verify(connection, folder)
            verdict.faults += verify_logs(folder)
            return verdict
        except sqlite3.DatabaseError as error:
            return Verdict(faults=[f"the database is damaged: {error}"])


def _connect(folder: Path, *, read_only: bool) -> Connection:
    path = folder / FILE_NAME
    mode = "ro" if read_only else "rwc"
    try:
        connection = sqlite3.connect(
            f"{path.absolute().as_uri()}?mode={mode}",
            uri=True,
            isolation_level=None,
            check_same_thread=False,
            cached_statements=256,
            factory=Connection,
        )
        connection.row_factory = sqlite3.Row if read_only else None
        connection.files = FileFolder(folder)
        connection.lists = {}
        if not read_only:
            integrity.refuse_foreign(connection, path)
            connection.execute("PRAGMA auto_vacuum = INCREMENTAL")
            connection.execute("PRAGMA journal_mode = WAL")
            # What a long reader made it grow to, it gives back when it begins anew.
            connection.execute(f"PRAGMA journal_size_limit = {LOG_LIMIT}")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute("PRAGMA busy_timeout = 5000")
        connection.execute(f"PRAGMA cache_size = {-(READ_CACHE if read_only else WRITE_CACHE)}")
    except sqlite3.Error as error:
        raise unusable(path, error) from error
    return connection


def unusable(path: Path, error: Exception) -> FolderUnusable:
    """Return the error for records that cannot be opened, read or written."""
    text = " ".join(str(error).split())
    return FolderUnusable(
        f"the records in {path} cannot be opened: {text}.",
        hint="Give another folder with --data, or restore this one from a copy.",
    )


@cache
def _shape_of_schema() -> dict[tuple[str, str], tuple[str, ...]]:
    """The tables of this version, as they are when they are made anew."""
    with contextlib.closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
        create_tables(connection)
        return integrity.shape(connection)


def create_tables(connection: sqlite3.Connection) -> None:
    """Create the tables of an empty database, in one transaction."""
    text = (files("yarnloom.store") / "schema.sql").read_text(encoding="utf-8")
    connection.executescript(
        f"BEGIN IMMEDIATE;\n{text}\nPRAGMA user_version = {SCHEMA_VERSION};\nCOMMIT;"
    )


def open_tables(connection: sqlite3.Connection) -> None:
    """Create the tables of a new database; refuse those of another version.

    Raises:
        FolderUnusable: the records are of an older or a newer version.
    """
    if _version(connection) == 0:
        create_tables(connection)
    _refuse_other_version(connection)


def _version(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def _refuse_other_version(connection: sqlite3.Connection) -> None:
    version = _version(connection)
    if version != SCHEMA_VERSION:
        age, which = ("older", "") if version < SCHEMA_VERSION else ("newer", ", or a newer one")
        raise FolderUnusable(
            f"the records are of the {age} version {version}; this program reads version "
            f"{SCHEMA_VERSION}.",
            hint=f"Use the program that wrote them{which}, or give another folder with --data.",
        )


def _identity(connection: sqlite3.Connection) -> tuple[str, int]:
    """The service's id, made once, and how often it was started, this start included."""
    connection.execute("BEGIN IMMEDIATE")
    rows = dict(connection.execute("SELECT key, value FROM service").fetchall())
    facts = {"id": rows.get("id", uuid.uuid4().hex), "starts": int(rows.get("starts", 0)) + 1}
    connection.executemany(
        "INSERT INTO service VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
        [
            (key, value if isinstance(value, str) else json.dumps(value))
            for key, value in facts.items()
        ],
    )
    connection.execute("COMMIT")
    return str(facts["id"]), int(facts["starts"])
