"""A worker's talk with the service: it registers, polls for work, and reports.

Reports stay in the queue until the service has answered them. Waits between failed tries grow.
"""

from __future__ import annotations

import asyncio
import contextlib
import math
import random
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from typing import TYPE_CHECKING, Any, Protocol

from yarnloom.client.http_requests import Request
from yarnloom.client.plain_http import Connections, speaks_plainly
from yarnloom.client.target import Target
from yarnloom.errors import Busy, NotAllowed, Refused, ServiceError, WorkerUnknown, YarnloomError
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.values import JsonObject
from yarnloom.worker.clock import Clock, Lease, LoopClock
from yarnloom.worker.file_cache import FileCache
from yarnloom.worker.report_queue import ReportBatch, ReportQueue

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient


Message = JsonObject

FIRST_WAIT = 0.05

LONGEST_WAIT = 2.0

WORKER_HEADER = "Yarnloom-Worker"
"""With the secret that the service gave to this worker, so that no other can act as it."""

BROKEN_SECONDS = 60.0
"""For which a report is repeated that the service answers with 500."""


class Caller(Protocol):
    """What requests are sent with."""

    async def call(self, call: Request) -> Any:
        """Send a request and return the answer."""

    def show_too(self, name: str, value: str) -> None:
        """Send a header with every request from now on."""

    async def close(self) -> None:
        """Close the connections."""


