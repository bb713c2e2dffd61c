"""Files on their way: what both clients share. It reads and writes files, and talks to nobody."""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, TypeAlias

from yarnloom.errors import BadAnswer, ValueRefused
from yarnloom.media_types import BLOCK, media_type_of
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.sdk.file_values import File, Rows

Given: TypeAlias = Path | str | bytes
OnProgress: TypeAlias = Callable[[int, int], None]
"""Told how many bytes have gone, and of how many."""


class Outgoing:
    """A file that is sent: blocks of it, and how far that is.

    Args:
        given: where it is, or its bytes.
        name: its name; of a path its own unless given.
        media_type: as the name's ending suggests unless given.
        on_progress: told after each block.

    Raises:
        ValueRefused: there is no such file.
    """

    def __init__(
        self, given: Given, name: str, media_type: str, on_progress: OnProgress | None
    ) -> None:
        self._given = given
        self._on_progress = on_progress
        self.name = name or ("data" if isinstance(given, bytes) else Path(given).name)
        self.media_type = media_type or media_type_of(self.name)
        try:
            self.size = len(given) if isinstance(given, bytes) else os.path.getsize(given)
            self._open().close()
        except OSError as error:
            raise ValueRefused(
                f"the file {given!s:.200} cannot be read: {error.strerror}"
            ) from error

    def _open(self) -> IO[bytes]:
        given = self._given
        return io.BytesIO(given) if isinstance(given, bytes) else Path(given).open("rb")

    @property
    def query(self) -> JsonObject:
        """What is said of it."""
        return {"name": self.name, "media_type": self.media_type}

    @property
    def headers(self) -> dict[str, str]:
        """Its length, so that it is not sent in chunks."""
        return {"Content-Length": str(self.size), "Content-Type": "application/octet-stream"}

    def blocks(self) -> Iterator[bytes]:
        """All of it, from the beginning; it may be gone through again."""
        gone = 0
        with self._open() as file:
            while block := file.read(BLOCK):
                gone += len(block)
                yield block
                if self._on_progress:
                    self._on_progress(gone, self.size)


class Incoming:
    """A file that comes: it has its name only when it is whole, with the right bytes.

    Args:
        sha256: what its bytes must have.
        size: how many there are; None if that is not known.
        target: where it is to be.
        on_progress: told after each block.
    """

    def __init__(
        self, sha256: str, size: int | None, target: Path, on_progress: OnProgress | None = None
    ) -> None:
        self.sha256 = sha256
        self._size = size
        self._target = target
        self._part = target.with_name(f".{target.name}.{os.getpid()}.part")
        self._on_progress = on_progress
        self._digest = hashlib.sha256()
        self.have = 0

    def __enter__(self) -> Incoming:
        self._file = self._part.open("wb")
        return self

    @property
    def headers(self) -> dict[str, str]:
        """What asks for the rest, where a connection broke."""
        return {"Range": f"bytes={self.have}-"} if self.have else {}

    def begin(self, status: int) -> None:
        """An answer begins: with all of it, or with the rest."""
        if self.have and status != 206:
            self._file.seek(0)
            self._file.truncate()
            self._digest, self.have = hashlib.sha256(), 0

    def take(self, block: bytes) -> None:
        """Some more of it."""
        self._file.write(block)
        self._digest.update(block)
        self.have += len(block)
        if self._on_progress:
            self._on_progress(self.have, self._size or self.have)

    def finish(self) -> Path:
        """Give it its name.

        Raises:
            BadAnswer: it came with other bytes.
        """
        self._file.close()
        if self._digest.hexdigest() != self.sha256:
            raise BadAnswer(f"{self._target} came with other bytes than were asked for; try again")
        self._part.replace(self._target)
        return self._target

    def __exit__(self, *_: object) -> None:
        self._file.close()
        with contextlib.suppress(FileNotFoundError):
            self._part.unlink()


def named(file: File | Rows[Any] | JsonObject | str) -> tuple[str, int | None, str]:
    """Hash, size and name of what is to be fetched: a file, a reference to one, or a hash.

    Raises:
        ValueRefused: it is none of these.
    """
    # Told by what they have: a command that knows no types need not load what knows them.
    given: JsonValue = file
    if hasattr(given, "sha256"):
        return given.sha256, given.size, given.name
    found: JsonValue = given.reference if hasattr(given, "reference") else given
    if isinstance(found, str):
        return found, None, found
    if isinstance(found, dict) and (sha256 := found.get("sha256") or found.get("list")):
        whole = None if "list" in found and "sha256" in found else found.get("size")
        return sha256, whole, found.get("name", f"{sha256[:12]}.jsonl")
    raise ValueRefused(f"found {found!r:.60}; expected a File, or the sha256 of one")


def list_of(value: Rows[Any] | JsonObject) -> str:
    """The hash of the list that rows, or a reference to them, stand for."""
    reference = value.reference if hasattr(value, "reference") else value
    return (reference or {}).get("list") or named(value)[0]
