"""The client for asyncio. `make generate` makes `sync_client.py` from it."""

from __future__ import annotations

import asyncio
import uuid
from collections.abc import AsyncIterator, Iterable, Mapping
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Unpack
from urllib.parse import quote

import httpx
from httpx_sse import aconnect_sse

from yarnloom.client import http_requests
from yarnloom.client.async_runs import AsyncRun
from yarnloom.client.file_transfer import Given, Incoming, OnProgress, Outgoing, list_of, named
from yarnloom.client.http_limits import NO_LIMIT, TIMEOUT, TRIES
from yarnloom.client.http_requests import API, KEEP, Request, Target
from yarnloom.client.plain_http import Connections, blocks_on_thread
from yarnloom.client.runs_filter import RunsFilter
from yarnloom.client.start_request import Start
from yarnloom.media_types import BLOCK
from yarnloom.units import Duration
from yarnloom.values import JsonObject, JsonValue, decode

if TYPE_CHECKING:
    from yarnloom.plan import Rate
    from yarnloom.sdk.file_values import File, Rows


class AsyncClient:
    """Talks to a service.

    Args:
        url: its address; else `YARNLOOM_URL`, else `http://127.0.0.1:8471`.
        token: its token; else `YARNLOOM_TOKEN`.
        who: who gives the commands, for the record; else the user and the machine.
        transport: replaces the network, for tests.
    """

    def __init__(
        self,
        url: str | None = None,
        *,
        token: str | None = None,
        who: str | None = None,
        target: Target | None = None,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        self.target = target or Target.find(url, token)
        who = who or http_requests.default_who("python")
        headers = self.target.headers(who)
        # asyncio only: hundreds of runs can be waited for at once, each with a request of its own.
        plain = transport is None and self.target.local
        self._plain = Connections(self.target, who) if plain else None
        # end
        self._http = httpx.AsyncClient(
            base_url=self.target.url,
            headers=headers,
            timeout=TIMEOUT,
            transport=transport,
            limits=NO_LIMIT,
            trust_env=not self.target.local,
            verify=self.target.secure,
        )

    async def __aenter__(self) -> AsyncClient:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the connections."""
        # asyncio only
        if self._plain is not None:
            await self._plain.close()
        # end
        await self._http.aclose()

    async def start(
        self,
        workflow: str,
        params: Mapping[str, JsonValue] | None = None,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: tuple[str, ...] = (),
        start_at: datetime | None = None,
        start_in: Duration | None = None,
        start_by: datetime | None = None,
        on_check: http_requests.OnCheck | None = None,
        **named: Any,
    ) -> AsyncRun:
        """Start a workflow; returns as soon as the run is stored.

        Args:
            workflow: its name, `loom/name` where the short one is not unique.
            params: params as a mapping; `named` ones are added.
            key: start key: starting twice with one makes one run.
            priority: higher runs first.
            share: the name fair turns count by; the run itself unless given.
            tags: words to find it by.
            start_at: not before that time; with a time zone.
            start_in: instead of it: how long from now, by the service's clock.
            start_by: it is not begun after that time, but ends cancelled as expired.
            on_check: told how far the check of files of rows is, which comes before the start.

        Raises:
            NotFound: there is no such workflow.
            InvalidInput: the params do not fit; `problems` holds all that is wrong.
            StartKeyTaken: the key belongs to a run with other params.
        """
        start = Start(
            workflow,
            {**(params or {}), **named},
            key=key,
            priority=priority,
            share=share,
            tags=tags,
            start_at=start_at,
            start_in=start_in,
            start_by=start_by,
        )
        return await self.begin(http_requests.start_request(start), on_check)

    async def begin(self, call: Request, on_check: http_requests.OnCheck | None) -> AsyncRun:
        """Send a start, as often as the check of its rows takes."""
        call = http_requests.watched(call, on_check)
        while "checking" in (data := await self.call(call)):
            if on_check:
                on_check(data["checking"])
        return AsyncRun(self, data)

    async def start_task(
        self,
        task: str,
        inputs: Mapping[str, JsonValue] | None = None,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: tuple[str, ...] = (),
        start_at: datetime | None = None,
        start_in: Duration | None = None,
        start_by: datetime | None = None,
        **named: Any,
    ) -> AsyncRun:
        """Start a single task, as a run of one step.

        Args:
            task: its name, `loom/name` where the short one is not unique.
            inputs: its inputs as a mapping; `named` ones are added.
            key: as of `start`, as are the others.

        Raises:
            NotFound: there is no such task.
            InvalidInput: the inputs do not fit; `problems` holds all that is wrong.
            StartKeyTaken: the key belongs to a run with other inputs.
        """
        start = Start(
            task,
            {**(inputs or {}), **named},
            key=key,
            priority=priority,
            share=share,
            tags=tags,
            start_at=start_at,
            start_in=start_in,
            start_by=start_by,
            task=True,
        )
        return await self.begin(http_requests.start_request(start), None)

    async def start_many(self, starts: Iterable[Start]) -> list[int]:
        """Start up to 10,000 runs in one transaction: all of them, or none; their numbers.

        They begin in their order, a few at a time. A start whose key made a run before gives that
        run's number.

        Raises:
            InvalidInput: some are not right; `problems` holds all that is wrong, by start.
            StartKeyTaken: a key belongs to a run with other params.
        """
        call = http_requests.start_many_request(starts)
        while "checking" in (data := await self.call(call)):
            pass
        return [datum["number"] for datum in data["runs"]]

    async def run(self, number: int) -> AsyncRun:
        """A run by number.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return AsyncRun(self, await self.call(http_requests.show_request(number)))

    async def runs(
        self, *, states: tuple[str, ...] = (), limit: int = 50, **wanted: Unpack[RunsFilter]
    ) -> list[AsyncRun]:
        """The newest runs: in some states, and as `RunsWanted` says."""
        page = await self.call(http_requests.list_request(states, limit, wanted))
        return [AsyncRun(self, data) for data in page["runs"]]

    async def upload(
        self,
        given: Given,
        name: str = "",
        media_type: str = "",
        *,
        on_progress: OnProgress | None = None,
    ) -> File:
        """Keep a file with the service; return its reference for params.

        Args:
            given: where it is, or its bytes.
            name: its name; of a path its own unless given.
            media_type: e.g. `"text/csv"`; as the name's ending suggests unless given.
            on_progress: told how many bytes have gone, and of how many.

        Raises:
            ValueRefused: there is no such file here.
        """
        from yarnloom.sdk.file_values import File

        return File(**await self.send(Outgoing(given, name, media_type, on_progress)))

    async def send(self, outgoing: Outgoing, attempt: int | None = None) -> JsonObject:
        """Send a file; for an attempt, whose run uses it then."""
        query = outgoing.query if attempt is None else {**outgoing.query, "attempt": attempt}
        for tries_left in reversed(range(TRIES)):
            try:
                response = await self._http.post(
                    f"{API}/files",
                    content=blocks_on_thread(outgoing),
                    params=query,
                    headers=outgoing.headers,
                )
                found: JsonObject = http_requests.read_answer(
                    self.target, response.status_code, response.content
                )
                return found
            except httpx.TransportError as error:
                if not tries_left or isinstance(error, httpx.ConnectError):
                    raise self.target.not_reachable(error) from error
        raise AssertionError("the loop returns or raises")

    async def download(
        self,
        file: File | Rows[Any] | JsonObject | str,
        target: Path | str = ".",
        *,
        on_progress: OnProgress | None = None,
    ) -> Path:
        """Fetch a file, to a path or into a folder; where it is then.

        It has its name only when it is whole. What a broken connection left out is asked for.

        Args:
            file: a file, a reference to one as values have them, or its SHA-256.
            target: a path, or a folder that there is; the folder one is in unless given.
            on_progress: told how many bytes have come, and of how many.

        Raises:
            NotFound: no such file is kept.
        """
        sha256, size, name = named(file)
        path = Path(target)
        path = path / Path(name).name if path.is_dir() else path
        with Incoming(sha256, size, path, on_progress) as incoming:
            await self.fetch(incoming)
            return incoming.finish()

    async def fetch(self, incoming: Incoming) -> None:
        """Fetch a file; where a connection breaks the rest is asked for."""
        for tries_left in reversed(range(TRIES)):
            before = incoming.have
            try:
                async with self._http.stream(
                    "GET", f"{API}/files/{incoming.sha256}", headers=incoming.headers
                ) as response:
                    if response.status_code >= 400:
                        body = await response.aread()
                        http_requests.read_answer(self.target, response.status_code, body)
                    incoming.begin(response.status_code)
                    async for block in response.aiter_bytes(BLOCK):
                        incoming.take(block)
                    return
            except httpx.TransportError as error:
                if not tries_left and incoming.have == before:
                    raise self.target.not_reachable(error) from error

    async def rows(self, value: Rows[Any] | JsonObject) -> AsyncIterator[Any]:
        """Go through a list that is kept as a file, such as a large output; one row in memory.

        Raises:
            NotFound: it is not kept.
        """
        sha256 = list_of(value)
        async with self._http.stream("GET", f"{API}/files/{sha256}") as response:
            if response.status_code >= 400:
                body = await response.aread()
                http_requests.read_answer(self.target, response.status_code, body)
            async for line in response.aiter_lines():
                yield decode(line)

    async def blocks(
        self, path: str, query: Mapping[str, JsonValue] | None = None
    ) -> AsyncIterator[bytes]:
        """What a path answers, as it comes."""
        try:
            async with self._http.stream("GET", API + path, params=dict(query or {})) as response:
                if response.status_code >= 400:
                    body = await response.aread()
                    http_requests.read_answer(self.target, response.status_code, body)
                async for block in response.aiter_bytes(BLOCK):
                    yield block
        except httpx.TransportError as error:
            raise self.target.not_reachable(error) from error

    async def files(self, limit: int = 50) -> list[JsonObject]:
        """The newest files that are kept."""
        found: list[JsonObject] = (await self.call(http_requests.files_request(limit)))["files"]
        return found

    async def pools(self) -> list[JsonObject]:
        """Every pool: its limits, and how it is used now."""
        found: list[JsonObject] = (await self.call(Request("GET", "/pools")))["pools"]
        return found

    async def change_pool(
        self,
        name: str,
        *,
        limit: int | None = KEEP,
        rate: Rate | None = KEEP,
        note: str = KEEP,
        paused: bool = KEEP,
        as_declared: bool = False,
        reason: str = "",
    ) -> JsonObject:
        """Change what is given of a pool, at once; the pool as it is then.

        Args:
            name: the pool's.
            limit: how many attempts may run at once; None for any number, 0 halts.
            rate: how many may begin in a time; None for any number.
            note: what it is for.
            paused: True begins nothing of it any more, False goes on.
            as_declared: first forget what was set by hand before.
            reason: why, for the record.

        Raises:
            NotFound: there is none of that name.
        """
        settings = {"limit": limit, "rate": rate, "note": note, "paused": paused}
        call = http_requests.pool_request(name, **settings, as_declared=as_declared, reason=reason)
        found: JsonObject = await self.call(call)
        return found

    async def schedules(self) -> list[JsonObject]:
        """Every schedule: what it starts and when next, and what came of it last."""
        found: list[JsonObject] = (await self.call(Request("GET", "/schedules")))["schedules"]
        return found

    async def make_schedule(
        self, name: str, *, workflow: str, cron: str, paused: bool = False, **settings: Any
    ) -> JsonObject:
        """Make a schedule by hand; looms declare theirs with `loom.schedule`.

        Args:
            name: the schedule's.
            workflow: what it starts.
            cron: when: minute, hour, day of month, month, day of week.
            paused: whether it is made paused.
            settings: `zone`, `params`, `if_busy`, `missed`, `priority`, `share`, `tags`, `note` and
                `reason`, as of `loom.schedule`.

        Raises:
            InvalidInput: something is not right; `problems` holds all that is wrong.
        """
        body = {"name": name, "workflow": workflow, "cron": cron, "paused": paused, **settings}
        found: JsonObject = await self.call(Request("POST", "/schedules", body))
        return found

    async def change_schedule(
        self, name: str, *, paused: bool = KEEP, as_declared: bool = False, **settings: Any
    ) -> JsonObject:
        """Change what is given of a schedule, at once; the schedule as it is then.

        Args:
            name: the schedule's.
            paused: True pauses it, False lets it go on.
            as_declared: first forget what was changed by hand before.
            settings: as of `make_schedule`, with `workflow` and `cron`.

        Raises:
            NotFound: there is none of that name.
            InvalidInput: something is not right then.
        """
        call = http_requests.schedule_request(
            name, paused=paused, as_declared=as_declared, **settings
        )
        found: JsonObject = await self.call(call)
        return found

    async def start_schedule(self, name: str, *, reason: str = "") -> AsyncRun:
        """Start what a schedule starts, now, also while it is paused.

        Raises:
            NotFound: there is none of that name.
        """
        body = {"key": uuid.uuid4().hex, "reason": reason}
        path = f"/schedules/{quote(name, safe='')}/start"
        return AsyncRun(self, await self.call(Request("POST", path, body)))

    async def call(self, call: Request) -> Any:
        """Send a request, again where that is safe and the connection broke.

        Raises:
            YarnloomError: as the answer says.
            NotReachable: nothing answers.
        """
        # asyncio only
        if self._plain is not None:
            return await self._plain.call(call)
        # end
        for tries_left in reversed(range(TRIES)):
            try:
                response = await self._http.request(
                    call.method,
                    API + call.path,
                    content=call.content,
                    params=call.query,
                    headers={"Content-Type": "application/json"} if call.body is not None else {},
                )
                return http_requests.read_answer(
                    self.target, response.status_code, response.content
                )
            except (httpx.RemoteProtocolError, httpx.ReadError, httpx.WriteError) as error:
                if not call.again or not tries_left:
                    raise self.target.not_reachable(error) from error
            except (httpx.TransportError, httpx.InvalidURL, httpx.UnsupportedProtocol) as error:
                raise self.target.not_reachable(error) from error
        raise AssertionError("the loop returns or raises")

    async def events(self, run: int | None = None) -> AsyncIterator[JsonObject]:
        """CloudEvents as they come; after a broken connection from where it broke."""
        async for event in self.stream("/events", {} if run is None else {"run": run}):
            yield event

    async def stream(
        self, path: str, query: Mapping[str, JsonValue] | None = None, *, ends: bool = False
    ) -> AsyncIterator[JsonObject]:
        """The events of a path; after a broken connection from where it broke.

        Args:
            path: below `/api/v1`.
            query: what is asked for.
            ends: whether the service ends the stream when there is nothing more to come.
        """
        last_id, failures = "", 0
        while True:
            headers = {"Last-Event-ID": last_id} if last_id else {}
            try:
                async with aconnect_sse(
                    self._http, "GET", API + path, params=dict(query or {}), headers=headers
                ) as source:
                    if source.response.status_code >= 400:
                        body = await source.response.aread()
                        http_requests.read_answer(self.target, source.response.status_code, body)
                    async for event in source.aiter_sse():
                        failures = 0
                        if event.data:
                            last_id = event.id or last_id
                            yield event.json()
                if ends:
                    return
            except httpx.TransportError as error:
                failures += 1
                if failures > 6:
                    raise self.target.not_reachable(error) from error
            await asyncio.sleep(min(5.0, 0.1 * 2**failures))
