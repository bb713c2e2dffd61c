"""The end of a task's time in the process of a test."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import math
import signal
import threading
import time
from collections.abc import Callable
from types import FrameType
from typing import Any

from yarnloom.errors import Stopped
from yarnloom.sdk.interrupts import enter, is_in_users_code
from yarnloom.values import JsonObject


class Alarm:
    """Raises `Stopped` in a task's function when its time is over, as a worker does.

    In the main thread by a signal, which interrupts also what waits. In another thread the function
    gets it as soon as it runs Python code again.
    """

    def __init__(self) -> None:
        self._until = math.inf
        self._before: Any = None
        self._timer: threading.Timer | None = None
        self._inside = False
        self._thread = threading.get_ident()

    def set(self, seconds: float | None) -> None:
        """Let it go off in so many seconds; None for never."""
        if seconds is None:
            return
        self._until = time.monotonic() + max(0.001, seconds)
        if threading.current_thread() is threading.main_thread():
            self._before = signal.signal(signal.SIGALRM, self._on_signal)
            signal.setitimer(signal.ITIMER_REAL, max(0.001, seconds), 0.01)
        else:
            self._timer = threading.Timer(max(0.001, seconds), self._raise_there)
            self._timer.start()

    @property
    def has_gone_off(self) -> bool:
        """Whether the time is over."""
        return time.monotonic() >= self._until

    def run(self, function: Callable[..., Any], inputs: JsonObject) -> Any:
        """Call a function, so that it can be interrupted."""
        self._inside = True
        try:
            return enter(function, **inputs)
        finally:
            self._inside = False

    def _on_signal(self, _: int, frame: FrameType | None) -> None:
        with contextlib.suppress(RuntimeError):
            loop = asyncio.get_running_loop()
            loop.call_soon_threadsafe(_cancel_all, loop)
            return
        if self._inside and is_in_users_code(frame):
            self._inside = False
            raise Stopped("told to stop: timeout")

    def _raise_there(self) -> None:
        if self._inside:
            self._inside = False
            thread, error = ctypes.c_ulong(self._thread), ctypes.py_object(Stopped)
            ctypes.pythonapi.PyThreadState_SetAsyncExc(thread, error)

    def __enter__(self) -> Alarm:
        return self

    def __exit__(self, *_: object) -> None:
        if self._before is not None:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, self._before)
        if self._timer is not None:
            self._timer.cancel()


def _cancel_all(loop: asyncio.AbstractEventLoop) -> None:
    for task in asyncio.all_tasks(loop):
        task.cancel()
