"""Made from `async_runs.py` by `make generate`: change that file instead."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from yarnloom.client import http_requests
from yarnloom.client.http_requests import ENDED, KEEP
from yarnloom.units import Duration
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.client.sync_client import Client


class Run(http_requests.RunFacts):
    """A run, as it was when it was last looked at. `refresh`, `wait` and `follow` look again."""

    def __init__(self, client: Client, data: JsonObject) -> None:
        super().__init__(data)
        self._client = client

    def refresh(self) -> Run:
        """Look again."""
        self.data = self._client.call(http_requests.show_request(self.number))
        return self

    def wait(self, timeout: float | None = None) -> JsonValue:
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
            self.data = self._client.call(http_requests.show_request(self.number, left))
        return http_requests.output_of(self.data)

    def follow(self) -> Iterator[Run]:
        """The run each time it changes, until it has ended. A broken connection is healed."""
        for event in self._client.events(self.number):
            data = event.get("data") or {}
            if "run" in data:
                self.data = data["run"]
                yield self
                if self.state in ENDED:
                    return

    def why(self, address: str = "") -> JsonObject:
        """What each unfinished step of it waits for, right now.

        Args:
            address: only this part of it, e.g. `"fetch"`.
        """
        found: JsonObject = self._client.call(http_requests.why_request(self.number, address))
        return found

    def pause(self, reason: str = "") -> Run:
        """Begin nothing more of it; what runs stops at its next checkpoint, or finishes."""
        return self._act("pause", reason)

    def resume(self, reason: str = "") -> Run:
        """Let it go on after a pause."""
        return self._act("resume", reason)

    def cancel(self, reason: str = "", *, now: bool = False) -> Run:
        """Tell the run to stop; `now` gives what runs no grace."""
        return self._act("cancel", reason, now=now)

    def mend(
        self, reason: str = "", *, paused: bool = False, only: Mapping[str, str] | None = None
    ) -> Run:
        """Run again what failed, was cancelled or not reached, now that it has ended.

        Args:
            reason: why, for the record.
            paused: apply only the decisions made by hand; `resume` begins the rest.
            only: the failures to mend: the `address` of a step without the keys of items, and
                if given the `type` of its error and the `pattern` of its message.
        """
        return self._act("mend", reason, paused=paused, only=only and dict(only))

    def change(
        self,
        *,
        at: datetime | Duration | None = None,
        priority: int | None = None,
        tags: Sequence[str] | None = None,
        reason: str = "",
    ) -> Run:
        """Change it before it begins; what is not given stays.

        Args:
            at: when it is to begin: a time, or how long from now; 0 is now.
            priority: higher comes first.
            tags: all of them.
            reason: why, for the record.

        Raises:
            Conflict: it has begun.
        """
        self.data = self._client.call(
            http_requests.change_request(self.number, at, priority, tags, reason)
        )
        return self

    def _act(self, action: str, reason: str, **more: Any) -> Run:
        self.data = self._client.call(
            http_requests.act_request(self.number, action, reason, **more)
        )
        return self

    def rerun(self, reason: str = "", /, **changes: Any) -> Run:
        """Start its workflow anew, with its params and what is changed of them; the new run."""
        call = http_requests.rerun_request(self.number, changes, reason)
        return self._client.begin(call, None)

    def step(self, address: str) -> Step:
        """One of its steps, e.g. `"harbours[brackwater]/fetch"`.

        Raises:
            NotFound: the address leads to no step.
        """
        found = self._client.call(http_requests.step_request(self.number, address))
        return Step(self._client, self.number, found)

    def published(self, *, follow: bool = False) -> Iterator[JsonObject]:
        """What its steps published: `address`, `at` and `value` of each.

        Args:
            follow: stay, and give what comes; without end.
        """
        if follow:
            path = f"/runs/{self.number}/published/live"
            for event in self._client.stream(path):
                yield event["data"]
            return
        after = 0
        while page := (self._client.call(http_requests.published_request(self.number, after)))[
            "published"
        ]:
            yield from page
            after = page[-1]["line"] + 1

    def lines(self, address: str = "", *, text: str = "") -> Iterator[JsonObject]:
        """What its steps print, as it comes, until it has ended.

        Args:
            address: only one step, or those of one item or part, until that has ended.
            text: only lines with this in them.

        Yields:
            `address` of the step, `attempt`, `at`, `stream` and `text` of each line, and the `mark`
            behind it.
        """
        path, query = http_requests.live_lines(self.number, address, text)
        for event in self._client.stream(path, query, ends=True):
            yield event["data"]

    def link(self, lasts: Duration = "1h", *, details: bool = False) -> JsonObject:
        """Make a link with which whoever has it may watch this run: `token`, `path`, `expires_at`.

        Args:
            lasts: until it expires.
            details: it also shows the output and errors as they are, and what steps are called.
        """
        call = http_requests.link_request(self.number, lasts, details)
        found: JsonObject = self._client.call(call)
        return found

    def links(self) -> list[JsonObject]:
        """Return the links to this run, newest first, without their tokens."""
        found = self._client.call(http_requests.links_request(self.number))
        listed: list[JsonObject] = found["links"]
        return listed

    def revoke_link(self, link: int, reason: str = "") -> JsonObject:
        """End a link before its time, given by its `id`; whoever watches with it is cut off."""
        call = http_requests.revoke_link_request(self.number, link, reason)
        found: JsonObject = self._client.call(call)
        return found


class Step(http_requests.StepFacts):
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
        call = http_requests.step_act_request(self.run, self.address, action, **body)
        self.data = self._client.call(call)
        return self
