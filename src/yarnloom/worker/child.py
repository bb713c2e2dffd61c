"""A worker's process: imports the loom, and runs attempts.

Started as `python -m yarnloom.worker.child FD PAGE PARENT MODULE:LOOM,… [PLACES]`; FD is its end of
the channel, PAGE the page of memory that names an attempt to be stopped (`interrupts`), PARENT the
worker's process, with which it dies. It leads its own process group and prints into pipes that the
worker reads. Without PLACES it runs one attempt at a time; with it, that many at once (`shared`).
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import logging
import os
import resource
import signal
import socket
import sys
import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NoReturn

from yarnloom import within
from yarnloom.around import AroundFailed
from yarnloom.errors import LoomError
from yarnloom.interrupts import Interrupts, Page
from yarnloom.loom import Loom
from yarnloom.within import ATTEMPT
from yarnloom.worker.calling import Called, call_task, printable, raised
from yarnloom.worker.deadline import Deadline, die_with_parent
from yarnloom.worker.frames import UNREADABLE, Channel, Closed, Message
from yarnloom.worker.served import Served, load_looms, serving
from yarnloom.worker.shared import (
    answer_of,
    published,
    run_shared,
    send_end,
    unreadable,
)


@dataclass(frozen=True, slots=True)
class Loaded:
    """Looms that were loaded.

    Attributes:
        looms: the looms.
        facts: of each task, by name.
        folders: where their code is.
    """

    looms: list[Loom]
    facts: dict[str, Message]
    folders: list[str]

    @property
    def message(self) -> Message:
        """What the worker is told."""
        return {"kind": "loaded", "tasks": self.facts, "folders": self.folders}


def main(descriptor: int, page: int, specs: list[str], places: int | None) -> int:
    """Load the looms, and run attempts until the worker goes away; return the exit code."""
    channel = Channel(socket.socket(fileno=descriptor))
    prepare(ChannelHandler(channel))
    loaded = load(channel, specs)
    return 1 if loaded is None else work(channel, page, loaded, places)


def prepare(handler: logging.Handler) -> None:
    """Set up signals, printing and logging of this process, before a loom is loaded."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for stream in (sys.stdout, sys.stderr):
        stream.reconfigure(line_buffering=True, errors="backslashreplace")  # type: ignore[union-attr]
    logging.basicConfig(level=logging.INFO, handlers=[handler])


def load(channel: Channel, specs: list[str]) -> Loaded | None:
    """Load the looms; None where they cannot be loaded, and the worker was told."""
    try:
        looms = load_looms(specs)
        facts = {name: task.facts() for loom in looms for name, task in loom.served.items()}
    except LoomError as error:
        channel.send({"kind": "unusable", "message": str(error)})
        return None
    return Loaded(looms, facts, [_folder_of(one) for one in specs])


def work(channel: Channel, page: int, loaded: Loaded, places: int | None) -> int:
    """Say what was loaded, and run attempts until the worker goes away; return the exit code."""
    shared_page = Page(page)
    interrupts = Interrupts(shared_page)
    interrupts.install()
    deadline = Deadline(shared_page)
    looms = loaded.looms
    channel.send(loaded.message)
    try:
        with serving(looms) as served:
            if places is not None:
                asyncio.run(run_shared(channel, looms, served, places, deadline))
            else:
                _run_alone(channel, served, interrupts, deadline)
    except AroundFailed as error:
        fault = raised(error).error or {}
        with contextlib.suppress(Closed):
            channel.send({"kind": "around_failed", "message": str(error), **fault})
        return 1
    return 0


def _run_alone(
    channel: Channel, served: dict[str, Served], interrupts: Interrupts, deadline: Deadline
) -> None:
    """Run one attempt after another, until this process is to end."""
    channel.send({"kind": "ready"})
    with contextlib.suppress(Closed):
        while (message := channel.receive())["kind"] != "end":
            if message["kind"] == "work":
                task = served[message["task"]]
                with deadline.held(task.task.overlap):
                    _Attempt(channel, task, message, interrupts).run()
            elif message["kind"] == UNREADABLE:
                channel.send(unreadable(message))


def _folder_of(spec: str) -> str:
    """The folder from which the loom's module, or the package around it, was loaded."""
    module = spec.partition(":")[0]
    file = Path(getattr(sys.modules[module], "__file__", None) or ".").resolve()
    up = module.count(".") + (file.name == "__init__.py")
    return str(file.parents[min(up, len(file.parents) - 1)])


