"""Taking files in and letting go of them, whole or not at all.

Bytes are written and hashed on a thread, a block at a time. Putting a file in its place with the
record of it, and removing one with no record, exclude each other: so no bytes vanish that were
acknowledged, whoever uploads the same again meanwhile.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import hashlib
from collections.abc import AsyncIterator, Callable
from typing import Any

from yarnloom.engine.commands import KeepFile
from yarnloom.errors import CannotStore, InvalidInput, Problem
from yarnloom.media_types import BLOCK
from yarnloom.service.group_commit import Writer
from yarnloom.store import Database, Kept
from yarnloom.store.files import file_records
from yarnloom.store.files.file_folder import IncomingFile


class Uploads:
    """The way into the folder of files, and out of it.

    Args:
        database: where the folder is.
        writer: records what was kept.

    Attributes:
        placing: held from when bytes have their place until they are recorded, and while bytes
            are removed.
    """

    def __init__(self, database: Database, writer: Writer) -> None:
        self._database = database
        self._writer = writer
        self.placing = asyncio.Lock()

    async def take(
        self, blocks: AsyncIterator[bytes], digest: str, keep: Callable[[Kept], KeepFile]
    ) -> Any:
        """Keep what comes; the file, once it is durable.

        Args:
            blocks: the bytes; if they break off nothing is kept.
            digest: SHA-256 as the sender knows it, in base64; empty if it did not say.
            keep: makes the command that records it.

        Raises:
            InvalidInput: what came is not what the sender meant.
            CannotStore: it cannot be written, for instance because the disk is full.
        """
        try:
            with self._database.files.incoming() as incoming:
                await _write(incoming, blocks)
                sha256 = await asyncio.to_thread(incoming.flush)
                if digest and digest != base64.b64encode(bytes.fromhex(sha256)).decode():
                    text = f"the bytes that came have the SHA-256 {sha256}, which is another"
                    raise InvalidInput(
                        "the file was changed on its way; nothing was kept. Send it again",
                        problems=[Problem("/Content-Digest", text)],
                    )
                async with self.placing:
                    kept = Kept(*await asyncio.to_thread(incoming.finish))
                    return await self._writer.submit(keep(kept))
        except OSError as error:
            raise CannotStore(
                f"the file could not be kept: {error.strerror}. Try again."
            ) from error

    async def drop(self, hashes: list[str]) -> None:
        """Remove the bytes of files that have no record any more."""
        for sha256 in hashes:
            async with self.placing:
                await asyncio.to_thread(self._drop, sha256)

    def _drop(self, sha256: str) -> None:
        if self._database.read(lambda one: file_records.file(one, sha256)) is None:
            self._database.files.remove(sha256)


async def _write(incoming: IncomingFile, blocks: AsyncIterator[bytes]) -> None:
    gathered: list[bytes] = []
    size = 0
    async for block in blocks:
        gathered.append(block)
        size += len(block)
        if size >= BLOCK:
            await asyncio.to_thread(_write_all, incoming, gathered)
            gathered, size = [], 0
    await asyncio.to_thread(_write_all, incoming, gathered)


def _write_all(incoming: IncomingFile, blocks: list[bytes]) -> None:
    for block in blocks:
        incoming.write(block)


def digest_of(header: str) -> str:
    """The SHA-256 in a `Content-Digest` header (RFC 9530), in base64; empty if it has none.

    Raises:
        InvalidInput: it is not written as it should be.
    """
    for part in header.split(","):
        name, _, value = part.strip().partition("=")
        if name.lower() != "sha-256":
            continue
        text = value.strip()
        try:
            raw = base64.b64decode(text.strip(":"), validate=True)
        except binascii.Error:
            raw = b""
        if (
            not (text.startswith(":") and text.endswith(":"))
            or len(raw) != hashlib.sha256().digest_size
        ):
            raise InvalidInput(
                f"found Content-Digest {header!r:.100}; expected sha-256=:BASE64:",
                problems=[Problem("/Content-Digest", "not as in RFC 9530")],
            )
        return text.strip(":")
    return ""
