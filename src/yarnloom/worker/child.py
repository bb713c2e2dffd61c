"""A worker's process: imports the loom, and runs one attempt at a time.

Started as `python -m yarnloom.worker.child FD MODULE:LOOM`; FD is its end of the channel. It
leads its own process group and prints into pipes that the worker reads.
"""

from __future__ import annotations

import asyncio
import contextlib
import inspect
import json
import logging
import os
import signal
import socket
import sys
import time
import traceback
from datetime import UTC, datetime
from typing import Any

from pydantic import ValidationError

from yarnloom.context import StepContext
from yarnloom.errors import GiveUp, LoomError, PlanError, Problem, Stopped, ValueRefused
from yarnloom.loading import load_loom
from yarnloom.loom import Task
from yarnloom.values import encode, pointer
from yarnloom.worker.frames import Channel, Closed, Message

TRACEBACK_LIMIT = 32_000


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
                    "text": self.format(record),
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
        try:
            inputs = self.task.inputs.validate_json(encode_input(self.message["input"]))
        except ValidationError as error:
            return refusal(self.task, error)
        if name := self.task.context_input:
            inputs[name] = StepContext(
                address=self.message["address"],
                attempt=self.message["number"],
                tries=self.message["tries"],
                token=self.message["token"],
                stop=self.stop_asked,
            )
        self.begun = time.monotonic()
        self.channel.send({"kind": "begun", "attempt": self.message["attempt"]})
        try:
            value = self.task.function(**inputs)
            if inspect.iscoroutine(value):
                value = asyncio.run(value)
            return {"outcome": "done", "output": self.output(value)}
        except Stopped as error:
            return failure("cancelled", error)
        except GiveUp as error:
            return failure("refused", error)
        except Closed:
            raise
        except BaseException as error:
            # Also SystemExit and KeyboardInterrupt: a task must not end its process.
            return failure("cancelled" if self.stop else "failed", error)

    def output(self, value: Any) -> Any:
        """The value as JSON, if it is what the task says that it returns."""
        what = f"what {self.task.name} returned"
        try:
            plain = self.task.output.dump_python(
                self.task.output.validate_python(value), mode="json", warnings="error"
            )
        except Exception as error:
            problems = validation_problems(error) if isinstance(error, ValidationError) else []
            reason = "" if problems else f": {error}"
            raise ValueRefused(
                f"{what} does not fit its annotation{reason}", problems=problems
            ) from None
        encode(plain, what)
        return plain

    def stop_asked(self) -> str | None:
        """Whether the worker told this attempt to stop."""
        if self.stop is None:
            for message in self.channel.pending():
                if message["kind"] == "stop" and message["attempt"] == self.message["attempt"]:
                    self.stop = message["why"]
        return self.stop


def encode_input(value: Any) -> bytes:
    """The input as Pydantic reads it best."""
    # Not `encode`: an input may hold several values, each as large as a value may be.
    return json.dumps(value, allow_nan=False).encode()


def refusal(task: Task, error: ValidationError) -> Message:
    """The outcome of an attempt whose input does not fit."""
    problems = validation_problems(error)
    refused = ValueRefused(f"the input does not fit task {task.full_name}", problems=problems)
    return {"outcome": "refused", "error": {"type": "InputRefused", "message": str(refused)}}


def validation_problems(error: ValidationError) -> list[Problem]:
    """What Pydantic found, with JSON Pointers."""
    return [
        Problem(pointer(*one["loc"]), f"{one['msg']}; found {one['input']!r:.80}")
        for one in error.errors(include_url=False)
    ]


def failure(outcome: str, error: BaseException) -> Message:
    """The outcome of an attempt that raised."""
    # The first frame is this module's, which tells the user nothing.
    trace = error.__traceback__.tb_next if error.__traceback__ else None
    text = "".join(traceback.format_exception(type(error), error, trace))
    return {
        "outcome": outcome,
        "error": {
            "type": type(error).__name__,
            "message": str(error),
            "traceback": text[-TRACEBACK_LIMIT:],
        },
    }


if __name__ == "__main__":
    # Under -m this file is __main__; the module proper is what user code may import.
    code = main(int(sys.argv[1]), sys.argv[2])
    sys.stdout.flush()
    sys.stderr.flush()
    # Not sys.exit: threads that user code left behind must not keep the process.
    os._exit(code)
