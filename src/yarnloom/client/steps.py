"""Made from `async_steps.py` by `make generate`: change that file instead."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from yarnloom.client import http_requests
from yarnloom.client.http_requests import KEEP
from yarnloom.client.run_facts import StepFacts
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.client.sync_client import Client


class Step(StepFacts):
    """A step of a run, as it was when it was last looked at."""

    def __init__(self, client: Client, run: int, data: JsonObject) -> None:
        super().__init__(run, data)
        self._client = client

    def refresh(self) -> Step:
        """Look again."""
        self.data = self._client.call(http_requests.step_request(self.run, self.address))
        return self

    def pause(self, reason: str = "") -> Step:
        """Let it stop at its next checkpoint, and begin no more until it is resumed."""
        return self._act("pause", reason=reason)

    def resume(self, reason: str = "") -> Step:
        """Let it go on."""
        return self._act("resume", reason=reason)

    def cancel(self, reason: str = "", *, now: bool = False) -> Step:
        """End it; it counts as a failure for the parts around it."""
        return self._act("cancel", reason=reason, now=now)

    def retry(self, reason: str = "") -> Step:
        """Run it again, or at once where it backs off or rests."""
        return self._act("retry", reason=reason)

    def skip(self, reason: str = "") -> Step:
        """Pass it over; its output is null."""
        return self._act("skip", reason=reason)

    def supply(self, output: JsonValue, reason: str = "") -> Step:
        """Give it an output by hand, and go on behind it."""
        return self._act("supply", output=output, reason=reason)

    def edit(
        self,
        *,
        inputs: Mapping[str, JsonValue] = KEEP,
        pool: str = KEEP,
        priority: int = KEEP,
        reason: str = "",
    ) -> Step:
        """Change inputs, its pool (empty for none) or how urgent it is; it stays when mended."""
        return self._act("edit", inputs=inputs, pool=pool, priority=priority, reason=reason)

    def _act(self, action: str, **body: Any) -> Step:
        request = http_requests.step_act_request(self.run, self.address, action, **body)
        self.data = self._client.call(request)
        return self
