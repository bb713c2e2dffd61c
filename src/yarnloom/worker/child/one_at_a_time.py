"""A process that runs one attempt at a time, as fast as they come.

It takes a ticket (`Tickets`), writes the begin of the attempt into the shared page, and sends ends
in batches while more tickets wait (`messages`).

Attempts that were sent behind one another are each given what those before them gave. Where one is
not simply done, with an output that can be passed on, those behind it go back to the service.

Decision: `docs/decisions/13-relays.md`.
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import resource
import select
import sys
import threading
import time
from collections.abc import Callable
from typing import Any, Protocol

from yarnloom.errors import ValueRefused, YarnloomError, subclasses
from yarnloom.media_types import named_in
from yarnloom.sdk import interrupts
from yarnloom.sdk.file_values import SHELF, Shelf
from yarnloom.sdk.interrupts import Interrupts, SharedPage
from yarnloom.task_texts import error_record
from yarnloom.values import JsonObject, JsonValue, encode
from yarnloom.worker.channel.frames import UNREADABLE, Channel, ChannelClosed, Message, Tickets
from yarnloom.worker.channel.messages import AttemptStream, MessageBuffer, Pipes, published
from yarnloom.worker.child.call_task import FORKS, NOT_CALLED, Called, Served, call_plain, call_task
from yarnloom.worker.child.deadline import Deadline

LARGEST_PASSED = 64 * 1024
"""Bytes of an output that is passed on; the service, which has limits, handles larger ones."""


def answer_of(reply: Message) -> Message:
    """What the service answered, or the error that it answered with."""
    if fault := reply.get("error"):
        kind = subclasses().get(fault["code"], YarnloomError)
        raise kind(fault["message"])
    answer: Message = reply["answer"]
    return answer


class Sends(Protocol):
    """What a message can be sent with."""

    def send(self, message: Message) -> None:
        """Send it."""


def send_end(outbox: Sends, attempt: int, called: Called, **facts: Any) -> None:
    """Tell the worker how an attempt ended; what cannot be told makes it a failed one."""
    end = {"kind": "ended", "attempt": attempt, "outcome": called.outcome, **facts}
    for name in ("output", "error", "after"):
        if (value := getattr(called, name)) is not None:
            end[name] = value
    try:
        outbox.send(end)
    except ValueRefused as error:
        fault = error_record("ValueRefused", f"its end cannot be told: {error}")
        outbox.send({**end, "outcome": "failed", "output": None, "error": fault, "saved": None})


def unreadable(message: Message) -> Message:
    """The end of an attempt whose work cannot be read."""
    fault = error_record("ValueRefused", f"its work cannot be read: {message['message']}")
    ended = {"kind": "ended", "attempt": message["attempt"], "at": None, "outcome": "refused"}
    return {**ended, "output": None, "error": fault, "after": None}


class PassedOutputs:
    """What the attempts gave that a process ran last, one behind the other."""

    def __init__(self) -> None:
        self._outputs: dict[int, JsonValue] = {}

    def prepare(self, work: Message) -> bool:
        """Complete the input of an attempt that comes next; whether it may be run."""
        behind = work.get("behind")
        if behind is None:
            if self._outputs:
                self._outputs = {}
            return True
        if behind not in self._outputs:
            return False
        work["input"] |= {name: self._outputs[one] for name, one in work["passed"].items()}
        return True

    def keep(self, attempt: int, called: Called) -> None:
        """Remember what an attempt gave that others come behind."""
        if called.outcome != "done":
            return
        with contextlib.suppress(ValueRefused):
            text = encode(called.output, limit=LARGEST_PASSED)
            if not named_in(text):
                self._outputs[attempt] = called.output


def not_behind(attempt: int) -> Message:
    """Return the end of an attempt that does not run, since the one before it did not end well."""
    ended = {"kind": "ended", "attempt": attempt, "at": None, "outcome": "handed_back"}
    return {**ended, "output": None, "error": None, "after": None, "saved": None}


FORKED = 0.0003
"""Seconds; starting a process and waiting for its end takes longer."""

SHORT = 0.001
"""Seconds; behind an attempt of a task that took longer the last two times, nothing waits. Once
says little: the process may have had to wait for a core."""
_UNKNOWN = (SHORT, SHORT)


class Alone:
    """Runs one attempt after another, until this process is to end.

    Args:
        channel: from the worker.
        outbox: to the worker.
        tickets: what to begin.
        page: shared with the worker.
        served: the tasks by full name.
        interrupts: raises stops in the middle of a task.
        deadline: holds this process to its worker's lease.
    """

    def __init__(
        self,
        channel: Channel,
        outbox: MessageBuffer,
        tickets: Tickets,
        page: SharedPage,
        served: dict[str, Served],
        interrupts: Interrupts,
        deadline: Deadline,
    ) -> None:
        self.channel = channel
        self.outbox = outbox
        self.page = page
        self.interrupts = interrupts
        self._tickets = tickets
        self._served = served
        self._deadline = deadline
        self._works: dict[int, Message] = {}
        self._relay = PassedOutputs()
        self._spent: dict[str, tuple[float, float]] = {}  # the last two times
        self._ending = False
        self._pipes = Pipes(page)
        self._streams: tuple[AttemptStream, ...] = ()
        self._poll = select.poll()
        self.usage = Usage()
        self.reading = threading.RLock()
        self.calls = itertools.count(1)

    def run(self) -> None:
        """Send `ready`, then run attempts."""
        self._streams = (
            AttemptStream("stdout", sys.stdout, self.outbox.send, self._pipes.settle),
            AttemptStream("stderr", sys.stderr, self.outbox.send, self._pipes.settle),
        )
        sys.stdout, sys.stderr = self._streams
        self._poll.register(self._tickets.fileno(), select.POLLIN)
        self._poll.register(self.channel.fileno(), select.POLLIN)
        self.outbox.send({"kind": "ready"})
        with contextlib.suppress(ChannelClosed):
            while (work := self._next()) is not None:
                if work["kind"] == UNREADABLE:
                    self.outbox.send(unreadable(work))
                    continue
                if self._relay.prepare(work):
                    self._run(work)
                else:
                    self.outbox.send(not_behind(work["attempt"]))

    def _next(self) -> Message | None:
        """The next attempt's message; None if this process is to end."""
        while True:
            attempt = self._tickets.take()
            if attempt is not None:
                while attempt not in self._works:
                    self.sort(self.channel.receive())
                work = self._works.pop(attempt)
                self.outbox.hold(bool(self._works))
                return work
            self.outbox.flush()
            if self._ending:
                return None
            for descriptor, _ in self._poll.poll():
                if descriptor == self.channel.fileno():
                    for message in self.channel.pending():
                        self.sort(message)

    def sort(self, message: Message) -> bool:
        """Handle a message about a queued attempt; return whether it was one."""
        match message["kind"]:
            case "work" | "unreadable":
                self._works[message["attempt"]] = message
            case "taken_back":
                self._works.pop(message["attempt"], None)
            case "end":
                self._ending = True
            case _:
                return False
        return True

    def _run(self, work: Message) -> None:
        name = work["task"]
        last = self._spent.get(name, _UNKNOWN)
        if min(last) >= SHORT:
            self.outbox.flush()  # ends of earlier attempts must not wait for this one
        served, begun = self._served[name], time.monotonic()
        attempt = _Attempt(self, served, work)
        if served.task.overlap == "never":
            with self._deadline.held("never"):
                attempt.run()
        else:
            attempt.run()
        if work.get("leads"):
            self._relay.keep(attempt.id, attempt.called)
        self._spent[name] = last[1], time.monotonic() - begun

    def finish(self, attempt: int) -> None:
        """Tell the worker all that an attempt printed."""
        for stream in self._streams:
            stream.finish(attempt)
        self._pipes.settle()


