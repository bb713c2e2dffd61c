"""Notes of one transaction: changes, work that follows, and how children ended.

The objects last; `begin_anew` empties them for the next transaction.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.rules.states import PASSED_OVER, StepState
from yarnloom.store import RunRow


def begin_anew(notes: Any) -> None:
    """Give notes the fields that new ones have; others may still hold the values of before."""
    fresh = type(notes)()
    for one in fields(notes):
        setattr(notes, one.name, getattr(fresh, one.name))


@dataclass(slots=True)
class Changes:
    """What looks different now.

    Attributes:
        runs: numbers of runs.
        ended: numbers of runs that have ended.
        pools: names of pools.
        schedules: names of schedules.
        workers: whether a worker came, went, or took or ended something.
        gone: workers that left or were lost: none of their requests gets an answer.
        reporters: workers whose report is part of the transaction, so that they can get an answer.
        dropped: hashes of files whose bytes nobody uses.
    """

    runs: set[int] = field(default_factory=set)
    ended: set[int] = field(default_factory=set)
    pools: set[str] = field(default_factory=set)
    schedules: set[str] = field(default_factory=set)
    workers: bool = False
    gone: set[str] = field(default_factory=set)
    reporters: set[str] = field(default_factory=set)
    dropped: list[str] = field(default_factory=list)

    def add(self, other: Changes) -> None:
        """Add the changes of a later transaction."""
        for each in fields(self):
            mine, theirs = getattr(self, each.name), getattr(other, each.name)
            if isinstance(mine, set):
                mine |= theirs
            else:
                setattr(
                    self, each.name, mine + theirs if isinstance(mine, list) else mine or theirs
                )


@dataclass(slots=True)
class Afterwards:
    """What follows once the commands of a transaction are done.

    Attributes:
        made_room: queues of which a run has ended while others wait.
        settling: pausing runs of which something has ended, so that they may be paused now.
        begun_runs: runs whose first attempt of a round has begun, while tasks listen.
        ended_runs: runs that have ended, and whose end nobody handled yet.
        schedules: schedules of which a run has ended, also one that had ended before.
    """

    made_room: set[tuple[str, str]] = field(default_factory=set)
    settling: set[int] = field(default_factory=set)
    begun_runs: list[RunRow] = field(default_factory=list)
    ended_runs: list[RunRow] = field(default_factory=list)
    schedules: set[str] = field(default_factory=set)

    @property
    def are_left(self) -> bool:
        """Whether anything of it is still to be done before the transaction ends."""
        return bool(self.ended_runs or self.begun_runs or self.schedules or self.made_room)


@dataclass(frozen=True, slots=True)
class Ended:
    """How a child of a part stands.

    Attributes:
        state: its state, or what was decided.
        reason: why it was skipped.
        output: its output as JSON text.
        size: of the output in bytes, also where it is too large to be kept as one value.
    """

    state: str
    reason: str | None = None
    output: str | None = None
    size: int = 0

    @property
    def gave(self) -> bool:
        """Whether readers may go on: it is done, or was passed over."""
        return self.state == StepState.DONE or self.passed_over

    @property
    def passed_over(self) -> bool:
        """Whether it was skipped without anything being wrong."""
        return self.state == StepState.SKIPPED and self.reason in PASSED_OVER


@dataclass(slots=True)
class Composing:
    """What the rules of composition note while a transaction lasts.

    Attributes:
        children: how children ended, by part row and node.
        made: how many items were made.
        relayed: by attempt the legs of relays that were reported as done, and have no rows yet.
        left_at: of sequences whose step ended: when.
    """

    children: dict[tuple[int, int], Ended] = field(default_factory=dict)
    made: int = 0
    relayed: dict[int, tuple[ReportItem, str]] = field(default_factory=dict)
    left_at: dict[int, int] = field(default_factory=dict)
