"""A process that ends by itself when it may not go on: what must not overlap ends with the lease.

The worker writes into the page of memory that it shares with each process until when the service
surely gives nothing of it to others. While an attempt of a task with `overlap="never"` runs, a
timer of the system kills the process at that time, whatever it does, also where it, its worker or
the whole machine stood still. A thread sets the timer anew as the worker writes later times.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import threading
import time
from collections.abc import Iterator

from yarnloom.sdk.interrupts import SharedPage

CLOCK = getattr(time, "CLOCK_BOOTTIME", getattr(time, "CLOCK_MONOTONIC", 1))
"""Goes on while the machine sleeps, where the system has such a clock."""

LOOK_SECONDS = 0.2
_ABSOLUTE = 1


def now() -> float:
    """Seconds of the clock that deadlines are told by, the same in all processes."""
    return time.clock_gettime(CLOCK)


class _Event(ctypes.Structure):
    _fields_ = (
        ("value", ctypes.c_void_p),
        ("signal", ctypes.c_int),
        ("notify", ctypes.c_int),
        ("rest", ctypes.c_char * 48),
    )


class _Times(ctypes.Structure):
    _fields_ = (
        *(("every_seconds", ctypes.c_long), ("every_nanos", ctypes.c_long)),
        *(("at_seconds", ctypes.c_long), ("at_nanos", ctypes.c_long)),
    )


class _Timer:
    """A timer of the system that kills this process; does nothing where there is none."""

    def __init__(self) -> None:
        self._library = ctypes.CDLL(None, use_errno=True)
        self._timer = ctypes.c_void_p()
        event = _Event(signal=int(signal.SIGKILL), notify=0)
        create = getattr(self._library, "timer_create", None)
        made = create and create(CLOCK, ctypes.byref(event), ctypes.byref(self._timer)) == 0
        self.works = bool(made)

    def set(self, at: float) -> None:
        """Kill at a time of `now`'s clock; 0 for never."""
        if self.works:
            times = _Times(at_seconds=int(at), at_nanos=int(at % 1 * 1e9))
            if at and not times.at_seconds and not times.at_nanos:
                times.at_nanos = 1
            self._library.timer_settime(self._timer, _ABSOLUTE, ctypes.byref(times), None)


class Deadline:
    """Holds a process to the time that its page names, while something runs that must not overlap.

    Args:
        page: shared with the worker.
    """

    def __init__(self, page: SharedPage) -> None:
        self._page = page
        self._lock = threading.Lock()
        self._held = 0
        self._timer: _Timer | None = None
        self._changed = threading.Event()

    @contextlib.contextmanager
    def held(self, overlap: str) -> Iterator[None]:
        """End this process at its deadline while this lasts, for a task that must not overlap."""
        if overlap != "never":
            yield
            return
        self._hold(1)
        try:
            yield
        finally:
            self._hold(-1)

    def _hold(self, more: int) -> None:
        with self._lock:
            if self._timer is None:
                self._timer = _Timer()
                threading.Thread(target=self._follow, daemon=True).start()
            self._held += more
            self._set()
        self._changed.set()

    def _set(self) -> None:
        assert self._timer is not None
        until = self._page.until() if self._held else 0.0
        if until and until <= now():
            os.kill(os.getpid(), signal.SIGKILL)
        self._timer.set(until)

    def _follow(self) -> None:
        """Take over later deadlines, as long as anything is held."""
        while True:
            self._changed.wait(LOOK_SECONDS if self._held else None)
            self._changed.clear()
            with self._lock:
                self._set()


def die_with_parent(parent: int) -> None:
    """Let the system kill this process when its parent dies, however that happens.

    Args:
        parent: the process that is to be its parent; if it is gone already, this one ends now.
    """
    set_option = getattr(ctypes.CDLL(None), "prctl", None)
    if set_option is not None:  # elsewhere the guardian and the closed channel have to do
        set_option(1, int(signal.SIGKILL), 0, 0, 0)
    if os.getppid() != parent:
        os._exit(1)
