"""Steps of runs for asyncio. `make generate` makes `steps.py` from it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from yarnloom.client import http_requests
from yarnloom.client.http_requests import KEEP
from yarnloom.client.run_facts import StepFacts
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.client.async_client import AsyncClient


class AsyncStep(StepFacts):
    """A step of a run, as it was when it was last looked at."""

    def __init__(self, client: AsyncClient, run: int, data: JsonObject) -> None:
        super().__init__(run, data)
        self._client = client

    async def refresh(self) -> AsyncStep:
        """Look again."""
        self.data = await self._client.call(http_requests.step_request(self.run, self.address))
        return self

    async def pause(self, reason: str = "") -> AsyncStep:
        """Let it stop at its next checkpoint, and begin no more until it is resumed."""
        return await self._act("pause", reason=reason)

    async def resume(self, reason: str = "") -> AsyncStep:
        """Let it go on."""
        return await self._act("resume", reason=reason)

    async def cancel(self, reason: str = "", *, now: bool = False) -> AsyncStep:
        """End it; it counts as a failure for the parts around it."""
        return await self._act("cancel", reason=reason, now=now)

    async def retry(self, reason: str = "") -> AsyncStep:
        """Run it again, or at once where it backs off or rests."""
        return await self._act("retry", reason=reason)

    async def skip(self, reason: str = "") -> AsyncStep:
        """Pass it over; its output is null."""
        return await self._act("skip", reason=reason)

    async def supply(self, output: JsonValue, reason: str = "") -> AsyncStep:
        """Give it an output by hand, and go on behind it."""
        return await self._act("supply", output=output, reason=reason)

    async def edit(
        self,
        *,
        inputs: Mapping[str, JsonValue] = KEEP,
        pool: str = KEEP,
        priority: int = KEEP,
        reason: str = "",
    ) -> AsyncStep:
        """Change inputs, its pool (empty for none) or how urgent it is; it stays when mended."""
        return await self._act("edit", inputs=inputs, pool=pool, priority=priority, reason=reason)

    async def _act(self, action: str, **body: Any) -> AsyncStep:
        request = http_requests.step_act_request(self.run, self.address, action, **body)
        self.data = await self._client.call(request)
        return self
