"""Files on a worker's machine: fetched once for all its attempts, and kept while any needs them."""

from __future__ import annotations

import asyncio
import functools
import tempfile
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from yarnloom.client.file_transfer import Incoming, Outgoing
from yarnloom.values import JsonObject

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient

KEEP_BYTES = 2 * 1024**3


class FileCache:
    """The files that attempts of one worker asked for.

    Args:
        client: makes what fetches and sends them, once it is needed.
        keep: how many bytes of files that no attempt needs are kept, the newest used ones.
    """

    def __init__(self, client: Callable[[], AsyncClient], keep: int = KEEP_BYTES) -> None:
        self._make_client = client
        self._keep = keep
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._sizes: OrderedDict[str, int] = OrderedDict()
        self._kept = 0  # bytes: their sum, since it is asked for at the end of every attempt
        self._users: dict[str, set[int]] = {}
        self._coming: dict[str, asyncio.Task[Path]] = {}

    @functools.cached_property
    def _client(self) -> AsyncClient:
        return self._make_client()

    async def fetch(self, attempt: int, sha256: str) -> Path:
        """Where a file is, for an attempt; two that ask at once fetch it once.

        Raises:
            YarnloomError: it is not kept, or the service cannot be reached.
        """
        self._users.setdefault(sha256, set()).add(attempt)
        if sha256 in self._sizes:
            self._sizes.move_to_end(sha256)
            return self._path(sha256)
        if sha256 not in self._coming:
            self._coming[sha256] = asyncio.create_task(self._fetch(sha256))
        return await asyncio.shield(self._coming[sha256])

    async def _fetch(self, sha256: str) -> Path:
        try:
            with Incoming(sha256, None, self._path(sha256)) as incoming:
                await self._client.fetch(incoming)
                path = incoming.finish()
                path.chmod(0o400)  # several attempts read the same bytes
            self._sizes[sha256] = incoming.have
            self._kept += incoming.have
            return path
        finally:
            del self._coming[sha256]

    async def save(self, attempt: int, question: JsonObject) -> JsonObject:
        """Send a file that an attempt keeps; what stands for it."""
        path = Path(question["path"])
        outgoing = Outgoing(path, question["name"], question["media_type"], None)
        return await self._client.send(outgoing, attempt)

    def ended(self, attempt: int) -> None:
        """An attempt needs nothing any more; what is too much is removed."""
        if not self._users and self._kept <= self._keep:
            return
        for sha256 in [one for one, users in self._users.items() if attempt in users]:
            self._users[sha256].discard(attempt)
            if not self._users[sha256]:
                del self._users[sha256]
        if self._kept <= self._keep:
            return
        for sha256 in [size for size in self._sizes if size not in self._users]:
            if self._kept <= self._keep:
                return
            self._kept -= self._sizes.pop(sha256)
            self._path(sha256).unlink(missing_ok=True)

    async def close(self) -> None:
        """Remove everything."""
        for task in self._coming.values():
            task.cancel()
        if self._folder is not None:
            self._folder.cleanup()
        if "_client" in self.__dict__:
            await self._client.close()

    def _path(self, sha256: str) -> Path:
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="yarnloom-worker-")
        return Path(self._folder.name) / sha256
