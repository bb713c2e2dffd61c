"""The worker: keeps processes, gives them attempts, and reports what becomes of them.

It runs no user code itself. It outlives a service restart and a broken connection: running
attempts go on, and what they return waits here until the service takes it.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import sys
import time
import uuid
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yarnloom.client import Target
from yarnloom.errors import LoomNotFound, YarnloomError
from yarnloom.loom import DEFAULT_GRACE
from yarnloom.version import VERSION
from yarnloom.worker.children import Child, Guardian
from yarnloom.worker.link import Link

Message = dict[str, Any]

AHEAD_SECONDS = 0.02
AHEAD_MOST = 64
ORPHAN_PATIENCE = 600.0
REMEMBERED = 50_000


def cores() -> int:
    """How many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@dataclass(frozen=True, slots=True)
class WorkerOptions:
    """How a worker runs.

    Attributes:
        load: MODULE:LOOM.
        target: the service.
        name: for people.
        id: unique; made up unless given.
        processes: how many attempts run at once.
        drain: seconds that running attempts get to finish when the worker is told to end.
        end_with_stdin: end when standard input ends, because whoever started the worker is gone.
    """

    load: str
    target: Target
    name: str = ""
    id: str = field(default_factory=lambda: uuid.uuid4().hex[:12])
    processes: int = field(default_factory=cores)
    drain: float = 10.0
    end_with_stdin: bool = False


