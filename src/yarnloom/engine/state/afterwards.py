"""What follows once the commands of a transaction are done."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.store import RunRow


@dataclass(slots=True)
class Afterwards:
    """What follows once the commands of a transaction are done.

    Attributes:
        made_room: workflows of which a run has ended while others wait.
        settling: pausing runs of which something has ended, so that they may be paused now.
        ended_runs: runs that have ended, and whose end nobody handled yet.
        schedules: schedules of which a run has ended, also one that had ended before.
    """

    made_room: set[str] = field(default_factory=set)
    settling: set[int] = field(default_factory=set)
    ended_runs: list[RunRow] = field(default_factory=list)
    schedules: set[str] = field(default_factory=set)

    @property
    def are_left(self) -> bool:
        """Whether anything of it is still to be done before the transaction ends."""
        return bool(self.ended_runs or self.schedules or self.made_room)
