"""Runs for asyncio. `make generate` makes `runs.py` from it."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, Literal, TypeVar
from urllib.parse import quote

from yarnloom.client import http_requests
from yarnloom.client.async_steps import AsyncStep
from yarnloom.client.http_requests import ENDED, KEEP, Request
from yarnloom.client.run_facts import RunFacts, read, read_list
from yarnloom.units import Duration
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.client.async_client import AsyncClient
    from yarnloom.protocol.overview_answers import GlanceAnswer, RunLine
    from yarnloom.protocol.part_answers import (
        EachPart,
        ItemAnswer,
        LogLine,
        ParallelPart,
        PublishedEntry,
        SequencePart,
        StepPart,
    )
    from yarnloom.protocol.run_answers import (
        AttemptTimes,
        CommandAnswer,
        EffectAnswer,
        FailuresAnswer,
        LinkAnswer,
        MadeLink,
        Outliers,
        SettledAnswer,
        TimesAnswer,
        WhyAnswer,
    )
    from yarnloom.sdk.calls import Startable

R = TypeVar("R")
LONGEST_WAIT = 20.0


class AsyncRun(RunFacts, Generic[R]):
    """A run, as it was when it was last looked at. `refresh`, `wait` and `follow` look again."""

    __slots__ = ("_client", "_declared")

    def __init__(
        self, client: AsyncClient, data: JsonObject, declared: Startable[R] | None = None
    ) -> None:
        super().__init__(data)
        self._client = client
        self._declared = declared

    @property
    def url(self) -> str:
        """The address of its page in the console."""
        return f"{self._client.target.url}/runs/{self.number}"

    @property
    def output(self) -> R | None:
        """Its output, None as long as it is not done.

        Raises:
            OutputRefused: it does not fit the type that its task or workflow declares here.
        """
        return None if self.data["output"] is None else self._typed(self.data["output"])

    def _typed(self, value: JsonValue) -> R:
        found: R = value if self._declared is None else self._declared.read_output(value)
        return found

    async def refresh(self) -> AsyncRun[R]:
        """Look again."""
        self.data = await self._client.call(http_requests.show_request(self.number))
        return self

    async def wait(self, timeout: float | None = None) -> R:
        """Wait for the run's end, of a mended run that of its new round; its output.

        Args:
            timeout: seconds; None waits as long as it takes.

        Raises:
            RunFailed: it failed.
            RunCancelled: it was cancelled.
            WaitTimeout: it goes on.
            OutputRefused: its output does not fit the type that is declared here.
        """
        until = None if timeout is None else time.monotonic() + timeout
        # Somebody may have mended it since the last request, so ask the service first.
        while True:
            left = LONGEST_WAIT if until is None else min(LONGEST_WAIT, until - time.monotonic())
            self.data = await self._client.call(
                http_requests.show_request(self.number, max(0.0, left))
            )
            if self.state in ENDED:
                return self._typed(http_requests.output_of(self.data))
            if left <= 0:
                raise http_requests.still_going(self.data, timeout or 0.0)

    async def follow(self) -> AsyncIterator[AsyncRun[R]]:
        """The run each time it changes, until it has ended. A broken connection is healed."""
        async for event in self._client.events(self.number):
            data = event.get("data") or {}
            if "run" in data:
                self.data = data["run"]
                yield self
                if self.state in ENDED:
                    return

    # Its contents

    async def why(self, address: str = "") -> WhyAnswer:
        """What each unfinished step of it waits for, right now.

        Args:
            address: only this part of it, e.g. `"fetch"`.
        """
        from yarnloom.protocol.run_answers import WhyAnswer

        request = http_requests.why_request(self.number, address)
        return read(WhyAnswer, await self._client.call(request))

    async def graph(
        self, address: str = "", *, at: datetime | None = None
    ) -> SequencePart | ParallelPart | EachPart | StepPart:
        """Its parts as a tree, each with its state.

        Args:
            address: only this part or item.
            at: as they were at that moment.
        """
        from yarnloom.protocol.part_answers import EachPart, ParallelPart, SequencePart, StepPart

        data = await self._get("/graph", address=address, at=at and at.isoformat())
        match data["kind"]:
            case "step":
                return read(StepPart, data)
            case "sequence":
                return read(SequencePart, data)
            case "parallel":
                return read(ParallelPart, data)
        return read(EachPart, data)

    async def glance(self) -> GlanceAnswer:
        """A summary in one line: moving and held parts, time left."""
        from yarnloom.protocol.overview_answers import GlanceAnswer

        return read(GlanceAnswer, await self._get("/glance"))

    async def step(self, address: str) -> AsyncStep:
        """One of its steps, e.g. `"harbours[brackwater]/fetch"`.

        Raises:
            NotFound: the address leads to no step.
        """
        data = await self._client.call(http_requests.step_request(self.number, address))
        return AsyncStep(self._client, self.number, data)

    async def steps(self, item: str = "") -> list[StepPart]:
        """Its steps, or those of one item; of an each the steps that it repeats stand once.

        Args:
            item: address of an item, e.g. `"harbours[brackwater]"`.
        """
        from yarnloom.protocol.part_answers import StepList

        return read(StepList, await self._get("/steps", inside=item)).steps

    async def items(
        self, address: str, *, state: str | None = None, text: str = "", limit: int | None = None
    ) -> AsyncIterator[ItemAnswer]:
        """Go through the items of an each, page by page.

        Args:
            address: the each's, e.g. `"harbours"`.
            state: only items in this state.
            text: only items with this in their name.
            limit: at most so many; all unless given.
        """
        from yarnloom.protocol.part_answers import ItemAnswer

        query = {"address": address, "state": state, "text": text}
        async for data in self._pages("items", query, limit):
            if "unreadable" not in data:
                yield read(ItemAnswer, data)

    async def attempts(
        self, address: str = "", *, limit: int | None = None
    ) -> AsyncIterator[AttemptTimes]:
        """Go through its attempts: when each could begin, began and ended, and where.

        Args:
            address: only those of this step or part.
            limit: at most so many; all unless given.
        """
        from yarnloom.protocol.run_answers import AttemptTimes

        async for data in self._pages("attempts", {"address": address}, limit):
            yield read(AttemptTimes, data)

    async def failures(self) -> FailuresAnswer:
        """What failed in it, by kind, the most frequent first."""
        from yarnloom.protocol.run_answers import FailuresAnswer

        return read(FailuresAnswer, await self._get("/failures"))

    async def times(self) -> TimesAnswer:
        """Where its time went, by step and slice of time."""
        from yarnloom.protocol.run_answers import TimesAnswer

        return read(TimesAnswer, await self._get("/times"))

    async def outliers(self, address: str, *, limit: int = 5) -> Outliers:
        """Attempts of a step, or of all steps in an each, that stand out.

        Args:
            address: the step's or each's, without the keys of items.
            limit: at most so many slow ones and so many failed ones.
        """
        from yarnloom.protocol.run_answers import Outliers

        return read(Outliers, await self._get("/outliers", address=address, limit=limit))

    async def log(
        self, attempt: str, *, text: str = "", follow: bool = False
    ) -> AsyncIterator[LogLine]:
        """Go through what one attempt printed and logged.

        Args:
            attempt: its address, e.g. `"fetch#2"`.
            text: only lines with this in them; only while it is followed.
            follow: stay until it has ended; else end with what there is.
        """
        from yarnloom.protocol.part_answers import LogLine

        if follow:
            path, query = http_requests.live_lines(self.number, attempt, text)
            async for event in self._client.stream(path, query, ends=True):
                yield read(LogLine, event["data"])
            return
        after = 0
        while lines := (await self._get("/log", address=attempt, after=after))["lines"]:
            for data in lines:
                yield read(LogLine, data)
            after = lines[-1]["line"] + 1

    async def lines(
        self, address: str = "", *, text: str = "", follow: bool = True
    ) -> AsyncIterator[RunLine]:
        """What its steps print, in the order in which it came.

        Args:
            address: only one step, or those of one item or part.
            text: only lines with this in them.
            follow: stay until it has ended; else end with what there is.
        """
        from yarnloom.protocol.overview_answers import RunLine

        if follow:
            path, query = http_requests.live_lines(self.number, address, text)
            async for event in self._client.stream(path, query, ends=True):
                yield read(RunLine, event["data"])
            return
        after: str | None = ""
        while after is not None:
            page = await self._client.call(
                http_requests.lines_request(self.number, address, text, after=after)
            )
            for data in page["lines"]:
                yield read(RunLine, data)
            after = page["next"]

    async def published(self, *, follow: bool = False) -> AsyncIterator[PublishedEntry]:
        """What its steps published.

        Args:
            follow: stay, and give what comes; without end.
        """
        from yarnloom.protocol.part_answers import PublishedEntry

        if follow:
            path = f"/runs/{self.number}/published/live"
            async for event in self._client.stream(path):
                yield read(PublishedEntry, event["data"])
            return
        after = 0
        while page := (
            await self._client.call(http_requests.published_request(self.number, after))
        )["published"]:
            for data in page:
                yield read(PublishedEntry, data)
            after = page[-1]["line"] + 1

    async def commands(self) -> list[CommandAnswer]:
        """Who gave which command for it, when and why."""
        from yarnloom.protocol.run_answers import CommandAnswer

        data = (await self._get("/commands"))["commands"]
        return read_list(CommandAnswer, data)

    async def ledger(self) -> list[EffectAnswer]:
        """The side effects that it has begun and done, by `ctx.once`."""
        from yarnloom.protocol.run_answers import EffectAnswer

        data = (await self._get("/ledger"))["effects"]
        return read_list(EffectAnswer, data)

    async def settle(
        self, what: str, *, done: bool, address: str = "", value: JsonValue = KEEP, reason: str = ""
    ) -> SettledAnswer:
        """Say whether something unsure was done.

        Args:
            what: the entry of the ledger.
            done: whether it was.
            address: the step's, within the run; empty where the entry is the run's.
            value: the result; needed where it was done and the step uses it.
            reason: why, for the record.

        Raises:
            NotFound: the ledger has no such entry.
            Conflict: an attempt has used it, or is doing it now.
        """
        from yarnloom.protocol.run_answers import SettledAnswer

        given = {} if value is KEEP else {"value": value}
        request = http_requests.settle_request(
            self.number, address, what, done=done, reason=reason, **given
        )
        return read(SettledAnswer, await self._client.call(request))

    async def export(
        self,
        address: str,
        target: Path | str,
        *,
        form: Literal["csv", "json-lines"] = "csv",
        state: str | None = None,
    ) -> Path:
        """Write the items of an each to a file, with their outcomes and outputs.

        Args:
            address: the each's.
            target: the file.
            form: "csv", or "json-lines" for one JSON object a line.
            state: only items in this state.
        """
        query = {"address": address, "as": form, "state": state}
        given = {name: value for name, value in query.items() if value is not None}
        path = Path(target)
        with path.open("wb") as file:
            async for block in self._client.blocks(f"/runs/{self.number}/export", given):
                file.write(block)
        return path

    async def export_record(self, target: Path | str) -> Path:
        """Write everything that is kept of it to a file, as JSON."""
        path = Path(target)
        with path.open("wb") as file:
            async for block in self._client.blocks(f"/runs/{self.number}/record"):
                file.write(block)
        return path

    # Control

    async def pause(self, reason: str = "") -> AsyncRun[R]:
        """Begin nothing more of it; what runs stops at its next checkpoint, or finishes."""
        return await self._act("pause", reason)

    async def resume(self, reason: str = "") -> AsyncRun[R]:
        """Let it go on after a pause."""
        return await self._act("resume", reason)

    async def cancel(self, reason: str = "", *, now: bool = False) -> AsyncRun[R]:
        """Tell the run to stop; `now` gives what runs no grace."""
        return await self._act("cancel", reason, now=now)

    async def mend(
        self, reason: str = "", *, paused: bool = False, only: Mapping[str, str] | None = None
    ) -> AsyncRun[R]:
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
        at: datetime | None = None,
        after: Duration | None = None,
        priority: int | None = None,
        tags: Sequence[str] | None = None,
        reason: str = "",
    ) -> AsyncRun[R]:
        """Change it before it begins; what is not given stays.

        Args:
            at: when it is to begin; with a time zone.
            after: instead of it: how long from now; 0 is now.
            priority: higher comes first.
            tags: all of them.
            reason: why, for the record.

        Raises:
            Conflict: it has begun.
        """
        request = http_requests.change_request(self.number, at, after, priority, tags, reason)
        self.data = await self._client.call(request)
        return self

    async def _act(self, action: str, reason: str, **more: Any) -> AsyncRun[R]:
        request = http_requests.act_request(self.number, action, reason, **more)
        self.data = await self._client.call(request)
        return self

    async def rerun(self, reason: str = "", /, **changes: Any) -> AsyncRun[R]:
        """Start its workflow anew, with its params and what is changed of them; the new run."""
        request = http_requests.rerun_request(self.number, changes, reason)
        return await self._client.begin(request, None, self._declared)

    # Links

    async def link(self, lasts: Duration = "1h", *, details: bool = False) -> MadeLink:
        """Make a link; everybody with it may watch this run.

        Args:
            lasts: until it expires.
            details: it also shows the output and errors as they are, and what steps are called.
        """
        from yarnloom.protocol.run_answers import MadeLink

        request = http_requests.link_request(self.number, lasts, details)
        return read(MadeLink, await self._client.call(request))

    async def links(self) -> AsyncIterator[LinkAnswer]:
        """Go through the links to this run, newest first, without their tokens."""
        from yarnloom.protocol.run_answers import LinkAnswer

        async for data in self._pages("links", {}, None):
            yield read(LinkAnswer, data)

    async def revoke_link(self, link: int, reason: str = "") -> LinkAnswer:
        """End a link before its time, given by its `id`; whoever watches with it is cut off."""
        from yarnloom.protocol.run_answers import LinkAnswer

        request = http_requests.revoke_link_request(self.number, link, reason)
        return read(LinkAnswer, await self._client.call(request))

    async def _get(self, path: str, **query: JsonValue) -> Any:
        given = {name: value for name, value in query.items() if value not in (None, "")}
        return await self._client.call(Request("GET", f"/runs/{self.number}{path}", query=given))

    async def _pages(
        self, field: str, query: JsonObject, limit: int | None
    ) -> AsyncIterator[JsonObject]:
        path = f"/runs/{self.number}/{quote(field)}"
        async for data in self._client.pages(path, field, query, limit):
            yield data
