"""Runs and steps of the client for asyncio. `make generate` makes `runs.py` from it."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from yarnloom.client import http_requests
from yarnloom.client.http_requests import ENDED, KEEP
from yarnloom.units import Duration
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.client.async_client import AsyncClient


class AsyncRun(http_requests.RunFacts):
    """A run, as it was when it was last looked at. `refresh`, `wait` and `follow` look again."""

    def __init__(self, client: AsyncClient, data: JsonObject) -> None:
        super().__init__(data)
        self._client = client

    async def refresh(self) -> AsyncRun:
        """Look again."""
        self.data = await self._client.call(http_requests.show_request(self.number))
        return self

    async def wait(self, timeout: float | None = None) -> JsonValue:
        """Wait for the run's end; its output.

        Args:
            timeout: seconds; None waits as long as it takes.

        Raises:
            RunFailed: it failed.
            RunCancelled: it was cancelled.
            WaitTimeout: it goes on.
        """
        until = None if timeout is None else time.monotonic() + timeout
        while self.state not in ENDED:
            left = 20.0 if until is None else min(20.0, until - time.monotonic())
            if left <= 0:
                raise http_requests.still_going(self.data, timeout or 0.0)
            self.data = await self._client.call(http_requests.show_request(self.number, left))
        return http_requests.output_of(self.data)

    async def follow(self) -> AsyncIterator[AsyncRun]:
        """The run each time it changes, until it has ended. A broken connection is healed."""
        async for event in self._client.events(self.number):
            data = event.get("data") or {}
            if "run" in data:
                self.data = data["run"]
                yield self
                if self.state in ENDED:
                    return

    async def why(self, address: str = "") -> JsonObject:
        """What each unfinished step of it waits for, right now.

        Args:
            address: only this part of it, e.g. `"fetch"`.
        """
        found: JsonObject = await self._client.call(http_requests.why_request(self.number, address))
        return found

    async def pause(self, reason: str = "") -> AsyncRun:
        """Begin nothing more of it; what runs stops at its next checkpoint, or finishes."""
        return await self._act("pause", reason)

    async def resume(self, reason: str = "") -> AsyncRun:
        """Let it go on after a pause."""
        return await self._act("resume", reason)

    async def cancel(self, reason: str = "", *, now: bool = False) -> AsyncRun:
        """Tell the run to stop; `now` gives what runs no grace."""
        return await self._act("cancel", reason, now=now)

    async def mend(
        self, reason: str = "", *, paused: bool = False, only: Mapping[str, str] | None = None
    ) -> AsyncRun:
        """Run again what failed, was cancelled or not reached, now that it has ended.

        Args:
            reason: why, for the record.
            paused: apply only the decisions made by hand; `resume` begins the rest.
            only: the failures to mend: the `address` of a step without the keys of items, and
                if given the `type` of its error and the `pattern` of its message.
        """
        return await self._act("mend", reason, paused=paused, only=only and dict(only))

    async def change(
        self,
        *,
        at: datetime | Duration | None = None,
        priority: int | None = None,
        tags: Sequence[str] | None = None,
        reason: str = "",
    ) -> AsyncRun:
        """Change it before it begins; what is not given stays.

        Args:
            at: when it is to begin: a time, or how long from now; 0 is now.
            priority: higher comes first.
            tags: all of them.
            reason: why, for the record.

        Raises:
            Conflict: it has begun.
        """
        self.data = await self._client.call(
            http_requests.change_request(self.number, at, priority, tags, reason)
        )
        return self

    async def _act(self, action: str, reason: str, **more: Any) -> AsyncRun:
        self.data = await self._client.call(
            http_requests.act_request(self.number, action, reason, **more)
        )
        return self

    async def rerun(self, reason: str = "", /, **changes: Any) -> AsyncRun:
        """Start its workflow anew, with its params and what is changed of them; the new run."""
        call = http_requests.rerun_request(self.number, changes, reason)
        return await self._client.begin(call, None)

    async def step(self, address: str) -> AsyncStep:
        """One of its steps, e.g. `"harbours[brackwater]/fetch"`.

        Raises:
            NotFound: the address leads to no step.
        """
        found = await self._client.call(http_requests.step_request(self.number, address))
        return AsyncStep(self._client, self.number, found)

    async def published(self, *, follow: bool = False) -> AsyncIterator[JsonObject]:
        """What its steps published: `address`, `at` and `value` of each.

        Args:
            follow: stay, and give what comes; without end.
        """
        if follow:
            path = f"/runs/{self.number}/published/live"
            async for event in self._client.stream(path):
                yield event["data"]
            return
        after = 0
        while page := (
            await self._client.call(http_requests.published_request(self.number, after))
        )["published"]:
            for entry in page:
                yield entry
            after = page[-1]["line"] + 1

    async def lines(self, address: str = "", *, text: str = "") -> AsyncIterator[JsonObject]:
        """What its steps print, as it comes, until it has ended.

        Args:
            address: only one step, or those of one item or part, until that has ended.
            text: only lines with this in them.

        Yields:
            `address` of the step, `attempt`, `at`, `stream` and `text` of each line, and the `mark`
            behind it.
        """
        path, query = http_requests.live_lines(self.number, address, text)
        async for event in self._client.stream(path, query, ends=True):
            yield event["data"]

    async def link(self, lasts: Duration = "1h", *, details: bool = False) -> JsonObject:
        """Make a link with which whoever has it may watch this run: `token`, `path`, `expires_at`.

        Args:
            lasts: until it expires.
            details: it also shows the output and errors as they are, and what steps are called.
        """
        call = http_requests.link_request(self.number, lasts, details)
        found: JsonObject = await self._client.call(call)
        return found

    async def links(self) -> list[JsonObject]:
        """Return the links to this run, newest first, without their tokens."""
        found = await self._client.call(http_requests.links_request(self.number))
        listed: list[JsonObject] = found["links"]
        return listed

    async def revoke_link(self, link: int, reason: str = "") -> JsonObject:
        """End a link before its time, given by its `id`; whoever watches with it is cut off."""
        call = http_requests.revoke_link_request(self.number, link, reason)
        found: JsonObject = await self._client.call(call)
        return found


class AsyncStep(http_requests.StepFacts):
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
        call = http_requests.step_act_request(self.run, self.address, action, **body)
        self.data = await self._client.call(call)
        return self
