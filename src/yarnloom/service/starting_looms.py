"""Requests that name a workflow wait until the looms of the start are published."""

from __future__ import annotations

import asyncio
import contextlib

from yarnloom.errors import Busy, NotFound

HELD_SECONDS = 10.0


class StartingLooms:
    """Whether what `serve --load` names is there to be started.

    Args:
        names: what is named; empty for nothing.

    Attributes:
        pending: whether it is still to be published.
    """

    def __init__(self, names: str) -> None:
        self.names = names
        self.pending = bool(names)
        self._problem = ""
        self._decided = asyncio.Event()

    def note_published(self) -> None:
        """Let go on who waits: everything is there."""
        self.pending = False
        self._decided.set()

    def note_failed(self, problem: str) -> None:
        """Let go on who waits: nothing will be there."""
        self._problem = problem
        self._decided.set()

    def close(self) -> None:
        """Hold nobody any more."""
        self._decided.set()

    async def ready(self) -> None:
        """Hold a request that names a workflow or task, until the looms are published.

        A workflow that is there could be that of older code.

        Raises:
            Busy: that takes longer than a request is held.
            NotFound: they could not be loaded.
        """
        if not self.pending:
            return
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(HELD_SECONDS):
                await self._decided.wait()
        if self._problem:
            raise NotFound(f"{self.names} could not be loaded: {self._problem}")
        if self.pending:
            raise Busy(f"{self.names} is not published yet; try again in a moment")
