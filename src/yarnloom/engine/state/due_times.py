"""When the engine looks next for what has fallen due: the times are in the store."""

from __future__ import annotations

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.attempts import OpenAttempts, Unbegun
from yarnloom.engine.state.timers import Timers
from yarnloom.store import RunRow

BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE = "back_off", "deadline", "run_deadline"
FILES_DUE, LIST_JOBS_DUE = "files", "list_jobs"
START_DUE, START_BY_DUE, SCHEDULE_DUE = "start", "start_by", "schedule"
"""Kinds of what falls due and is kept in the store by time."""

TIMEOUT_DUE, QUIET_DUE, UNBEGUN_DUE, GRANT_DUE = "timeout", "quiet", "unbegun", "grant"
"""Kinds of what is kept in memory."""

BEGIN_SECONDS = 5.0
"""Within which an attempt begins that a worker got, where nothing is wrong."""


class DueTimes:
    """Sets timers: in memory is one entry for each kind, of the earliest.

    Args:
        time: of the transaction.
        timers: of the memory.
        attempts: those that workers have in hand.
    """

    __slots__ = ("_attempts", "_time", "_timers")

    def __init__(self, time: RunTime, timers: Timers, attempts: OpenAttempts) -> None:
        self._time = time
        self._timers = timers
        self._attempts = attempts

    def set(self, kind: str, at: int) -> None:
        """Set the timer of a kind: at that time the engine looks into the store for what is due."""
        self._timers.set(kind, self._time.mono_of(at))

    def set_by_day(self, kind: str, wall: int) -> None:
        """Set the timer of a kind for a time of day."""
        self.set(kind, wall + self._time.ahead)

    def set_start(self, run: RunRow) -> None:
        """Set the timer that opens a run when its start time comes."""
        at = (run.start_at or 0) + (0 if run.after_a_while else self._time.ahead)
        self.set(START_DUE, max(at, self._time.now))

    def expect_begin(self, attempt: int) -> None:
        """Look again at an attempt that a worker got, if it does not begin."""
        self._attempts.unbegun[attempt] = Unbegun(self._time.mono)
        self._timers.set(UNBEGUN_DUE, self._time.mono + BEGIN_SECONDS)
