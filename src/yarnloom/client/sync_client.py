"""Made from `async_client.py` by `make generate`: change that file instead."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, ParamSpec, TypeVar, Unpack, overload
from urllib.parse import quote

from yarnloom.client import http_requests
from yarnloom.client.file_calls import FileCalls
from yarnloom.client.http_messages import ConnectionLost, HttpRequest
from yarnloom.client.http_requests import Request
from yarnloom.client.run_facts import read
from yarnloom.client.runs import Run
from yarnloom.client.runs_filter import RunsFilter
from yarnloom.client.setting_calls import SettingCalls
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


class Client(SettingCalls, FileCalls):
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
    def start(self, target: Call[R], /, **options: Unpack[WatchedStartOptions]) -> Run[R]: ...
    @overload
    def start(
        self, target: str, params: Mapping[str, Any], /, **options: Unpack[WatchedStartOptions]
    ) -> Run[Any]: ...
    @overload
    def start(
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
    ) -> Run[Any]: ...
    @overload
    def start(
        self, target: Task[P, R] | Workflow[P, R], /, *inputs: P.args, **named: P.kwargs
    ) -> Run[R]: ...
    def start(self, target: Any, /, *given: Any, **named: Any) -> Run[Any]:
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
        return self.begin(http_requests.start_request(start), on_check, declared)

    def begin(
        self,
        request: Request,
        on_check: http_requests.OnCheck | None,
        declared: Startable[Any] | None = None,
    ) -> Run[Any]:
        """Send a start, as often as the check of its rows takes."""
        request = http_requests.watched(request, on_check)
        while "checking" in (data := self.call(request)):
            if on_check:
                on_check(data["checking"])
        return Run(self, data, declared)

    def start_many(self, starts: Iterable[Start | Call[Any]]) -> list[int]:
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
        while "checking" in (data := self.call(request)):
            pass
        return [datum["number"] for datum in data["runs"]]

    def start_schedule(self, name: str, *, reason: str = "") -> Run[Any]:
        """Start a run of a schedule now, also while the schedule is paused.

        Raises:
            NotFound: there is none of that name.
        """
        body = {"key": generated_key(), "reason": reason}
        path = f"/schedules/{quote(name, safe='')}/start"
        return self.begin(Request("POST", path, body), None)

    # Runs

    @overload
    def run(self, number: int) -> Run[Any]: ...
    @overload
    def run(self, number: int, *, of: Startable[R]) -> Run[R]: ...
    def run(self, number: int, *, of: Any = None) -> Run[Any]:
        """A run by number.

        Args:
            number: the run's.
            of: its task or workflow, which says of what type its output is.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return Run(self, self.call(http_requests.show_request(number)), of)

    def runs(
        self,
        *,
        states: Sequence[RunStateWord] = (),
        limit: int | None = None,
        **filters: Unpack[RunsFilter],
    ) -> Iterator[Run[Any]]:
        """Go through runs, newest first, page by page.

        Args:
            states: only those in one of these states.
            limit: at most so many; all unless given.
            filters: as `RunsFilter` says.
        """
        # Not a generator itself: a wrong filter is refused here, not where it is gone through.
        return self._runs(http_requests.runs_query(states, filters), limit)

    def _runs(self, query: JsonObject, limit: int | None) -> Iterator[Run[Any]]:
        for data in self.pages("/runs", "runs", query, limit):
            yield Run(self, data)

    def counts(self) -> RunCounts:
        """How many runs are in each state."""
        from yarnloom.protocol.overview_answers import RunCounts

        return read(RunCounts, self._get("/runs/counts"))

    def act_on_runs(
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
        return read(BulkAnswer, self.call(request))

    def commands(
        self,
        *,
        run: int | None = None,
        who: str | None = None,
        what: str | None = None,
        limit: int | None = None,
    ) -> Iterator[RunCommandAnswer]:
        """Go through the commands that were given, newest first: who, what, when and why.

        Args:
            run: only for this run.
            who: only by this one.
            what: only of this kind, e.g. "cancel".
            limit: at most so many; all unless given.
        """
        from yarnloom.protocol.run_answers import RunCommandAnswer

        query = {"run": run, "who": who, "what": what}
        for data in self.pages("/commands", "commands", query, limit):
            if "unreadable" not in data:
                yield read(RunCommandAnswer, data)

    def lines(self, *, text: str = "") -> Iterator[LogLine]:
        """Lines that the steps of all runs print, from now on, without end.

        Args:
            text: only lines with this in them.
        """
        from yarnloom.protocol.part_answers import LogLine

        for event in self.stream("/lines/live", {"text": text} if text else {}):
            yield read(LogLine, {"line": 0, **event["data"]})

    # The service

    def ready(self, *, timeout: float = 30.0) -> None:
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
                answer = self._transport.request(HttpRequest("GET", url, self._headers))
                if answer.status == 200:
                    return
                why = f"it answers {answer.status}"
            except ConnectionLost as error:
                why = str(error) or "nothing answers"
            if time.monotonic() >= until:
                raise WaitTimeout(
                    f"the service at {self.target.url} is not ready after {timeout:g} s: {why}"
                )
            time.sleep(0.1)

    def overview(self) -> OverviewAnswer:
        """Running, full and failed things at a glance."""
        from yarnloom.protocol.overview_answers import OverviewAnswer

        return read(OverviewAnswer, self._get("/overview"))

    def service(self) -> ServiceAnswer:
        """The service's version, data folder and health."""
        from yarnloom.protocol.workflow_answers import ServiceAnswer

        return read(ServiceAnswer, self._get("/service"))

    def linked_run(self, token: str) -> LinkedRun:
        """A run as a link shows it, by the link's token.

        Raises:
            NotFound: the link has expired, or was revoked.
        """
        from yarnloom.protocol.run_answers import LinkedRun

        return read(LinkedRun, self._get(f"/links/{quote(token, safe='')}"))

    def events(self, run: int | None = None) -> Iterator[JsonObject]:
        """CloudEvents as they come; after a broken connection from where it broke."""
        yield from self.stream("/events", {} if run is None else {"run": run})
