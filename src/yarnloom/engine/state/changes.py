"""What looks different after a transaction: workers, readers and watchers hear of it."""

from __future__ import annotations

from dataclasses import dataclass, field, fields


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
