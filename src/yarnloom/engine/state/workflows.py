"""Workflows as the engine knows them: plans, runs under way, listeners, and times to expect."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from yarnloom.engine.state.time_shares import Paces


@dataclass(frozen=True, slots=True)
class Listener:
    """A task that is started at the end of runs of its loom.

    Attributes:
        task: its full name.
        states: only of runs that ended so; empty for all.
        workflows: only of runs of these; empty for all.
    """

    task: str
    states: frozenset[str]
    workflows: frozenset[str]

    def hears_of(self, workflow: str, state: str) -> bool:
        """Whether the task starts at the end of a run."""
        return (not self.states or state in self.states) and (
            not self.workflows or workflow in self.workflows
        )


@dataclass(slots=True)
class Workflows:
    """What is known of all workflows.

    Attributes:
        plans: the current plan of every workflow.
        published: by loom a hash of its last publication: the same again is no command.
        under_way: by workflow how many runs have entered and not ended.
        held: by workflow how many runs wait until others have ended.
        listeners: by loom the tasks that start at the end of runs.
        weights: by workflow the newest row that says how long its nodes took.
        paces: what follows from such a row for a plan, by the ids of both.
        learnt: by workflow when that was last learnt, on the steady clock.
    """

    plans: dict[str, int] = field(default_factory=dict)
    published: dict[str, bytes] = field(default_factory=dict)
    under_way: Counter[str] = field(default_factory=Counter)
    held: Counter[str] = field(default_factory=Counter)
    listeners: dict[str, list[Listener]] = field(default_factory=dict)
    weights: dict[str, int] = field(default_factory=dict)
    paces: dict[tuple[int, int], Paces] = field(default_factory=dict)
    learnt: dict[str, float] = field(default_factory=dict)

    @property
    def is_busy(self) -> bool:
        """Whether any run is under way, or waits for others."""
        return any(self.under_way.values()) or any(self.held.values())

    def counted(self, admission: int) -> Counter[str]:
        """Return the counter of a run whose start time has come."""
        return self.under_way if admission else self.held
