"""The client for ordinary Python."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from types import TracebackType
from typing import TYPE_CHECKING, Any

import httpx
from httpx_sse import connect_sse

from yarnloom.client import wire
from yarnloom.client.wire import API, ENDED, KEEP, Call, JsonObject, Target

if TYPE_CHECKING:
    from yarnloom.plan import Rate

TRIES = 4
TIMEOUT = httpx.Timeout(10.0, read=40.0)


class Run(wire.RunFacts):
    """A run, as it was when it was last looked at. `refresh`, `wait` and `follow` look again."""

    def __init__(self, client: Client, data: JsonObject) -> None:
        super().__init__(data)
        self._client = client

    def refresh(self) -> Run:
        """Look again."""
        self.data = self._client.call(wire.show_call(self.number))
        return self

    def wait(self, timeout: float | None = None) -> Any:
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
                raise wire.still_going(self.data, timeout or 0.0)
            self.data = self._client.call(wire.show_call(self.number, left))
        return wire.output_of(self.data)

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
        found: JsonObject = self._client.call(wire.why_call(self.number, address))
        return found

    def cancel(self, reason: str = "") -> Run:
        """Tell the run to stop."""
        self.data = self._client.call(wire.cancel_call(self.number, reason))
        return self


class Client:
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
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.target = target or Target.find(url, token)
        headers = self.target.headers(who or wire.default_who("python"))
        self._http = httpx.Client(
            base_url=self.target.url,
            headers=headers,
            timeout=TIMEOUT,
            transport=transport,
            trust_env=not self.target.local,
            verify=self.target.secure,
        )

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def start(
        self,
        workflow: str,
        params: Mapping[str, Any] | None = None,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: tuple[str, ...] = (),
        **named: Any,
    ) -> Run:
        """Start a workflow; returns as soon as the run is stored.

        Args:
            workflow: its name, `loom/name` where the short one is not unique.
            params: params as a mapping; `named` ones are added.
            key: start key: starting twice with one makes one run.
            priority: higher runs first.
            share: whom fair turns are counted for; the run itself unless given.
            tags: words to find it by.

        Raises:
            NotFound: there is no such workflow.
            InvalidInput: the params do not fit; `problems` holds all that is wrong.
            StartKeyTaken: the key belongs to a run with other params.
        """
        call = wire.start_call(
            workflow,
            {**(params or {}), **named},
            key=key,
            priority=priority,
            share=share,
            tags=tags,
        )
        return Run(self, self.call(call))

    def start_task(
        self,
        task: str,
        inputs: Mapping[str, Any] | None = None,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: tuple[str, ...] = (),
        **named: Any,
    ) -> Run:
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
        call = wire.start_call(
            task,
            {**(inputs or {}), **named},
            key=key,
            priority=priority,
            share=share,
            tags=tags,
            task=True,
        )
        return Run(self, self.call(call))

    def run(self, number: int) -> Run:
        """A run by number.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return Run(self, self.call(wire.show_call(number)))

    def runs(
        self, *, states: tuple[str, ...] = (), workflow: str | None = None, limit: int = 50
    ) -> list[Run]:
        """The newest runs."""
        page = self.call(wire.list_call(states, workflow, limit, None))
        return [Run(self, data) for data in page["runs"]]

    def pools(self) -> list[JsonObject]:
        """Every pool: its limits, and how it is used now."""
        found: list[JsonObject] = (self.call(Call("GET", "/pools")))["pools"]
        return found

    def change_pool(
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
        call = wire.pool_call(name, **settings, as_declared=as_declared, reason=reason)
        found: JsonObject = self.call(call)
        return found

    def call(self, call: Call) -> Any:
        """Send a request, again where that is safe and the connection broke.

        Raises:
            YarnloomError: as the answer says.
            NotReachable: nothing answers.
        """
        for tries_left in reversed(range(TRIES)):
            try:
                response = self._http.request(
                    call.method,
                    API + call.path,
                    content=call.content,
                    params=call.query,
                    headers={"Content-Type": "application/json"} if call.body is not None else {},
                )
                return wire.read_answer(self.target, response.status_code, response.content)
            except (httpx.RemoteProtocolError, httpx.ReadError, httpx.WriteError) as error:
                if not call.again or not tries_left:
                    raise self.target.not_reachable(error) from error
            except (httpx.TransportError, httpx.InvalidURL, httpx.UnsupportedProtocol) as error:
                raise self.target.not_reachable(error) from error
        raise AssertionError("the loop returns or raises")

    def events(self, run: int | None = None) -> Iterator[JsonObject]:
        """CloudEvents as they come; after a broken connection from where it broke."""
        query = {} if run is None else {"run": run}
        last_id, failures = "", 0
        while True:
            headers = {"Last-Event-ID": last_id} if last_id else {}
            try:
                with connect_sse(
                    self._http, "GET", f"{API}/events", params=query, headers=headers
                ) as source:
                    if source.response.status_code >= 400:
                        body = source.response.read()
                        wire.read_answer(self.target, source.response.status_code, body)
                    for event in source.iter_sse():
                        failures = 0
                        if event.data:
                            last_id = event.id or last_id
                            yield event.json()
            except httpx.TransportError as error:
                failures += 1
                if failures > 6:
                    raise self.target.not_reachable(error) from error
            time.sleep(min(5.0, 0.1 * 2**failures))
