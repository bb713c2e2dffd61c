"""Programs that hold a service: it was started beside them, and ends when the last has gone.

A holder is an open request. Whatever ends the program closes it: also a kill, which leaves no time
for a word.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager

from yarnloom.service.processes.worker_process import Helpers

ALONE_SECONDS = 5.0
FIRST_SECONDS = 60.0
"""For which a service that was started so waits for its first holder."""

Replace = Callable[[Helpers], Awaitable[None]]


class Holders:
    """Counts who holds the service, and takes the newest code that they bring.

    Args:
        release: of the code that is loaded at the start.
    """

    def __init__(self, release: float = 0.0) -> None:
        self._release = release
        self._count = 0
        self._end: Callable[[], None] | None = None
        self._replace: Replace | None = None
        self._alone: asyncio.TimerHandle | None = None
        self._joining = asyncio.Lock()

    def end_with_last(self, end: Callable[[], None]) -> None:
        """Call something once nobody holds the service any more."""
        self._end = end
        self._wait_alone(FIRST_SECONDS)

    def replace_with(self, replace: Replace) -> None:
        """Say what puts other workers in place of those that are there."""
        self._replace = replace

    @contextmanager
    def held(self) -> Iterator[None]:
        """Count a holder."""
        self._count += 1
        if self._alone is not None:
            self._alone.cancel()
            self._alone = None
        try:
            yield
        finally:
            self._count -= 1
            if self._count == 0:
                self._wait_alone(ALONE_SECONDS)

    def close(self) -> None:
        """Wait for nobody any more."""
        if self._alone is not None:
            self._alone.cancel()
        self._end = None

    async def bring(self, helpers: Helpers, release: float) -> bool:
        """Publish the code of a holder, and let workers with it take the place of the others.

        Returns:
            Whether it was newer than what is there.

        Raises:
            StartError: it cannot be published; what was there stays.
        """
        async with self._joining:
            if self._replace is None or not helpers.load or release <= self._release:
                return False
            await self._replace(helpers)
            self._release = release
            return True

    def _wait_alone(self, seconds: float) -> None:
        if self._end is not None:
            self._alone = asyncio.get_running_loop().call_later(seconds, self._end)