class ChannelHandler(logging.Handler):
    """Sends log records to the worker, each with the attempt that it came from."""

    def __init__(self, channel: Channel) -> None:
        super().__init__()
        self.channel = channel
        self.setFormatter(logging.Formatter("%(message)s"))

    def emit(self, record: logging.LogRecord) -> None:
        """Send one record."""
        try:
            self.channel.send(
                {
                    "kind": "line",
                    "attempt": ATTEMPT.get(),
                    "stream": "log",
                    "at": datetime.fromtimestamp(record.created, UTC).isoformat(),
                    "level": record.levelname.lower(),
                    "logger": record.name,
                    "text": printable(self.format(record)),
                }
            )
        except Closed:
            pass
        except Exception:
            self.handleError(record)


class _Attempt:
    """One attempt, alone in this process, from its message to its report; it is its own line."""

    def __init__(
        self, channel: Channel, served: Served, message: Message, interrupts: Interrupts
    ) -> None:
        self.interrupts = interrupts
        self.channel = channel
        self.task = served.task
        self.around = served.around
        self.kept = served.kept
        self.message = message
        self.stop: str | None = None
        self.begun: float | None = None
        self.reading = threading.RLock()
        self.replies: dict[int, Message] = {}
        self.calls = itertools.count(1)

    def run(self) -> None:
        # The only attempt: also threads of the task's own log for it, whatever their context.
        context = self.task.context_type.for_work(self.message, self, self.kept)
        before = cpu_seconds()
        within.alone(self.message["attempt"])
        called = call_task(
            *(self.task, self.message["input"], context, self.on_begin, self.around),
            run=lambda function, inputs: self.interrupts.call(
                self.message["attempt"], function, inputs
            ),
        )
        within.alone(None)
        called = called.told(self.why(called))
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):  # the task closed it
                stream.flush()
        send_end(
            self.channel,
            self.message["attempt"],
            called,
            spent=None if self.begun is None else time.monotonic() - self.begun,
            cpu=cpu_seconds() - before,
            memory=peak_memory(),
            saved=context.record(done=called.outcome == "done"),
        )

    def why(self, called: Called) -> str | None:
        """Why the attempt was told to stop: by a message, or in the middle of its function."""
        asked = self.stop_asked() if called.outcome != "done" else self.stop
        return self.interrupts.raised_for(self.message["attempt"]) or asked

    def on_begin(self) -> None:
        self.begun = time.monotonic()
        self.channel.send({"kind": "begun", "attempt": self.message["attempt"]})

    def stop_asked(self) -> str | None:
        """Whether the worker told this attempt to stop."""
        with self.reading:
            for message in self.channel.pending():
                self.take(message)
        return self.stop

    def saved(self, changed: Message) -> None:
        """Tell the worker at once, so that nothing is repeated when this process dies."""
        self.send("saved", saved=changed)

    def publish(self, value: Any) -> None:
        """Send it on."""
        self.channel.send(published(self.message["attempt"], value))

    def ask(self, question: Message) -> Message:
        """Ask the service, and wait."""
        call = next(self.calls)
        self.send("ask", call=call, question=question)
        while True:
            with self.reading:
                if call in self.replies:
                    return answer_of(self.replies.pop(call))
                self.take(self.channel.receive())

    async def ask_later(self, question: Message) -> Message:
        """Ask from a coroutine: this process has nothing else to do."""
        return await asyncio.to_thread(self.ask, question)

    def take(self, message: Message) -> None:
        if message["attempt"] != self.message["attempt"]:
            return
        match message["kind"]:
            case "stop":
                self.stop = message["why"]
            case "go_on":
                self.stop = None
            case "reply":
                self.replies[message["call"]] = message

    def send(self, kind: str, **facts: Any) -> None:
        self.channel.send({"kind": kind, "attempt": self.message["attempt"], **facts})


def leave(code: int) -> NoReturn:
    """End this process, also where threads that user code left behind would keep it."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def cpu_seconds() -> float:
    """Processor time of this process and of those it started and waited for."""
    return sum(os.times()[:4])


def peak_memory() -> int:
    """The most memory that this process ever had, in bytes."""
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024  # Linux counts kilobytes


if __name__ == "__main__":
    die_with_parent(int(sys.argv[3]))
    shared_places = int(sys.argv[5]) if len(sys.argv) > 5 else None
    descriptor, page, specs = int(sys.argv[1]), int(sys.argv[2]), sys.argv[4].split(",")
    leave(main(descriptor, page, specs, shared_places))
