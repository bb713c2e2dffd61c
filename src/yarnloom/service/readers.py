"""Threads that read: the store, on connections of their own, and the disk."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

from yarnloom.store import Database

T = TypeVar("T")


class Readers:
    """Threads that read a data folder.

    Args:
        database: the data folder.
    """

    def __init__(self, database: Database) -> None:
        self._database = database
        self._threads = ThreadPoolExecutor(3, thread_name_prefix="yarnloom-reader")

    async def read(self, ask: Callable[..., T], *args: Any) -> T:
        """Ask the store, on a reader's connection."""
        loop = asyncio.get_running_loop()
        return await loop.run_in_executor(
            self._threads, lambda: self._database.read(lambda connection: ask(connection, *args))
        )

    async def in_thread(self, ask: Callable[..., T], *args: Any) -> T:
        """Do something short with the disk, on a reader's thread."""
        return await asyncio.get_running_loop().run_in_executor(self._threads, ask, *args)

    def close(self) -> None:
        """End the threads."""
        self._threads.shutdown()
