"""The bytes of files, below the data folder: by hash, whole or not at all.

A file is written under a name of its own, flushed, and moved to its place; only then its row is
written. What a crash leaves in between is removed at the next start, and nothing refers to it.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import uuid
from array import array
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

from yarnloom.store.files.file_permissions import make_private, private
from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import StoreFailed
from yarnloom.values import decode

MARK_ROWS = 512
MARK_BYTES = 256 * 1024
SLICE_BYTES = 1024 * 1024


@dataclass(frozen=True, slots=True)
class Kept:
    """Bytes that are durable at their place.

    Attributes:
        sha256: their hash, 64 hexadecimal digits.
        size: how many there are.
        count: of a list: how many values.
        marks: of a list: where some of them begin.
    """

    sha256: str
    size: int
    count: int | None = None
    marks: bytes | None = None

    @property
    def reference(self) -> Record:
        """What stands for a list in JSON."""
        return {"list": self.sha256, "count": self.count, "size": self.size}


class FileFolder:
    """The folder of all files.

    Args:
        data: the data folder.
    """

    def __init__(self, data: Path) -> None:
        self._folder = data / "files"
        self._incoming = self._folder / "incoming"

    def path(self, sha256: str) -> Path:
        """Where the bytes with that hash are, or would be."""
        return self._folder / sha256[:2] / sha256

    def clear_incoming(self) -> None:
        """Remove what was being written when a service or helper was killed."""
        make_private(self._incoming)
        for left in self._incoming.iterdir():
            left.unlink()

    def stray(self, known: Iterable[str]) -> list[str]:
        """Hashes of what is here and not among the known ones."""
        found = set(known)
        here = (path.name for path in self._folder.glob("[0-9a-f][0-9a-f]/*"))
        return [name for name in here if name not in found]

    def remove(self, sha256: str) -> None:
        """Remove bytes that nothing refers to."""
        self.path(sha256).unlink(missing_ok=True)

    def incoming(self) -> IncomingFile:
        """A file that is about to be written."""
        make_private(self._incoming)
        return IncomingFile(self, self._incoming / uuid.uuid4().hex)

    def place(self, written: Path, sha256: str) -> None:
        """Move flushed bytes to their place, durably."""
        target = self.path(sha256)
        if not target.parent.exists():
            target.parent.mkdir(exist_ok=True, mode=0o700)
            _flush_folder(self._folder)
        written.replace(target)
        _flush_folder(target.parent)

    # Lists

    def write_list(self, texts: Iterable[str]) -> Kept:
        """Keep a list of JSON texts."""
        marks = _Marks()
        with self.incoming() as incoming:
            for text in texts:
                line = text.encode() + b"\n"
                marks.pass_over(line)
                incoming.write(line)
            sha256, size = incoming.finish()
        return marks.of(sha256, size)

    def index_list(self, sha256: str) -> Kept:
        """A list whose bytes are here, with where its values begin."""
        marks = _Marks()
        for line in self.lines(sha256):
            marks.pass_over(line)
        return marks.of(sha256, marks.at)

    def lines(self, sha256: str) -> Iterator[bytes]:
        """The values of a list as JSON texts, one after the other."""
        with self.path(sha256).open("rb") as file:
            yield from file

    def read_list(
        self, sha256: str, marks: bytes, first: int, limit: int, *, at_least: int = 1
    ) -> list[Any]:
        """Some values of a list, from an index on: at most `limit`, fewer if they are large."""
        pairs = array("Q")
        pairs.frombytes(marks)
        indexes, places = pairs[::2], pairs[1::2]
        mark = bisect_right(indexes, first) - 1
        if mark < 0:
            return []
        try:
            with self.path(sha256).open("rb") as file:
                file.seek(places[mark])
                lines = islice(file, first - indexes[mark], None)
                return [decode(line) for line in _some(lines, limit, at_least)]
        except OSError as error:
            raise StoreFailed(
                f"the list {sha256[:12]}… cannot be read: {error.strerror}"
            ) from error

    def find_in_list(self, sha256: str, wanted: str) -> Iterator[bytes]:
        """The lines of a list that have a text in them somewhere."""
        return (line for _, line in self.numbered_in_list(sha256, wanted))

    def numbered_in_list(self, sha256: str, wanted: str) -> Iterator[tuple[int, bytes]]:
        """The same, each with its index in the list."""
        needle = json.dumps(wanted, ensure_ascii=False)[1:-1].encode()
        return ((at, line) for at, line in enumerate(self.lines(sha256)) if needle in line)


def _some(lines: Iterable[bytes], limit: int, at_least: int) -> Iterator[bytes]:
    """Lines, until they are many, or many bytes."""
    spent = 0
    for count, line in enumerate(islice(lines, limit)):
        if spent > SLICE_BYTES and count >= at_least:
            return
        spent += len(line)
        yield line


class _Marks:
    """Where some values of a list begin, so that any is found without reading those before."""

    def __init__(self) -> None:
        self.at = self.count = 0
        self._pairs = array("Q")
        self._last = (0, 0)

    def pass_over(self, line: bytes) -> None:
        """A value comes next."""
        index, at = self._last
        if self.count - index >= MARK_ROWS or self.at - at >= MARK_BYTES or not self.count:
            self._last = (self.count, self.at)
            self._pairs.extend(self._last)
        self.count += 1
        self.at += len(line)

    def of(self, sha256: str, size: int) -> Kept:
        """The whole list."""
        return Kept(sha256, size, self.count, self._pairs.tobytes())


class IncomingFile:
    """Bytes on their way to their place; gone without a trace if anything goes wrong.

    As a context: `write` some, then `finish`; or `write_at_end` from elsewhere.
    """

    def __init__(self, folder: FileFolder, path: Path) -> None:
        self._folder = folder
        self._path = path
        self._digest = hashlib.sha256()
        self.size = 0

    def __enter__(self) -> IncomingFile:
        self._file = open(self._path, "xb", opener=private)  # closed at exit
        return self

    def write(self, block: bytes) -> None:
        """Write some more."""
        self._file.write(block)
        self._digest.update(block)
        self.size += len(block)

    def flush(self) -> str:
        """Make all of it durable, not yet at its place; its hash."""
        self._file.flush()
        os.fsync(self._file.fileno())
        return self._digest.hexdigest()

    def finish(self) -> tuple[str, int]:
        """Put it in its place; its hash and size."""
        sha256 = self.flush()
        self._folder.place(self._path, sha256)
        return sha256, self.size

    def __exit__(self, *_: object) -> None:
        self._file.close()
        with contextlib.suppress(FileNotFoundError):
            self._path.unlink()


def _flush_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
