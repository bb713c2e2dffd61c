"""The client for asyncio. `make generate` makes `sync_client.py` from it."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, ParamSpec, TypeVar, Unpack, overload
from urllib.parse import quote

from yarnloom.client import http_requests
from yarnloom.client.async_file_calls import AsyncFileCalls
from yarnloom.client.async_runs import AsyncRun
from yarnloom.client.async_setting_calls import AsyncSettingCalls
from yarnloom.client.http_messages import ConnectionLost, HttpRequest
from yarnloom.client.http_requests import Request
from yarnloom.client.run_facts import read
from yarnloom.client.runs_filter import RunsFilter
from yarnloom.client.start_request import Start, WatchedStartOptions, start_of
from yarnloom.errors import WaitTimeout
from yarnloom.start_keys import generated_key
from yarnloom.units import Duration
from yarnloom.values import JsonObject

if TYPE_CHECKING:
    from yarnloom.protocol.overview_answers import OverviewAnswer, RunCounts
    from yarnloom.protocol.part_answers import LogLine
    from yarnloom.protocol.run_answers import BulkAnswer, LinkedRun, RunCommandAnswer, RunStateWord
    from yarnloom.protocol.workflow_answers import ServiceAnswer
    from yarnloom.sdk.calls import Call, Startable, Task, Workflow

P = ParamSpec("P")
R = TypeVar("R")
BulkAction = Literal["pause", "resume", "cancel", "mend"]


class AsyncClient(AsyncSettingCalls, AsyncFileCalls):
    """Talks to a service.

    Args:
        url: its address; else `YARNLOOM_URL`, else the service of the user's data folder, else
            `http://127.0.0.1:8471`. One of the same user on this machine is reached by its Unix
            socket, and needs no token.
        token: its token; else that in the file `YARNLOOM_TOKEN_FILE`, else `YARNLOOM_TOKEN`.
        who: who gives the commands, for the record; else the user and the machine.
        transport: replaces the network, for tests.
        wait_for_service: how long a call waits for a service that comes up, or is busy.
    """

    # Starting

    @overload
    async def start(
        self, target: Call[R], /, **options: Unpack[WatchedStartOptions]
    ) -> AsyncRun[R]: ...
    @overload
    async def start(
        self, target: str, params: Mapping[str, Any], /, **options: Unpack[WatchedStartOptions]
    ) -> AsyncRun[Any]: ...
    @overload
    async def start(
        self,
        target: str,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: Sequence[str] = (),
        at: datetime | None = None,
        after: Duration | None = None,
        start_by: datetime | None = None,
        on_check: http_requests.OnCheck | None = None,
        **named: Any,
    ) -> AsyncRun[Any]: ...
    @overload
    async def start(
        self, target: Task[P, R] | Workflow[P, R], /, *inputs: P.args, **named: P.kwargs
    ) -> AsyncRun[R]: ...
    async def start(self, target: Any, /, *given: Any, **named: Any) -> AsyncRun[Any]:
        """Start a run; returns as soon as the run is stored.

        In three forms: a call with options, `start(report.of(year=2027), key="k")`; a task or
        workflow with its inputs, `start(add, x=1)`; a name with params, `start("report",
        year=2027, key="k")`. After a name a keyword is an option where there is one; the service
        refuses one that is a param, too. With a mapping of params keywords are options only.

        Args:
            target: a call; a task or workflow; or a name, `loom/name` where the short one is not
                unique.
            given: after a task its inputs; after a name a mapping of params.
            named: inputs, or options. The options are:
            key: start key: starting twice with one makes one run.
            priority: higher runs first.
            share: the name fair turns count by; the run itself unless given.
            tags: words to find it by.
            at: not before that time; with a time zone.
            after: instead of it: how long from now, by the service's clock.
            start_by: it is not begun after that time, but ends cancelled as expired.
            on_check: told how far the check of files of rows is, which comes before the start.

        Raises:
            NotFound: there is no such workflow or task.
            InvalidInput: the params do not fit; `problems` holds all that is wrong.
            StartKeyTaken: the key belongs to a run with other params.
            ValueRefused: a param has no JSON form.
        """
        takes_inputs = not isinstance(target, str) and hasattr(target, "bind")
        on_check = None if takes_inputs else named.pop("on_check", None)
        start, declared = start_of(target, given, named)
        return await self.begin(http_requests.start_request(start), on_check, declared)

    async def begin(
        self,
        request: Request,
        on_check: http_requests.OnCheck | None,
        declared: Startable[Any] | None = None,
    ) -> AsyncRun[Any]:
        """Send a start, as often as the check of its rows takes."""
        request = http_requests.watched(request, on_check)
        while "checking" in (data := await self.call(request)):
            if on_check:
                on_check(data["checking"])
        return AsyncRun(self, data, declared)

    async def start_many(self, starts: Iterable[Start | Call[Any]]) -> list[int]:
        """Start up to 10,000 runs in one transaction: all of them, or none; their numbers.

        They begin in their order, a few at a time. A start whose key made a run before gives that
        run's number.

        Args:
            starts: calls, or with options `Start(letter.of(order=17), key="17")`.

        Raises:
            InvalidInput: some are not right; `problems` holds all that is wrong, by start.
            StartKeyTaken: a key belongs to a run with other params.
        """
        request = http_requests.start_many_request(starts)
        while "checking" in (data := await self.call(request)):
            pass
        return [datum["number"] for datum in data["runs"]]

    async def start_schedule(self, name: str, *, reason: str = "") -> AsyncRun[Any]:
        """Start a run of a schedule now, also while the schedule is paused.

        Raises:
            NotFound: there is none of that name.
        """
        body = {"key": generated_key(), "reason": reason}
        path = f"/schedules/{quote(name, safe='')}/start"
        return await self.begin(Request("POST", path, body), None)

    # Runs

    @overload
    async def run(self, number: int) -> AsyncRun[Any]: ...
    @overload
    async def run(self, number: int, *, of: Startable[R]) -> AsyncRun[R]: ...
    async def run(self, number: int, *, of: Any = None) -> AsyncRun[Any]:
        """A run by number.

        Args:
            number: the run's.
            of: its task or workflow, which says of what type its output is.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return AsyncRun(self, await self.call(http_requests.show_request(number)), of)

    def runs(
        self,
        *,
        states: Sequence[RunStateWord] = (),
        limit: int | None = None,
        **filters: Unpack[RunsFilter],
    ) -> AsyncIterator[AsyncRun[Any]]:
        """Go through runs, newest first, page by page.

        Args:
            states: only those in one of these states.
            limit: at most so many; all unless given.
            filters: as `RunsFilter` says.
        """
        # Not a generator itself: a wrong filter is refused here, not where it is gone through.
        return self._runs(http_requests.runs_query(states, filters), limit)

    async def _runs(self, query: JsonObject, limit: int | None) -> AsyncIterator[AsyncRun[Any]]:
        async for data in self.pages("/runs", "runs", query, limit):
            yield AsyncRun(self, data)

    async def counts(self) -> RunCounts:
        """How many runs are in each state."""
        from yarnloom.protocol.overview_answers import RunCounts

        return read(RunCounts, await self._get("/runs/counts"))

    async def act_on_runs(
        self,
        action: BulkAction,
        *,
        count: int | None = None,
        states: Sequence[RunStateWord] = (),
        reason: str = "",
        now: bool = False,
        paused: bool = False,
        **filters: Unpack[RunsFilter],
    ) -> BulkAnswer:
        """Pause, resume, cancel or mend every run that a filter finds.

        Args:
            action: the command.
            count: how many they are. Without it nothing is done, and `count` of the answer says
                how many they would be.
            states: only those in one of these states.
            reason: why, for the record.
            now: of a cancel: running attempts get no grace.
            paused: of a mend: nothing begins until a resume.
            filters: as `RunsFilter` says.

        Raises:
            Conflict: they are another number than `count`.
        """
        from yarnloom.protocol.run_answers import BulkAnswer

        more: dict[str, Any] = {"states": list(states), "now": now, "paused": paused, **filters}
        request = http_requests.bulk_request(action, count, reason, **more)
        return read(BulkAnswer, await self.call(request))

    async def commands(
        self,
        *,
        run: int | None = None,
        who: str | None = None,
        what: str | None = None,
        limit: int | None = None,
    ) -> AsyncIterator[RunCommandAnswer]:
        """Go through the commands that were given, newest first: who, what, when and why.

        Args:
            run: only for this run.
            who: only by this one.
            what: only of this kind, e.g. "cancel".
            limit: at most so many; all unless given.
        """
        from yarnloom.protocol.run_answers import RunCommandAnswer

        query = {"run": run, "who": who, "what": what}
        async for data in self.pages("/commands", "commands", query, limit):
            if "unreadable" not in data:
                yield read(RunCommandAnswer, data)

    async def lines(self, *, text: str = "") -> AsyncIterator[LogLine]:
        """Lines that the steps of all runs print, from now on, without end.

        Args:
            text: only lines with this in them.
        """
        from yarnloom.protocol.part_answers import LogLine

        async for event in self.stream("/lines/live", {"text": text} if text else {}):
            yield read(LogLine, {"line": 0, **event["data"]})

    # The service

    async def ready(self, *, timeout: float = 30.0) -> None:
        """Wait until the service answers that it is ready.

        Args:
            timeout: seconds.

        Raises:
            WaitTimeout: it is not ready by then; the message says why.
        """
        until = time.monotonic() + timeout
        url = f"{self.target.url}/ready"
        while True:
            try:
                answer = await self._transport.request(HttpRequest("GET", url, self._headers))
                if answer.status == 200:
                    return
                why = f"it answers {answer.status}"
            except ConnectionLost as error:
                why = str(error) or "nothing answers"
            if time.monotonic() >= until:
                raise WaitTimeout(
                    f"the service at {self.target.url} is not ready after {timeout:g} s: {why}"
                )
            await asyncio.sleep(0.1)

    async def overview(self) -> OverviewAnswer:
        """Running, full and failed things at a glance."""
        from yarnloom.protocol.overview_answers import OverviewAnswer

        return read(OverviewAnswer, await self._get("/overview"))

    async def service(self) -> ServiceAnswer:
        """The service's version, data folder and health."""
        from yarnloom.protocol.workflow_answers import ServiceAnswer

        return read(ServiceAnswer, await self._get("/service"))

    async def linked_run(self, token: str) -> LinkedRun:
        """A run as a link shows it, by the link's token.

        Raises:
            NotFound: the link has expired, or was revoked.
        """
        from yarnloom.protocol.run_answers import LinkedRun

        return read(LinkedRun, await self._get(f"/links/{quote(token, safe='')}"))

    async def events(self, run: int | None = None) -> AsyncIterator[JsonObject]:
        """CloudEvents as they come; after a broken connection from where it broke."""
        async for event in self.stream("/events", {} if run is None else {"run": run}):
            yield event