class GivenUp(Exception):
    """The attempt may not begin: it was given up, and its step may be running elsewhere."""


class _Attempt:
    """One attempt, alone in this process, from its message to its report; it is its own line."""

    __slots__ = ("begun", "called", "home", "id", "message", "replies", "served", "stop")

    def __init__(self, home: Alone, served: Served, message: Message) -> None:
        self.home = home
        self.served = served
        self.message = message
        self.id: int = message["attempt"]
        self.stop: str | None = None
        self.begun: float | None = None
        self.called = NOT_CALLED
        self.replies: dict[int, Message] = {}

    def run(self) -> None:
        # The only attempt: also threads of the task's own log for it, whatever their context.
        interrupts.alone(self.id)
        usage = self.home.usage
        called, saved = self.call()
        interrupts.alone(None)
        ended = time.monotonic()
        self.called = called = called.told(self.why(called))
        self.home.finish(self.id)
        send_end(
            self.home.outbox,
            self.id,
            called,
            at=(self.begun, ended),
            cpu=usage.spent(ended - (self.begun or 0.0)),
            memory=usage.memory,
            saved=saved,
        )

    def call(self) -> tuple[Called, JsonObject | None]:
        """Call the task; return its result and its saved record."""
        task, given = self.served.task, self.message["input"]
        if self.served.plain and "saved" not in self.message:
            shelf = SHELF.set(Shelf(self))
            try:
                return call_plain(task, given, self.on_begin, self.run_function), None
            except GivenUp:
                return NOT_CALLED, None
            finally:
                SHELF.reset(shelf)
        context = task.context_type.for_work(self.message, self, self.served.kept)
        try:
            called = call_task(
                *(task, given, context, self.on_begin, self.served.around), run=self.run_function
            )
        except GivenUp:
            return NOT_CALLED, None
        return called, context.record(done=called.outcome == "done")

    def run_function(self, function: Callable[..., Any], inputs: JsonObject) -> Any:
        """Call the task's function, so that it can be stopped."""
        return FORKS.call(lambda: self.home.interrupts.call(self.id, function, inputs))

    def why(self, called: Called) -> str | None:
        """Return why the attempt was asked to stop: by a message, or by a signal."""
        asked = self.stop_asked() if called.outcome != "done" else self.stop
        return self.home.interrupts.raised_for(self.id) or asked

    def on_begin(self) -> None:
        if self.message.get("begin") or self.served.task.overlap == "never":
            try:
                self.ask({"kind": "begin"})
            except YarnloomError as error:
                raise GivenUp from error
        self.begun = time.monotonic()
        self.home.page.begin(self.id, self.begun)

    def stop_asked(self) -> str | None:
        """Whether the worker told this attempt to stop."""
        with self.home.reading:
            for message in self.home.channel.pending():
                self.take(message)
        return self.stop

    def saved(self, changed: Message) -> None:
        """Tell the worker at once, so that nothing is repeated when this process dies."""
        self.send("saved", saved=changed)

    def publish(self, value: JsonValue, to: str = "", *, append: bool = False) -> None:
        """Send it on."""
        self.home.outbox.send(published(self.id, value, to, append=append))

    def ask(self, question: Message) -> Message:
        """Ask the service, and wait."""
        call = next(self.home.calls)
        self.send("ask", call=call, question=question)
        while True:
            with self.home.reading:
                if call in self.replies:
                    return answer_of(self.replies.pop(call))
                self.take(self.home.channel.receive())

    async def ask_later(self, question: Message) -> Message:
        """Ask from a coroutine: this process has nothing else to do."""
        return await asyncio.to_thread(self.ask, question)

    def take(self, message: Message) -> None:
        if self.home.sort(message) or message["attempt"] != self.id:
            return
        match message["kind"]:
            case "stop":
                self.stop = message["why"]
            case "go_on":
                self.stop = None
            case "reply":
                self.replies[message["call"]] = message

    def send(self, kind: str, **facts: Any) -> None:
        """Tell the worker at once, with all that waits."""
        self.home.outbox.send({"kind": kind, "attempt": self.id, **facts})
        self.home.outbox.flush()


class Usage:
    """What this process has used, those that it started and waited for included.

    Attributes:
        memory: the most that it ever had, in bytes.
    """

    def __init__(self) -> None:
        self.memory = 0
        self._before = self._started = 0.0
        self.spent()

    def spent(self, took: float = FORKED) -> float:
        """Processor time since this was asked last, in seconds.

        Args:
            took: how long the attempt took; in a very short one no process can have been started.
        """
        own = resource.getrusage(resource.RUSAGE_SELF)
        if took >= FORKED:
            started = resource.getrusage(resource.RUSAGE_CHILDREN)
            self._started = started.ru_utime + started.ru_stime
        now = own.ru_utime + own.ru_stime + self._started
        spent, self._before = max(0.0, now - self._before), now
        self.memory = own.ru_maxrss * (1 if sys.platform == "darwin" else 1024)
        return spent
