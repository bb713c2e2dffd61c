"""A worker's process: imports the loom, and runs one attempt at a time.

Started as `python -m yarnloom.worker.child FD MODULE:LOOM`; FD is its end of the channel. It
leads its own process group and prints into pipes that the worker reads.
"""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import socket
import sys
import time
from datetime import UTC, datetime

from yarnloom.context import StepContext
from yarnloom.errors import LoomError, PlanError, ValueRefused
from yarnloom.loading import load_loom
from yarnloom.loom import Task
from yarnloom.worker.calling import call_task, printable
from yarnloom.worker.frames import Channel, Closed, Message


def main(descriptor: int, spec: str) -> int:
    """Load the loom, say what it has, and run attempts until the worker goes away."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    channel = Channel(socket.socket(fileno=descriptor))
    for stream in (sys.stdout, sys.stderr):
        stream.reconfigure(line_buffering=True, errors="backslashreplace")  # type: ignore[union-attr]
    logging.basicConfig(level=logging.INFO, handlers=[ChannelHandler(channel)])
    try:
        loom = load_loom(spec)
        loom.check()
        tasks = {task.full_name: task for task in loom.tasks.values()}
        facts = [task.facts() for task in tasks.values()]
    except (LoomError, PlanError) as error:
        channel.send({"kind": "unusable", "message": str(error)})
        return 1
    channel.send({"kind": "ready", "loom": loom.name, "tasks": facts})
    try:
        while True:
            message = channel.receive()
            if message["kind"] == "work":
                _Attempt(channel, tasks[message["task"]], message).run()
    except Closed:
        return 0


class ChannelHandler(logging.Handler):
    """Sends log records to the worker, each to the attempt that is running."""

    def __init__(self, channel: Channel) -> None:
        super().__init__()
        self._channel = channel
        self.setFormatter(logging.Formatter("%(message)s"))

    def emit(self, record: logging.LogRecord) -> None:
        """Send one record."""
        try:
            self._channel.send(
                {
                    "kind": "log",
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
    """One attempt, from its message to its report."""

    def __init__(self, channel: Channel, task: Task, message: Message) -> None:
        self.channel = channel
        self.task = task
        self.message = message
        self.stop: str | None = None
        self.begun: float | None = None

    def run(self) -> None:
        outcome = self.outcome()
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):  # the task closed it
                stream.flush()
        spent = None if self.begun is None else time.monotonic() - self.begun
        self.channel.send(
            {"kind": "ended", "attempt": self.message["attempt"], "spent": spent, **outcome}
        )

    def outcome(self) -> Message:
        context = StepContext(
            address=self.message["address"],
            attempt=self.message["number"],
            tries=self.message["tries"],
            token=self.message["token"],
            stop=self.stop_asked,
        )
        called = call_task(self.task, self.message["input"], context, self.on_begin)
        outcome = called.outcome
        if outcome == "failed" and self.stop and not isinstance(called.raised, ValueRefused):
            outcome = "cancelled"  # what a step raises after it was told to stop
        return {"outcome": outcome, "output": called.output, "error": called.error}

    def on_begin(self) -> None:
        self.begun = time.monotonic()
        self.channel.send({"kind": "begun", "attempt": self.message["attempt"]})

    def stop_asked(self) -> str | None:
        """Whether the worker told this attempt to stop."""
        if self.stop is None:
            for message in self.channel.pending():
                if message["kind"] == "stop" and message["attempt"] == self.message["attempt"]:
                    self.stop = message["why"]
        return self.stop


if __name__ == "__main__":
    # Under -m this file is __main__; the module proper is what user code may import.
    code = main(int(sys.argv[1]), sys.argv[2])
    sys.stdout.flush()
    sys.stderr.flush()
    # Not sys.exit: threads that user code left behind must not keep the process.
    os._exit(code)
