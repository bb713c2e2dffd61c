"""The time that runs live by, while the machine's clock is set forward and back.

Waits that were given as durations (a back-off, a rest, a start or a deadline in so long) are kept
as times, and times of runs are shown. So the time of runs follows the clock in this way:

- Set forward, or behind after sleep: it jumps along, and what waits for a duration is moved by as
  much, so that it waits as long as it was to.
- Set back: it goes on as if nothing had happened, ahead of the clock, so that no time in a run is
  before an earlier one. As soon as no run is under way it is the clock's time again.

Times of day (schedules, a start or an expiry at a time) follow the clock itself.

Decision: `docs/decisions/09-clock-and-schedules.md`.
"""

from __future__ import annotations

from dataclasses import dataclass

CLOCK_SET = 1_000_000
"""Microseconds by which a clock moves that is set; one that is adjusted a little moves by less."""


@dataclass(frozen=True, slots=True)
class Moment:
    """When a batch is done: microseconds since 1970 UTC, and seconds of a steady clock."""

    now: int
    mono: float


@dataclass(slots=True)
class RunTime:
    """The time of a transaction, the same from its begin to its end.

    Attributes:
        now: microseconds since 1970 UTC. It never runs backwards while a run is under way, and what
            waits for a duration waits by it.
        mono: seconds of a clock that never jumps.
        ahead: by how much `now` is ahead of the clock, which was set back.
    """

    now: int
    mono: float
    ahead: int = 0

    @property
    def wall(self) -> int:
        """The time of day, by the clock as it is."""
        return self.now - self.ahead

    def mono_of(self, micros: int) -> float:
        """Return a time as one of the steady clock."""
        return self.mono + (micros - self.now) / 1_000_000


class Time:
    """How the time of runs differs from the clock.

    Args:
        moment: the present.
        latest: the latest time in the records, where the clock was set back while nobody looked.

    Attributes:
        ahead: by how many microseconds it is ahead of the clock.
        shift: by how many microseconds waits are still to be moved.
    """

    def __init__(self, moment: Moment, latest: int) -> None:
        self._offset = _offset(moment)
        self.ahead = max(0, latest - moment.now)
        self.shift = 0

    def look(self, moment: Moment, *, busy: bool) -> bool:
        """Look whether the clock was set, or the machine slept; whether it was.

        Args:
            moment: the present.
            busy: whether any run is under way.
        """
        offset = _offset(moment)
        moved, self._offset = offset - self._offset, offset
        was_set = abs(moved) > CLOCK_SET
        if moved < 0:  # by however little: the time of runs goes on, ahead of the clock
            self.ahead -= moved
        else:  # the clock catches up first, and the rest moves what waits
            caught_up = min(self.ahead, moved)
            self.ahead -= caught_up
            self.shift += moved - caught_up if was_set else 0
        if self.ahead and not busy:  # it is the clock's time again
            if self.ahead > CLOCK_SET:  # starts to come move back
                self.shift -= self.ahead
                was_set = True
            self.ahead = 0
        return was_set


def _offset(moment: Moment) -> int:
    return moment.now - round(moment.mono * 1_000_000)
