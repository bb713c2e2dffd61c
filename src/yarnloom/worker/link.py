"""A worker's talk with the service: register, the open request, and reports.

Nothing that has happened is lost when the connection or the service breaks: reports stay here,
in order, until the service has answered them. Waits between failed tries grow.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from collections.abc import Awaitable, Callable, Sequence
from typing import TYPE_CHECKING, Any, Protocol

from pydantic_core import to_json

from yarnloom.client.calls import Call, Target
from yarnloom.client.plain_http import Connections, speaks_plainly
from yarnloom.errors import Busy, NotAllowed, Refused, ServiceError, WorkerUnknown, YarnloomError
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.worker.child.deadline import now
from yarnloom.worker.file_cache import FileCache

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient

Message = dict[str, Any]

FIRST_WAIT = 0.05
LONGEST_WAIT = 2.0
SURE = 0.9
"""The part of its lease for which a worker is sure that nobody else has what it has."""

SAVE_SECONDS = 0.5
REPORT_BYTES = 4 * 1024 * 1024
"""Of a report, and of the lines in it: what is over it comes with the next."""

REPORT_ITEMS = 1_000
FEWEST_DONE = 4
"""Items that are simply done, from which on they are told as columns."""

OF_DONE = frozenset(
    ("attempt", "pid", "outcome", "output", "cpu", "memory", "begun_at", "ended_at")
)
"""The fields of such an item."""

LOG_BYTES_AN_ATTEMPT = 4 * 1024 * 1024


class Caller(Protocol):
    """What requests are sent with."""

    async def call(self, call: Call) -> Any:
        """Send a request and return the answer."""

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
        on_heard: told until when the service surely gives nothing of this worker to others, on
            the clock of `worker.deadline`.
        say: tells the user.
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
        on_heard: Callable[[float], None],
        say: Callable[[str], None],
    ) -> None:
        self._target = target
        self._path = f"/workers/{worker_id}"
        self._id = worker_id
        self._introduce = introduce
        self._places = places
        self._on_message = on_message
        self._on_taken = on_taken
        self._on_refused = on_refused
        self._on_lease_over = on_lease_over
        self._on_epoch = on_epoch
        self._on_heard = on_heard
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
        self._registered = asyncio.Event()
        self._registering = asyncio.Lock()
        self._news = asyncio.Event()
        self._received: list[int] = []
        self._items: list[Message] = []
        self._begun: dict[int, Message] = {}
        self._lines: dict[int, list[Message]] = {}
        self._sent_lines: dict[int, int] = {}
        self._printed: dict[int, int] = {}  # bytes, by attempt
        self._lease = 30.0
        self._heard_at, self._heard_sent = time.monotonic(), now()
        self._freed: list[int] = []
        self._saved: dict[int, Message] = {}
        self._save_timer: asyncio.TimerHandle | None = None
        self._acks: list[asyncio.Future[None]] = []
        self._asking: set[asyncio.Task[None]] = set()
        self._broken = False
        self._watch: asyncio.TimerHandle | None = None

    # What the worker tells

    def report(self, item: Message) -> None:
        """Tell the service how an attempt ended, now or as soon as it can be reached."""
        if self._begun:
            self._begun.pop(item["attempt"], None)  # the end says when it began, too
        self._files.ended(item["attempt"])
        self._items.append(item)
        self._news.set()

    def report_all(self, items: list[Message]) -> None:
        """The same of many attempts."""
        for item in items:
            if self._begun:
                self._begun.pop(item["attempt"], None)
            self._files.ended(item["attempt"])
        self._items += items
        self._news.set()

    def report_begun(self, item: Message) -> None:
        """Tell the service that an attempt began; where it has ended until then, only that."""
        self._begun[item["attempt"]] = item
        self._news.set()

    def freed(self, attempt: int) -> None:
        """Tell the service that the process of an abandoned attempt has ended."""
        self._freed.append(attempt)
        self._news.set()

    def line(self, attempt: int, line: Message) -> None:
        """Pass on a line that an attempt printed; what is too much is dropped, and said so."""
        before = self._printed.get(attempt, 0)
        if before > LOG_BYTES_AN_ATTEMPT:
            return
        after = self._printed[attempt] = before + _size(line)
        if after > LOG_BYTES_AN_ATTEMPT:
            note = f"more than {LOG_BYTES_AN_ATTEMPT:,} bytes printed; what follows was dropped"
            line = {"at": line["at"], "stream": "yarnloom", "text": note}
        self._lines.setdefault(attempt, []).append(line)
        self._news.set()

    def forget(self, attempt: int) -> None:
        """An attempt is fenced off: nothing of it is reported any more."""
        self._items = [item for item in self._items if item["attempt"] != attempt]
        self._begun.pop(attempt, None)
        self._files.ended(attempt)
        for kept in (self._lines, self._sent_lines, self._printed, self._saved):
            kept.pop(attempt, None)

    def saved(self, attempt: int, record: Message) -> None:
        """Tell the service what a running attempt saved, a little later and the newest only."""
        self._saved[attempt] = record
        if self._save_timer is None:
            loop = asyncio.get_running_loop()
            self._save_timer = loop.call_later(SAVE_SECONDS, self._tell_saved)

    def _tell_saved(self) -> None:
        self._save_timer = None
        if self._saved:
            self._news.set()

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
            ack: asyncio.Future[None] = asyncio.get_running_loop().create_future()
            self._acks.append(ack)
            self._news.set()
            await ack
            reply({"answer": {}})
            return
        if kind in ("fetch_file", "save_file"):
            reply(await self._transfer(kind, attempt, question))
            return
        call = Call(
            "POST", f"{self._path}/{kind.replace('_', '-')}", {"attempt": attempt, **question}
        )
        while True:
            try:
                reply({"answer": await self._insist(call)})
            except WorkerUnknown:
                await self._register_again()
                continue
            except Refused as error:
                reply({"error": {"code": error.code, "message": error.message}})
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
                return {"error": {"code": error.code, "message": error.message}}
            except OSError as error:
                message = f"the file could not be kept on the worker: {error.strerror}"
                return {"error": {"code": YarnloomError.code, "message": message}}
            await asyncio.sleep(wait * random.uniform(0.5, 1.0))
            wait = min(LONGEST_WAIT, wait * 2)

    def wake(self) -> None:
        """Something changed that the service should hear of at once, such as the places."""
        self._news.set()

    @property
    def settled(self) -> bool:
        """Whether everything has been told."""
        return not self._items and not self._begun and not self._lines and not self._freed

    def attempts_to_report(self) -> set[int]:
        """Attempts whose end the service has not heard of."""
        return {item["attempt"] for item in self._items}

    # The three loops' bodies

    async def publish(self, publication: Message) -> Message:
        """Make the workflows of a loom current.

        Raises:
            Refused: the service does not take them.
            NotAllowed: the token is wrong.
        """
        answer: Message = await self._insist(Call("POST", "/workflows", publication))
        return answer

    async def register(self) -> None:
        """Register; tries until it works, or this worker is not wanted."""
        async with self._registering:
            while not self._registered.is_set():
                self._received.clear()
                seen = {"service": self._service, "epoch": self._epoch, "commits": self._commits}
                body = {"id": self._id, **self._introduce(), **seen}
                answer = await self._insist(Call("POST", "/workers", body))
                self._lease = float(answer["lease"])
                self._on_heard(self._heard_sent + SURE * self._lease)
                other = self._service, self._epoch = answer["service"], answer["epoch"]
                self._commits = answer["commits"]
                if seen["epoch"] and other != (seen["service"], seen["epoch"]):
                    await self._forget()  # and come again, with nothing in hand
                else:
                    self._registered.set()
            if self._watch is None:
                self._watch_lease()

    async def _forget(self) -> None:
        """Forget what other records gave out, once it has ended: nobody wants to hear of it."""
        await self._on_epoch()
        self._items.clear()
        self._begun.clear()
        self._freed.clear()
        for kept in (self._lines, self._sent_lines, self._printed, self._saved):
            kept.clear()

    async def keep_asking(self) -> None:
        """Hold the open request, again and again."""
        while True:
            await self._registered.wait()
            epoch = self._epoch
            body = {"epoch": epoch, "received": self._take_received(), **self._places()}
            try:
                answer = await self._insist(Call("POST", f"{self._path}/ask", body))
            except WorkerUnknown:
                await self._register_again()
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
                async with asyncio.timeout(self._lease / 3):
                    await self._news.wait()
            await self.send_report()

    async def send_report(self) -> None:
        """Send one report with all that there is."""
        if time.monotonic() - self._heard_at > self._lease:
            # This worker stood still, or was cut off: first ask what it still has, then deliver.
            await self._register_again()
        self._news.clear()
        logs = self._take_lines()
        items = self._take_items()
        freed, self._freed = self._freed, []
        saved = self._take_saved()
        acks: list[asyncio.Future[None]] = []
        if not self._saved:  # else what they wait for comes with the next
            acks, self._acks = self._acks, []
        told = {item["attempt"] for item in items if item.get("outcome")}
        body = {
            "epoch": self._epoch,
            "received": self._take_received(),
            **self._places(),
            **_items_and_done(items),
            "logs": logs,
            "freed": freed,
            # What an end is told of carries what was saved itself.
            "saved": {str(one): record for one, record in saved.items() if one not in told},
        }
        try:
            answer = await self._insist(Call("POST", f"{self._path}/report", body))
        except WorkerUnknown:
            self._put_back(items, logs, freed, saved, acks)
            await self._register_again()
            self._news.set()
            return
        except BaseException:
            self._put_back(items, logs, freed, saved, acks)
            raise
        self._note_commits(answer)
        self._forget_lines(items)
        for ack in acks:
            if not ack.done():
                ack.set_result(None)
        for refusal in answer["refused"]:
            self._on_refused(refusal)
        # The next report goes out first, so that the service need not wait for it meanwhile.
        asyncio.get_running_loop().call_soon(self._take, answer["messages"])
        if self._lines or self._items or self._saved:
            self._news.set()

    async def leave(self) -> None:
        """Tell the service that this worker ends."""
        await self._client.call(Call("DELETE", self._path))

    async def close(self) -> None:
        """Close the connections."""
        if self._watch:
            self._watch.cancel()
        if self._save_timer:
            self._save_timer.cancel()
        for answering in self._asking:
            answering.cancel()
        await self._files.close()
        await self._client.close()

    # Inside

    def _watch_lease(self) -> None:
        """Look again when the lease would end, if nothing more were heard."""
        left = self._heard_at + SURE * self._lease - time.monotonic()
        if left <= 0:
            self._on_lease_over()
            left = SURE * self._lease
        self._watch = asyncio.get_running_loop().call_later(left, self._watch_lease)

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

    def _take_lines(self) -> list[Message]:
        """Batches of lines, up to about half of `REPORT_BYTES`."""
        batches, room = [], REPORT_BYTES // 2
        for attempt in list(self._lines):
            waiting, count = self._lines[attempt], 0
            while count < len(waiting) and room > 0:
                room -= _size(waiting[count])
                count += 1
            if count:
                first = self._sent_lines.get(attempt, 0)
                batches.append({"attempt": attempt, "first": first, "lines": waiting[:count]})
                self._sent_lines[attempt] = first + count
                del waiting[:count]
            if not waiting:
                del self._lines[attempt]
        return batches

    def _take_items(self) -> list[Message]:
        """What can be told now: the end of an attempt waits until all its lines are sent."""
        items = list(self._begun.values())
        self._begun.clear()
        left: list[Message] = []
        room = REPORT_BYTES // 2
        lines, held = self._lines, set()
        for item in self._items:
            # Report the attempts of a process in their order: one can be behind another.
            if lines and (item["attempt"] in lines or item.get("pid") in held):
                if "pid" in item:
                    held.add(item["pid"])
                left.append(item)
                continue
            if room <= 0 or len(items) >= REPORT_ITEMS:
                left.append(item)
                continue
            items.append(item)
            room -= _weight_of_end(item)
        self._items = left
        return items

    def _take_saved(self) -> dict[int, Message]:
        """What running attempts saved, as much as a report holds."""
        taken: dict[int, Message] = {}
        room = REPORT_BYTES // 2
        while self._saved and room > 0:
            attempt, record = self._saved.popitem()
            taken[attempt] = record
            room -= _weight(record)
        return taken

    def _forget_lines(self, items: list[Message]) -> None:
        """The service has taken the end of these attempts: no line of them comes any more."""
        if not self._sent_lines and not self._printed:
            return
        for item in items:
            if item["outcome"]:
                self._sent_lines.pop(item["attempt"], None)
                self._printed.pop(item["attempt"], None)

    def _put_back(
        self,
        items: list[Message],
        logs: list[Message],
        freed: list[int],
        saved: dict[int, Message],
        acks: list[asyncio.Future[None]],
    ) -> None:
        self._items[:0] = items
        self._freed[:0] = freed
        self._saved = saved | self._saved
        self._acks[:0] = acks
        for batch in logs:
            self._lines[batch["attempt"]] = batch["lines"] + self._lines.get(batch["attempt"], [])
            self._sent_lines[batch["attempt"]] = batch["first"]

    async def _insist(self, call: Call) -> Any:
        """Send a request until the service answers it.

        Raises:
            WorkerUnknown: the service does not know this worker (any more).
            NotAllowed: the token is wrong.
        """
        wait = FIRST_WAIT
        while True:
            sent, sent_at = time.monotonic(), now()
            try:
                answer = await self._client.call(call)
            except (WorkerUnknown, NotAllowed):
                raise
            except (ServiceError, Busy) as error:
                self._note_broken(error)
            except Refused:
                raise
            except YarnloomError as error:
                self._note_broken(error)
            else:
                # The lease counts from when the service got the request: at the earliest, now as it
                # was sent. What is said of a longer one at registration is heard there.
                self._heard_at = max(self._heard_at, sent)
                self._heard_sent = max(self._heard_sent, sent_at)
                self._on_heard(self._heard_sent + SURE * self._lease)
                self._note_healed()
                return answer
            await asyncio.sleep(wait * random.uniform(0.5, 1.0))
            wait = min(LONGEST_WAIT, wait * 2)

    def _note_broken(self, error: YarnloomError) -> None:
        if not self._broken:
            self._broken = True
            self._say(f"waiting for the service: {error.message}")

    def _note_healed(self) -> None:
        if self._broken:
            self._broken = False
            self._say(f"the service at {self._target.url} answers again")


def _items_and_done(items: list[Message]) -> Message:
    """Items as a report tells them, those that are simply done as columns.

    Times are seconds ago: the two clocks need not agree.
    """
    now = time.monotonic()
    done = [item for item in items if item.keys() == OF_DONE and item["outcome"] == "done"]
    if len(done) < FEWEST_DONE:
        return {"items": [_aged(item, now) for item in items]}
    others = [item for item in items if item.keys() != OF_DONE or item["outcome"] != "done"]
    return {
        "items": [_aged(item, now) for item in others],
        "done": {
            "attempts": [item["attempt"] for item in done],
            "outputs": [item["output"] for item in done],
            "begun_ago": [max(0.0, now - item["begun_at"]) for item in done],
            "ended_ago": [max(0.0, now - item["ended_at"]) for item in done],
            "pids": [item["pid"] for item in done],
            "cpu": [item["cpu"] for item in done],
            "memory": [item["memory"] for item in done],
        },
    }


def _aged(item: Message, now: float) -> Message:
    """An item with its times as seconds ago."""
    aged = dict(item)
    if (begun_at := aged.pop("begun_at", None)) is not None:
        aged["begun_ago"] = max(0.0, now - begun_at)
    if (ended_at := aged.pop("ended_at", None)) is not None:
        aged["ended_ago"] = max(0.0, now - ended_at)
    return aged


def _client(target: Target, who: str) -> AsyncClient:
    """A client that can do more than send JSON; loading it takes its time."""
    from yarnloom.client import AsyncClient

    return AsyncClient(target=target, who=who)


_SMALL = frozenset((int, float, bool, type(None)))


def _weight_of_end(item: Message) -> int:
    """About how many bytes an item of a report takes."""
    if item.keys() == OF_DONE and type(item["output"]) in _SMALL:
        return 200
    return 200 + sum(_weight(item[name]) for name in ("output", "error", "saved") if name in item)


def _weight(value: Any) -> int:
    """About how many bytes a value takes; only large ones are looked at closely."""
    if isinstance(value, str):
        return len(value)
    if isinstance(value, dict):
        return sum(_weight(one) + 20 for one in value.values())
    if isinstance(value, list):
        return sum(_weight(one) + 2 for one in value)
    return 10


def _size(line: Message) -> int:
    """About how many bytes a line takes, where it is sent and kept."""
    text = line.get("text")
    return 80 + (len(text) if text is not None else len(to_json(line["value"])))
