"""Many attempts in one process: `async def` tasks on one event loop, `io=True` tasks on threads.

What Python prints goes to the attempt that printed it; what C code or a subprocess prints cannot
be told apart, and goes to the worker's log. An attempt cannot be killed alone: after its grace a
coroutine is cancelled, a thread can only be abandoned.
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import sys
import time
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from functools import partial
from typing import Any

from yarnloom.errors import YarnloomError
from yarnloom.sdk.base_context import BaseContext
from yarnloom.sdk.file_values import SHELF
from yarnloom.sdk.interrupts import ATTEMPT, SharedPage
from yarnloom.sdk.loom import Loom
from yarnloom.sdk.task import DeclaredTask
from yarnloom.values import JsonObject, JsonValue
from yarnloom.worker.channel.frames import UNREADABLE, Channel, ChannelClosed, Message
from yarnloom.worker.channel.messages import AttemptStream, published
from yarnloom.worker.child.call_task import (
    FORKS,
    NOT_CALLED,
    Called,
    Served,
    fetch_ahead,
    leave,
    prepare,
    raised,
    returned,
    serving_coroutines,
)
from yarnloom.worker.child.deadline import Deadline
from yarnloom.worker.child.one_at_a_time import answer_of, send_end, unreadable


async def run_shared(
    channel: Channel,
    page: SharedPage,
    looms: list[Loom],
    served: dict[str, Served],
    places: int,
    deadline: Deadline,
) -> None:
    """Run attempts, up to `places` at once, until this process is to end.

    Args:
        channel: to the worker.
        page: shared with the worker.
        looms: whose tasks are run.
        served: the tasks by full name.
        places: how many at once.
        deadline: holds this process to its worker's lease.

    Raises:
        AroundFailed: what a loom wraps around a process has failed.
    """
    async with serving_coroutines(looms, served) as on_loop:
        channel.send({"kind": "ready"})
        await _Shared(channel, page, on_loop, places, deadline).serve()


class _Line:
    """How a context in a shared process reaches the worker."""

    def __init__(self, shared: _Shared, attempt: int) -> None:
        self._shared = shared
        self._attempt = attempt
        self._calls = itertools.count(1)

    def stop_asked(self) -> str | None:
        """Why the attempt is told to stop."""
        return self._shared.stops.get(self._attempt)

    def saved(self, changed: Message) -> None:
        """Tell the worker at once."""
        self._send("saved", saved=changed)

    def publish(self, value: JsonValue, to: str = "", *, append: bool = False) -> None:
        """Send it on."""
        self._shared.channel.send(published(self._attempt, value, to, append=append))

    def ask(self, question: Message) -> Message:
        """Ask the service, and wait, on a thread of its own."""
        if _on_the_loop():
            raise TypeError(
                "in an `async def` task annotate ctx with AsyncStepContext, and await what waits "
                "for the service: `await ctx.once(...)`, `async for x in ctx.track_each(...)`"
            )
        return answer_of(self._ask(question).result())

    async def ask_later(self, question: Message) -> Message:
        """Ask the service; others run meanwhile."""
        return answer_of(await asyncio.wrap_future(self._ask(question)))

    def _ask(self, question: Message) -> Future[Message]:
        call, answer = next(self._calls), Future[Message]()
        self._shared.asked[self._attempt, call] = answer
        self._send("ask", call=call, question=question)
        return answer

    def _send(self, kind: str, **facts: Any) -> None:
        self._shared.channel.send({"kind": kind, "attempt": self._attempt, **facts})


async def _until_fork(task: DeclaredTask, inputs: JsonObject) -> Any:
    """Await a task's coroutine; a process that it forks ends with it."""
    try:
        value = await task.function(**inputs)
    except BaseException as error:
        if FORKS.happened:
            leave(error)
        raise
    if FORKS.happened:
        leave(None)
    return value


def _on_the_loop() -> bool:
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return False
    return True