class Worker:
    """One worker, from start to end.

    Args:
        options: how it runs.
        say: tells the user, one line at a time.
    """

    def __init__(self, options: WorkerOptions, say: Callable[[str], None]) -> None:
        self.options = options
        self.name = options.name or f"{socket.gethostname()}-{os.getpid()}"
        self._say = say
        self._children: list[Child] = []
        self._tasks: dict[str, Message] = {}
        self._queue: deque[Message] = deque()
        self._seen: dict[int, None] = {}  # attempts ever received, in order
        self._stops: dict[int, str] = {}
        self._graces: dict[int, asyncio.TimerHandle] = {}
        self._spent: float | None = None
        self._draining = False
        self._end = asyncio.Event()
        self._hurry = asyncio.Event()
        self._idle = asyncio.Event()
        self._first_ready: asyncio.Future[None] | None = None
        self._orphaned = False
        self._link = Link(
            options.target,
            options.id,
            introduce=self._introduce,
            places=self._places,
            on_message=self._on_message,
            on_refused=self._on_refused,
            on_lease_over=self._on_lease_over,
            say=say,
        )

    async def run(self) -> None:
        """Work until told to end.

        Raises:
            LoomNotFound: the loom cannot be loaded.
            NotAllowed: the service does not accept the token.
        """
        loop = asyncio.get_running_loop()
        self._first_ready = loop.create_future()
        self._guardian = Guardian()
        loop.add_signal_handler(signal.SIGCHLD, self._reap)
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self._told_to_end, signal.Signals(number).name)
        if self.options.end_with_stdin:
            loop.add_reader(sys.stdin.fileno(), self._orphan)
        try:
            for _ in range(self.options.processes):
                self._spawn()
            await self._first_ready
            await self._serve()
        finally:
            for child in self._children:
                child.kill()
            await self._link.close()
            self._guardian.close()
            loop.remove_signal_handler(signal.SIGCHLD)

    async def _serve(self) -> None:
        ending = asyncio.create_task(self._end.wait())
        registering = asyncio.create_task(self._link.register())
        done, _ = await asyncio.wait([ending, registering], return_when=asyncio.FIRST_COMPLETED)
        if registering not in done:
            registering.cancel()
            return
        await registering
        count = self.options.processes
        self._say(
            f"worker {self.name} takes work from {self.options.target.url}: "
            f"{count} process{'es' if count > 1 else ''}, {len(self._tasks)} tasks of "
            f"{self.options.load}"
        )
        loops = [
            asyncio.create_task(self._link.keep_asking()),
            asyncio.create_task(self._link.keep_reporting()),
        ]
        try:
            await asyncio.wait([ending, *loops], return_when=asyncio.FIRST_COMPLETED)
            for task in loops:
                if task.done():
                    task.result()
            await self._drain()
        finally:
            for task in loops:
                task.cancel()
            await asyncio.gather(*loops, return_exceptions=True)
        await self._say_goodbye()

    # The end

    def _told_to_end(self, name: str) -> None:
        if self._end.is_set():
            self._hurry.set()
            return
        self._say(f"worker {self.name}: {name}, ending")
        self._begin_to_end()

    def _orphan(self) -> None:
        if os.read(sys.stdin.fileno(), 4096):
            return
        asyncio.get_running_loop().remove_reader(sys.stdin.fileno())
        self._orphaned = True
        self._say(f"worker {self.name}: the service that started it is gone, ending")
        self._begin_to_end()

    def _begin_to_end(self) -> None:
        self._draining = True
        self._end.set()
        for work in self._queue:
            self._link.report({"attempt": work["attempt"], "outcome": "handed_back"})
        self._queue.clear()
        self._link.wake()
        self._note_idle()

    async def _drain(self) -> None:
        """Let running attempts finish for a while; what is left then is handed back.

        An orphan, whose service may be back in a moment, waits longer: nobody is there to hurry
        it, and its results are worth keeping.
        """
        patience = ORPHAN_PATIENCE if self._orphaned else self.options.drain
        if running := [child for child in self._children if child.attempt]:
            self._say(
                f"worker {self.name}: waits up to {patience:g} s for {len(running)} running "
                "attempt(s); a second Ctrl-C hands them back at once"
            )
        waits = [asyncio.create_task(one.wait()) for one in (self._idle, self._hurry)]
        await asyncio.wait(waits, timeout=patience, return_when=asyncio.FIRST_COMPLETED)
        for wait in waits:
            wait.cancel()
        for child in self._children:
            if child.attempt:
                attempt = child.attempt["attempt"]
                child.attempt = None
                child.kill()
                error = {"type": "HandedBack", "message": f"worker {self.name} ended"}
                self._link.report({"attempt": attempt, "outcome": "handed_back", "error": error})

    async def _say_goodbye(self) -> None:
        patience = ORPHAN_PATIENCE if self._orphaned and not self._link.settled else 1.0
        try:
            async with asyncio.timeout(patience):
                while not self._link.settled:
                    await self._link.send_report()
                await self._link.leave()
        except (TimeoutError, YarnloomError):
            if not self._link.settled:
                self._say(f"worker {self.name}: its last reports could not be delivered")
        self._say(f"worker {self.name} has ended")

    # Processes

    def _spawn(self) -> None:
        self._children.append(
            Child(
                self.options.load,
                self._guardian,
                on_message=self._on_child_message,
                on_line=self._on_line,
                on_death=self._on_death,
            )
        )

    def _reap(self) -> None:
        for child in list(self._children):
            child.reap()

    def _on_child_message(self, child: Child, message: Message) -> None:
        match message["kind"]:
            case "ready":
                self._on_ready(child, message)
            case "unusable":
                self._on_unusable(message["message"])
            case "begun":
                self._on_begun(child)
            case "log" if child.attempt:
                line = {key: message[key] for key in ("at", "level", "logger", "text")}
                self._keep_line(child, {**line, "stream": "log"})
            case "ended" if child.attempt:
                self._on_ended(child, message)

    def _on_ready(self, child: Child, message: Message) -> None:
        child.ready = True
        self._tasks = {facts["name"]: facts for facts in message["tasks"]}
        if self._first_ready and not self._first_ready.done():
            self._first_ready.set_result(None)
        self._feed()

    def _on_unusable(self, why: str) -> None:
        if self._first_ready and not self._first_ready.done():
            self._first_ready.set_exception(LoomNotFound(why))
        else:
            self._say(f"worker {self.name}: a new process cannot load {self.options.load}: {why}")

    def _on_begun(self, child: Child) -> None:
        if child.attempt:
            attempt = child.attempt["attempt"]
            item = {"attempt": attempt, "outcome": None, "pid": child.pid}
            self._link.report_begun({**item, "begun_at": time.monotonic()})

    def _on_ended(self, child: Child, message: Message) -> None:
        now = time.monotonic()
        work = child.attempt
        assert work is not None
        spent = message["spent"]
        begun_at = None if spent is None else now - spent
        if spent is not None:
            self._spent = spent if self._spent is None else 0.9 * self._spent + 0.1 * spent
        self._report(
            child,
            outcome=message["outcome"],
            output=message.get("output"),
            error=message.get("error"),
            begun_at=begun_at,
            ended_at=now,
        )
        self._finish(child)

    def _on_death(self, child: Child, code: int) -> None:
        self._children.remove(child)
        if child.attempt:
            attempt = child.attempt["attempt"]
            if attempt in self._stops:
                outcome, what = "cancelled", "was told to stop and killed after its grace"
            elif code < 0:
                outcome, what = "lost", f"died by {signal.Signals(-code).name}"
            else:
                outcome, what = "lost", f"ended by itself with exit code {code}"
            error = {"type": "ProcessDied", "message": f"its process {child.pid} {what}"}
            self._report(child, outcome=outcome, error=error, ended_at=time.monotonic())
            self._finish(child)
        if self._draining:
            return
        if child.ready:
            self._spawn()
        elif self._first_ready and not self._first_ready.done():
            self._first_ready.set_exception(
                LoomNotFound(f"a process that loads {self.options.load} ended with code {code}")
            )
        else:
            asyncio.get_running_loop().call_later(1.0, self._spawn_unless_ending)

    def _spawn_unless_ending(self) -> None:
        if not self._draining:
            self._spawn()

    def _finish(self, child: Child) -> None:
        assert child.attempt is not None
        attempt = child.attempt["attempt"]
        child.attempt = None
        self._stops.pop(attempt, None)
        if timer := self._graces.pop(attempt, None):
            timer.cancel()
        self._feed()
        self._note_idle()

    def _note_idle(self) -> None:
        if not any(child.attempt for child in self._children):
            self._idle.set()

    def _report(self, child: Child, **item: Any) -> None:
        assert child.attempt is not None
        known = {"attempt": child.attempt["attempt"], "outcome": None, "pid": child.pid}
        self._link.report({**known, **item})

    def _on_line(self, child: Child, line: Message) -> None:
        if child.attempt:
            self._keep_line(child, line)
        elif child.ready:
            self._say(f"worker {self.name}, between attempts: {line['text']}")
        else:
            self._say(f"{self.options.load}: {line['text']}")

    def _keep_line(self, child: Child, line: Message) -> None:
        assert child.attempt is not None
        self._link.line(child.attempt["attempt"], line)

    # Work and orders

    def _on_message(self, message: Message) -> None:
        attempt = message["attempt"]
        match message["kind"]:
            case "work":
                self._take_work(message)
            case "stop":
                self._stop(attempt, message["why"])
            case "drop":
                self._drop(attempt)

    def _take_work(self, work: Message) -> None:
        attempt = work["attempt"]
        if attempt in self._seen:
            return  # the same message, sent again because an answer was lost
        self._seen[attempt] = None
        while len(self._seen) > REMEMBERED:
            del self._seen[next(iter(self._seen))]
        if self._draining:
            self._link.report({"attempt": attempt, "outcome": "handed_back"})
            return
        self._queue.append(work)
        self._feed()

    def _feed(self) -> None:
        for child in self._children:
            if not self._queue:
                return
            if child.free:
                self._idle.clear()
                child.give(self._queue.popleft())

    def _child_with(self, attempt: int) -> Child | None:
        return next(
            (one for one in self._children if one.attempt and one.attempt["attempt"] == attempt),
            None,
        )

    def _stop(self, attempt: int, why: str) -> None:
        child = self._child_with(attempt)
        if child is None or child.attempt is None:
            if self._unqueue(attempt):
                self._link.report({"attempt": attempt, "outcome": "cancelled"})
            return
        if attempt in self._stops:
            return
        self._stops[attempt] = why
        child.send({"kind": "stop", "attempt": attempt, "why": why})
        grace = self._tasks.get(child.attempt["task"], {}).get("grace", DEFAULT_GRACE)
        loop = asyncio.get_running_loop()
        self._graces[attempt] = loop.call_later(grace, self._kill_attempt, attempt)

    def _kill_attempt(self, attempt: int) -> None:
        if child := self._child_with(attempt):
            child.kill()

    def _drop(self, attempt: int) -> None:
        """The attempt was given up as lost: its step may be running elsewhere, so end it here."""
        self._unqueue(attempt)
        self._link.forget(attempt)
        if child := self._child_with(attempt):
            self._say(f"worker {self.name}: {child.attempt and child.attempt['address']} was lost")
            child.attempt = None
            child.kill()

    def _unqueue(self, attempt: int) -> bool:
        before = len(self._queue)
        self._queue = deque(work for work in self._queue if work["attempt"] != attempt)
        return len(self._queue) < before

    def _on_refused(self, refusal: Message) -> None:
        self._say(f"worker {self.name}: a report was refused: {refusal['why']}")
        self._drop(refusal["attempt"])

    def _on_lease_over(self) -> None:
        """Others may be given what runs here: steps that must not overlap are ended."""
        for child in self._children:
            work = child.attempt
            if work and self._tasks.get(work["task"], {}).get("overlap") == "never":
                self._say(f"worker {self.name}: cut off for a whole lease, ends {work['address']}")
                child.kill()

    # What the service is told

    def _places(self) -> int:
        if self._draining:
            return 0
        return self.options.processes + self._ahead()

    def _ahead(self) -> int:
        """How many attempts are expected to begin within `AHEAD_SECONDS`."""
        if self._spent is None or self._spent >= AHEAD_SECONDS:
            return 0
        # Passing an attempt to a process and back takes its time too.
        each = max(self._spent, 0.0002)
        return min(AHEAD_MOST, int(AHEAD_SECONDS / each)) * self.options.processes

    def _introduce(self) -> Message:
        in_hand = [child.attempt["attempt"] for child in self._children if child.attempt]
        queued = [work["attempt"] for work in self._queue]
        unsent = self._link.attempts_to_report()
        return {
            "name": self.name,
            "places": self._places(),
            "tasks": {name: facts["code_hash"] for name, facts in self._tasks.items()},
            "in_hand": sorted({*in_hand, *queued, *unsent}),
            "facts": {
                "host": socket.gethostname(),
                "pid": os.getpid(),
                "processes": self.options.processes,
                "loom": self.options.load,
                "version": VERSION,
            },
        }


async def run_worker(options: WorkerOptions, say: Callable[[str], None]) -> None:
    """Run a worker until it is told to end."""
    with contextlib.suppress(asyncio.CancelledError):
        await Worker(options, say).run()
