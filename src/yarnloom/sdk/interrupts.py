"""Stopping a task that cannot hear of it: an exception raised in the middle of its function.

The worker writes into a page of memory which attempt it means, and sends this process a signal.
The handler raises `Stopped` only while that attempt's own function runs: never while this package
writes a frame, reads an answer or records an effect, nor in what a loom wraps around attempts.

How it can tell: a user's function is always called by `enter`. Of the frames below the one that
was interrupted, the first of this package is `enter` exactly where the user's own code runs.

Decision: `docs/decisions/07-stops-in-processes.md`.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import signal
import struct
import tempfile
from collections.abc import Callable
from contextvars import ContextVar
from pathlib import Path
from types import FrameType
from typing import Any, TypeVar

from yarnloom.begun_files import RING_BYTES, BegunRing, make_file
from yarnloom.errors import Stopped
from yarnloom.values import JsonObject

ATTEMPT: ContextVar[int | None] = ContextVar("yarnloom_attempt", default=None)
"""The attempt that the present thread or coroutine runs for, in a shared process."""

_alone: list[int] = []


def attempt_now() -> int | None:
    """The id of the attempt that calls, in any thread where it is its process's only one."""
    found = ATTEMPT.get()
    if found is None and _alone:
        with contextlib.suppress(IndexError):  # it ended in this moment
            return _alone[0]
    return found


def alone(attempt: int | None) -> None:
    """Say which attempt is the only one of this process; None says that it has ended."""
    _alone[:] = [] if attempt is None else [attempt]


T = TypeVar("T")

SIGNAL = getattr(signal, "SIGRTMIN", signal.SIGUSR2)
"""A real-time signal where there is one: few programs use those for anything."""

REASONS = ("cancel", "timeout", "quiet", "deadline", "lost")
_PAGE = struct.Struct("=QB")
_UNTIL = struct.Struct("=d")
_UNTIL_AT = 64
_BEGUN = struct.Struct("=Qd")
_BEGUN_AT = 128
_READING_AT = 192
HELD_AT = mmap.PAGESIZE
HELD_BYTES = 1 << 17
"""Where messages wait that a process has not sent (`held_messages`), and the size of that place."""

_RING_AT = HELD_AT + HELD_BYTES
_SIZE = _RING_AT + RING_BYTES

_PACKAGE = str(Path(__file__).parent.parent) + os.sep
# An exception in the middle of taking a log handler's lock could leave it taken.
_NOT_TO_BE_CUT = (os.sep + os.path.join("logging", "__init__.py"),)


def enter(function: Callable[..., T], *args: Any, **inputs: Any) -> T:
    """Call a user's function; from here on it can be interrupted."""
    return function(*args, **inputs)


class SharedPage:
    """A page of memory that a worker shares with one process, and some more behind it.

    It names the attempt that is to be stopped, until when what must not overlap may go on, and
    what began last, and when.

    Args:
        descriptor: of a page that another process made; a new one is made without it.
        owner: the worker's id, where what began is to be known after the worker's end.

    Attributes:
        memory: all of it.
    """

    def __init__(self, descriptor: int | None = None, owner: str = "") -> None:
        self._path: Path | None = None
        if descriptor is None:
            if owner:
                descriptor, self._path = make_file(owner)
            elif hasattr(os, "memfd_create"):
                descriptor = os.memfd_create("yarnloom-stops")
            else:
                descriptor, path = tempfile.mkstemp(prefix="yarnloom-")
                os.unlink(path)
            os.ftruncate(descriptor, _SIZE)
        self.descriptor = descriptor
        self.memory = mmap.mmap(descriptor, _SIZE)
        self._begins = BegunRing(self.memory, _RING_AT)

    def name(self, attempt: int, why: str) -> None:
        """Name the attempt that is to be stopped."""
        reason = REASONS.index(why) if why in REASONS else 0
        self.memory[: _PAGE.size] = _PAGE.pack(attempt, reason)

    def named(self) -> tuple[int, str]:
        """Return the attempt that was named last, 0 for none, and why."""
        attempt, reason = _PAGE.unpack(self.memory[: _PAGE.size])
        return attempt, REASONS[reason]

    def allow_until(self, at: float) -> None:
        """Say until when what must not overlap may go on, on the clock of `worker.deadline`."""
        _UNTIL.pack_into(self.memory, _UNTIL_AT, at)

    def until(self) -> float:
        """Return what was said last; 0 where nothing was."""
        (at,) = _UNTIL.unpack_from(self.memory, _UNTIL_AT)
        return float(at)

    def begin(self, attempt: int, at: float) -> None:
        """Say that an attempt begins now, alone in its process."""
        self._begins.add(attempt)
        _BEGUN.pack_into(self.memory, _BEGUN_AT, attempt, at)

    def begin_beside_others(self, attempt: int) -> None:
        """Say that an attempt begins now in a process that several share."""
        self._begins.add(attempt)

    def begun(self) -> tuple[int, float]:
        """Return what began last, 0 for nothing, and when; it may have ended."""
        found = None
        while found != (found := _BEGUN.unpack_from(self.memory, _BEGUN_AT)):
            pass  # it was written meanwhile
        attempt, at = found
        return attempt, at

    @property
    def reading(self) -> bool:
        """Whether the worker reads the pipes and has not yet assigned the bytes to an attempt."""
        return self.memory[_READING_AT] != 0

    @reading.setter
    def reading(self, on: bool) -> None:
        self.memory[_READING_AT] = on

    def close(self) -> None:
        """Let go of it."""
        self.memory.close()
        if self._path:
            self._path.unlink(missing_ok=True)
        os.close(self.descriptor)


class Interrupts:
    """Raises `Stopped` in the function of the attempt that the page names.

    Args:
        page: shared with the worker.
    """

    def __init__(self, page: SharedPage) -> None:
        self._page = page
        self._attempt = 0
        self._raised = False
        self._why: str | None = None

    def install(self) -> None:
        """Listen to the worker's signal, in the main thread."""
        signal.signal(SIGNAL, self._on_signal)

    def call(self, attempt: int, function: Callable[..., T], inputs: JsonObject) -> T:
        """Call an attempt's function, so that it can be stopped.

        Raises:
            Stopped: it was.
        """
        self._raised, self._why = False, None
        self._attempt = attempt
        try:
            return enter(function, **inputs)
        finally:
            self._attempt = 0

    def raised_for(self, attempt: int) -> str | None:
        """Return why the attempt that was called last was stopped; None if it was not."""
        return self._why if self._page.named()[0] == attempt else None

    def _on_signal(self, _: int, frame: FrameType | None) -> None:
        attempt, why = self._page.named()
        if attempt and attempt == self._attempt and not self._raised and is_in_users_code(frame):
            self._raised, self._why = True, why
            raise Stopped(f"told to stop: {why}")


def is_in_users_code(frame: FrameType | None) -> bool:
    """Return whether a frame runs a user's function, called by `enter`, and nothing of ours."""
    interrupted = frame
    while frame is not None:
        code = frame.f_code
        if code is enter.__code__:
            return frame is not interrupted  # else the function has not begun, or has returned
        if code.co_filename.startswith(_PACKAGE) or code.co_filename.endswith(_NOT_TO_BE_CUT):
            return False
        frame = frame.f_back
    return False