class _Shared:
    def __init__(
        self,
        channel: Channel,
        page: SharedPage,
        served: dict[str, Served],
        places: int,
        deadline: Deadline,
    ) -> None:
        self.deadline = deadline
        self.page = page
        self.channel = channel
        self.served = served
        self.threads = ThreadPoolExecutor(places, thread_name_prefix="yarnloom-io")
        self.streams = (
            AttemptStream("stdout", sys.stdout, channel.send),
            AttemptStream("stderr", sys.stderr, channel.send),
        )
        self.running: dict[int, asyncio.Task[None]] = {}
        self.begun: set[int] = set()
        self.coroutines: set[int] = set()  # what can be cancelled; a thread cannot
        self.stops: dict[int, str] = {}
        self.asked: dict[tuple[int, int], Future[Message]] = {}
        self.gone = asyncio.Event()

    async def serve(self) -> None:
        sys.stdout, sys.stderr = self.streams
        asyncio.get_running_loop().add_reader(self.channel.fileno(), self.read)
        await self.gone.wait()

    def read(self) -> None:
        if FORKS.happened:
            leave(None)  # a fork has the event loop, too, but nothing of the worker is for it
        try:
            for message in self.channel.pending():
                self.take(message)
        except ChannelClosed:
            asyncio.get_running_loop().remove_reader(self.channel.fileno())
            self.gone.set()

    def take(self, message: Message) -> None:
        if message["kind"] == "end":
            self.gone.set()
            return
        attempt = message["attempt"]
        match message["kind"]:
            case kind if kind == UNREADABLE:
                self.channel.send(unreadable(message))
            case "work":
                running = self.running[attempt] = asyncio.create_task(self.run(message))
                running.add_done_callback(lambda _: self.running.pop(attempt, None))
            case "stop":
                self.stops[attempt] = message["why"]
            case "go_on":
                self.stops.pop(attempt, None)
            case "reply":
                if waiting := self.asked.pop((attempt, message["call"]), None):
                    waiting.set_result(message)
            case "interrupt" if attempt in self.coroutines or self.has_not_begun(attempt):
                self.stops.setdefault(attempt, message["why"])
                self.running[attempt].cancel()

    def has_not_begun(self, attempt: int) -> bool:
        """Whether an attempt is here whose task was not called yet: then it never will be."""
        return attempt in self.running and attempt not in self.begun

    async def run(self, work: Message) -> None:
        attempt = work["attempt"]
        ATTEMPT.set(attempt)
        served = self.served[work["task"]]
        line = _Line(self, attempt)
        context = served.task.context_type.for_work(work, line, served.kept)
        SHELF.set(context.shelf)  # of this attempt's own task, which ends with it
        begun: list[float] = []
        try:
            await fetch_ahead(work["input"], context, line)
        except YarnloomError as error:
            called = raised(error)
        else:
            with self.deadline.held(served.task.overlap):
                called = await self.call(served, work, context, line, begun)
        called = called.told(self.stops.get(attempt))
        for stream in self.streams:
            stream.finish(attempt)
        self.begun.discard(attempt)
        self.stops.pop(attempt, None)
        with contextlib.suppress(ChannelClosed):
            send_end(
                self.channel,
                attempt,
                called,
                at=(begun[0] if begun else None, time.monotonic()),
                saved=context.record(done=called.outcome == "done"),
            )

    async def call(
        self, served: Served, work: Message, context: BaseContext, line: _Line, begun: list[float]
    ) -> Called:
        task, attempt = served.task, work["attempt"]
        inputs = prepare(task, work["input"], context)
        if isinstance(inputs, Called):
            return inputs
        if work.get("begin") or task.overlap == "never":
            try:
                await line.ask_later({"kind": "begin"})
            except YarnloomError:
                return NOT_CALLED  # it was given up, and may be running elsewhere
        begun.append(time.monotonic())
        self.begun.add(attempt)
        self.page.begin_beside_others(attempt)
        self.channel.send({"kind": "begun", "attempt": attempt})
        try:
            if task.is_async:
                self.coroutines.add(attempt)
                coroutine = served.around.call_later(context, lambda: _until_fork(task, inputs))
                return returned(task, await coroutine, context)
            return returned(task, await self.on_thread(served, inputs, context), context)
        except BaseException as error:
            return raised(error)
        finally:
            self.coroutines.discard(attempt)

    async def on_thread(self, served: Served, inputs: JsonObject, context: BaseContext) -> Any:
        # In a copy of this attempt's context: what a wrapper sets is the task's, and nobody else's.
        own = copy_context()

        def call() -> Any:
            function = partial(served.task.function, **inputs)
            return own.run(served.around.call, context, lambda: FORKS.call(function))

        return await asyncio.get_running_loop().run_in_executor(self.threads, call)