class Link:
    """The connection of one worker.

    Args:
        target: the service.
        worker_id: this worker's own choice.
        introduce: what is said at registration: name, facts, places, tasks, attempts in hand.
        places: how many attempts of either kind this worker may have in hand now.
        on_message: told of every work message and order, once each.
        on_taken: told when all of one answer were told.
        on_refused: told of each report that was refused.
        on_lease_over: told when the service was not heard of for a whole lease, and so may have
            given this worker's attempts to others.
        on_epoch: told that the service's records went back in time: what this worker has in hand
            was given out by records that are gone, and is to have ended when it returns.
        on_shut_out: told when the service gives this worker nothing any more, since its token has
            ended; what runs can still be reported for as long as a lease lasts.
        on_heard: told until when the service surely gives nothing of this worker to others, on
            the clock of `worker.deadline`.
        say: tells the user.
        clock: the clock; None for the event loop's.

    Attributes:
        queue: what the service has to hear.
    """

    def __init__(
        self,
        target: Target,
        worker_id: str,
        *,
        introduce: Callable[[], Message],
        places: Callable[[], Message],
        on_message: Callable[[Message], None],
        on_taken: Callable[[], None],
        on_refused: Callable[[Message], None],
        on_lease_over: Callable[[], None],
        on_epoch: Callable[[], Awaitable[None]],
        on_shut_out: Callable[[NotAllowed], None],
        on_heard: Callable[[float], None],
        say: Callable[[str], None],
        clock: Clock | None = None,
    ) -> None:
        self._target = target
        self._path = f"/workers/{worker_id}"
        self._id = worker_id
        self._introduce = introduce
        self._places = places
        self._on_message = on_message
        self._on_taken = on_taken
        self._on_refused = on_refused
        self._on_epoch = on_epoch
        self._on_shut_out = on_shut_out
        self._service = self._epoch = ""
        self._commits = 0
        self._say = say
        who = f"worker:{worker_id}"
        self._client: Caller
        if speaks_plainly(target):
            self._client = Connections(target, who)
        else:
            self._client = _client(target, who)
        self._files = FileCache(lambda: _client(target, who))
        self._clock = clock or LoopClock()
        self.queue = ReportQueue(self._clock, self._files.ended)
        self._lease = Lease(self._clock, on_lease_over, on_heard)
        self._registered = asyncio.Event()
        self._registering = asyncio.Lock()
        self._received: list[int] = []
        self._asking: set[asyncio.Task[None]] = set()
        self._broken = False

    # Questions of attempts

    def ask(self, attempt: int, question: Message, reply: Callable[[Message], None]) -> None:
        """Ask the service something for an attempt."""
        answering = asyncio.create_task(self._answer(attempt, dict(question), reply))
        self._asking.add(answering)
        answering.add_done_callback(self._asking.discard)

    async def _answer(
        self, attempt: int, question: Message, reply: Callable[[Message], None]
    ) -> None:
        kind = question.pop("kind")
        if kind == "save":
            await self.queue.acknowledge_saved()
            reply({"answer": {}})
            return
        if kind in ("fetch_file", "save_file"):
            reply(await self._transfer(kind, attempt, question))
            return
        call = Request(
            "POST", f"{self._path}/{kind.replace('_', '-')}", {"attempt": attempt, **question}
        )
        while True:
            try:
                reply({"answer": await self._insist(call)})
            except WorkerUnknown:
                await self._register_again()
                continue
            except Refused as error:
                reply({"error": {"code": error.code, "message": error.text}})
            return

    async def _transfer(self, kind: str, attempt: int, question: Message) -> Message:
        """Fetch or send a file, as long as it takes until the service can be reached."""
        wait = FIRST_WAIT
        while True:
            try:
                if kind == "save_file":
                    return {"answer": await self._files.save(attempt, question)}
                path = await self._files.fetch(attempt, question["sha256"])
                return {"answer": {"path": str(path)}}
            except (ServiceError, Busy) as error:
                self._note_broken(error)
            except YarnloomError as error:
                return {"error": {"code": error.code, "message": error.text}}
            except OSError as error:
                message = f"the file could not be kept on the worker: {error.strerror}"
                return {"error": {"code": YarnloomError.code, "message": message}}
            await asyncio.sleep(wait * random.uniform(0.5, 1.0))
            wait = min(LONGEST_WAIT, wait * 2)

    # What the worker calls

    async def publish(self, publication: Message) -> Message:
        """Make the workflows of a loom current.

        Raises:
            Refused: the service does not take them.
            NotAllowed: the token is wrong.
        """
        answer: Message = await self._insist(Request("POST", "/workflows", publication))
        return answer

    async def tell_gone(self, begun_ago: dict[str, dict[str, float]]) -> set[str]:
        """Report workers of this machine that are gone, with the attempts that they had begun.

        Args:
            begun_ago: by worker how many seconds ago each attempt began.

        Returns:
            Those that the service knew.
        """
        answer = await self._client.call(Request("POST", "/workers/gone", {"begun_ago": begun_ago}))
        return set(answer["known"])

    async def register(self) -> None:
        """Register; tries until it works, or this worker is not wanted."""
        async with self._registering:
            while not self._registered.is_set():
                self._received.clear()
                seen = {"service": self._service, "epoch": self._epoch, "commits": self._commits}
                body = {"id": self._id, **self._introduce(), **seen}
                answer = await self._insist(Request("POST", "/workers", body))
                self._lease.set(float(answer["lease"]))
                self._client.show_too(WORKER_HEADER, answer["secret"])
                other = self._service, self._epoch = answer["service"], answer["epoch"]
                self._commits = answer["commits"]
                if seen["epoch"] and other != (seen["service"], seen["epoch"]):
                    await self._forget()  # and come again, with nothing in hand
                else:
                    self._registered.set()
            if not self._lease.is_watched:
                self._lease.watch()

    async def _forget(self) -> None:
        """Forget what other records gave out, once it has ended: nobody wants to hear of it."""
        await self._on_epoch()
        self.queue.clear()

    async def keep_asking(self) -> None:
        """Hold the open request, again and again."""
        while True:
            await self._registered.wait()
            epoch = self._epoch
            body = {"epoch": epoch, "received": self._take_received(), **self._places()}
            try:
                answer = await self._insist(Request("POST", f"{self._path}/ask", body))
            except WorkerUnknown:
                await self._register_again()
                continue
            except NotAllowed as error:
                self._on_shut_out(error)
                return
            except Refused as error:
                await self._wait_refused(error)
                continue
            if epoch != self._epoch:
                continue  # what it gives was given out by records that are gone
            self._note_commits(answer)
            self._take(answer["messages"])
            if answer["closing"]:
                await asyncio.sleep(0.2)  # the service is going down; give it the time

    async def keep_reporting(self) -> None:
        """Send what there is to tell; without news, renew the lease now and then."""
        while True:
            await self._registered.wait()
            with contextlib.suppress(TimeoutError):
                # Not wait_for, which in Python 3.11 can swallow a cancellation.
                async with asyncio.timeout(self._lease.seconds / 3):
                    await self.queue.news.wait()
            await self.send_report()

    async def send_report(self) -> None:
        """Send one report with all that there is."""
        if self._lease.is_over:
            # This worker stood still, or was cut off: first ask what it still has, then deliver.
            await self._register_again()
        reports = deque([self.queue.take()])
        patience = BROKEN_SECONDS
        while reports:
            try:
                answer = await self._deliver(reports[0], patience)
            except WorkerUnknown:
                self._put_back(reports)
                await self._register_again()
                self.queue.wake()
                return
            except NotAllowed:
                self._put_back(reports)
                raise
            except YarnloomError as error:
                # One thing in it is in the way of all others: find it, and tell the rest.
                refused, patience = reports.popleft(), 0.0
                if halves := refused.halves:
                    reports.extendleft(reversed(halves))
                elif refused.count:
                    self._say(self.queue.refused(refused, error.text))
                else:
                    self.queue.put_back(refused)  # it tells nothing that could be left out
                    await self._wait_refused(error)
            except BaseException:
                self._put_back(reports)
                raise
            else:
                self._take_answer(reports.popleft(), answer)

    async def _wait_refused(self, error: YarnloomError) -> None:
        self._say(f"the service refuses what this worker says of itself: {error.text}")
        await asyncio.sleep(LONGEST_WAIT)

    async def _deliver(self, report: ReportBatch, patience: float) -> Any:
        body = {
            "epoch": self._epoch,
            "received": self._take_received(),
            **self._places(),
            **report.body(self._clock.now()),
        }
        return await self._insist(Request("POST", f"{self._path}/report", body), patience)

    def _put_back(self, reports: deque[ReportBatch]) -> None:
        for report in reversed(reports):
            self.queue.put_back(report)

    def _take_answer(self, report: ReportBatch, answer: Message) -> None:
        self._note_commits(answer)
        self.queue.delivered(report)
        for refusal in answer["refused"]:
            self._on_refused(refusal)
        # The next report goes out first, so that the service need not wait for it meanwhile.
        asyncio.get_running_loop().call_soon(self._take, answer["messages"])

    async def leave(self) -> None:
        """Tell the service that this worker ends."""
        await self._client.call(Request("DELETE", self._path))

    async def close(self) -> None:
        """Close the connections."""

    async def introduce_again(self) -> None:
        """Register again, since the tasks are others now."""
        await self._register_again()

    async def _register_again(self) -> None:
        self._registered.clear()
        await self.register()

    def _note_commits(self, answer: Message) -> None:
        """Remember the newest commit that is known of, should the records ever be behind it."""
        self._commits = max(self._commits, answer["commits"])

    def _take_received(self) -> list[int]:
        taken, self._received = self._received, []
        return taken

    def _take(self, messages: Sequence[Message]) -> None:
        for message in messages:
            self._received.append(message["serial"])
        for message in one_by_one(messages):
            self._on_message(message)
        self._on_taken()

    async def _insist(self, call: Request, broken_seconds: float = math.inf) -> Any:
        """Send a request until the service answers it.

        A broken line and an answer 503 are waited for without end.

        Args:
            call: the request.
            broken_seconds: how long it is repeated after an answer 500, a mistake in the service.

        Raises:
            Refused: the service says no; `WorkerUnknown` where it does not know this worker.
            YarnloomError: the service still answers 500 after that time.
        """
        wait, broken_until = FIRST_WAIT, math.inf
        while True:
            sent = self._lease.now()
            try:
                answer = await self._client.call(call)
            except (ServiceError, Busy) as error:
                self._note_broken(error)
            except Refused:
                raise
            except YarnloomError as error:
                self._note_broken(error)
                broken_until = min(broken_until, self._clock.now() + broken_seconds)
                if self._clock.now() >= broken_until:
                    raise
            else:
                self._lease.renew(sent)
                self._note_healed()
                return answer
            await asyncio.sleep(wait * random.uniform(0.5, 1.0))
            wait = min(LONGEST_WAIT, wait * 2)

    def _note_broken(self, error: YarnloomError) -> None:
        if not self._broken:
            self._broken = True
            self._say(f"waiting for the service: {error.text}")

    def _note_healed(self) -> None:
        if self._broken:
            self._broken = False
            self._say(f"the service at {self._target.url} answers again")


def _client(target: Target, who: str) -> AsyncClient:
    """A client that can do more than send JSON; loading it takes its time."""
    from yarnloom.client import AsyncClient

    return AsyncClient(target=target, who=who)
