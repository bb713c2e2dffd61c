"""A worker's process: imports the loom, and runs attempts.

Started as `python -m yarnloom.worker.child.main FD PAGE TICKETS PARENT MODULE:LOOM,… [PLACES]`.
FD is its end of the channel, PAGE the page of memory that names an attempt to be stopped
(`interrupts`), TICKETS where it reads what to begin (`tickets`), PARENT the worker's process, with
which it dies. It leads its own process group and prints into pipes that the worker reads. Without
PLACES it runs one attempt at a time (`one_at_a_time`); with it, that many at once (`many_at_once`).
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal
import socket
import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import NoReturn

from yarnloom.errors import LoomError
from yarnloom.sdk.hooks import AroundFailed
from yarnloom.sdk.interrupts import Interrupts, SharedPage, attempt_now
from yarnloom.sdk.loom import Loom
from yarnloom.task_texts import LINE_LIMIT, MESSAGE_LIMIT, TYPE_LIMIT, cut_text, printable
from yarnloom.worker.channel.frames import Channel, ChannelClosed, Message, Tickets
from yarnloom.worker.channel.messages import HeldMessages, MessageBuffer, Send
from yarnloom.worker.child.call_task import FORKS, is_plain, load_looms, raised, serving
from yarnloom.worker.child.deadline import Deadline, die_with_parent
from yarnloom.worker.child.many_at_once import run_shared
from yarnloom.worker.child.one_at_a_time import Alone


@dataclass(frozen=True, slots=True)
class LoadedLooms:
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


@dataclass(frozen=True, slots=True)
class Ends:
    """Descriptors that a process shares with its worker.

    Attributes:
        channel: messages.
        page: a page of memory.
        tickets: what to begin.
    """

    channel: int
    page: int
    tickets: int


def main(ends: Ends, specs: list[str], places: int | None) -> int:
    """Load the looms, and run attempts until the worker goes away; return the exit code."""
    channel = Channel(socket.socket(fileno=ends.channel))
    handler = MessageHandler(channel.send)
    prepare(handler)
    loaded = load(channel, specs)
    return 1 if loaded is None else work(channel, ends, handler, loaded, places)


def prepare(handler: logging.Handler) -> None:
    """Set up signals, printing and logging of this process, before a loom is loaded."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for stream in (sys.stdout, sys.stderr):
        stream.reconfigure(line_buffering=True, errors="backslashreplace")  # type: ignore[union-attr]
    logging.basicConfig(level=logging.INFO, handlers=[handler])


def load(channel: Channel, specs: list[str]) -> LoadedLooms | None:
    """Load the looms; None where they cannot be loaded, and the worker was told."""
    try:
        looms = load_looms(specs)
        facts = {
            name: {**task.facts(), "plain": is_plain(task, loom.around)}
            for loom in looms
            for name, task in loom.served.items()
        }
    except LoomError as error:
        channel.send({"kind": "unusable", "message": cut_text(str(error), MESSAGE_LIMIT)})
        return None
    return LoadedLooms(looms, facts, [_folder_of(spec) for spec in specs])


def work(
    channel: Channel, ends: Ends, handler: MessageHandler, loaded: LoadedLooms, places: int | None
) -> int:
    """Say what was loaded, and run attempts until the worker goes away; return the exit code."""
    page = SharedPage(ends.page)
    interrupts = Interrupts(page)
    interrupts.install()
    deadline = Deadline(page)
    looms = loaded.looms
    channel.send(loaded.message)
    try:
        with serving(looms) as served:
            if places is not None:
                FORKS.watch(channel.disown)
                asyncio.run(run_shared(channel, page, looms, served, places, deadline))
            else:
                outbox = MessageBuffer(channel, HeldMessages(page))
                handler.send = outbox.send
                FORKS.watch(channel.disown, outbox.in_fork)
                tickets = Tickets(ends.tickets)
                Alone(channel, outbox, tickets, page, served, interrupts, deadline).run()
    except AroundFailed as error:
        fault = raised(error).error or {}
        with contextlib.suppress(ChannelClosed):
            channel.send({"kind": "around_failed", **fault})
        return 1
    return 0


def _folder_of(spec: str) -> str:
    """The folder from which the loom's module, or the package around it, was loaded."""
    module = spec.partition(":")[0]
    file = Path(getattr(sys.modules[module], "__file__", None) or ".").resolve()
    up = module.count(".") + (file.name == "__init__.py")
    return str(file.parents[min(up, len(file.parents) - 1)])


class MessageHandler(logging.Handler):
    """Sends log records to the worker, each with the attempt that it came from."""

    def __init__(self, send: Send) -> None:
        super().__init__()
        self.send = send
        self.setFormatter(logging.Formatter("%(message)s"))

    def emit(self, record: logging.LogRecord) -> None:
        """Send one record; a process that the task forked prints it."""
        if FORKS.happened:
            sys.stderr.write(self.format(record) + "\n")
            return
        try:
            self.send(
                {
                    "kind": "line",
                    "attempt": attempt_now(),
                    "stream": "log",
                    "at": datetime.fromtimestamp(record.created, UTC).isoformat(),
                    "level": cut_text(str(record.levelname), TYPE_LIMIT).lower(),
                    "logger": cut_text(str(record.name), TYPE_LIMIT),
                    "text": cut_text(printable(self.format(record)), LINE_LIMIT),
                }
            )
        except ChannelClosed:
            pass
        except Exception:
            self.handleError(record)


def leave(code: int) -> NoReturn:
    """End this process, also where threads that user code left behind would keep it."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


if __name__ == "__main__":
    die_with_parent(int(sys.argv[4]))
    shared_places = int(sys.argv[6]) if len(sys.argv) > 6 else None
    given = Ends(*map(int, sys.argv[1:4]))
    leave(main(given, sys.argv[5].split(","), shared_places))
