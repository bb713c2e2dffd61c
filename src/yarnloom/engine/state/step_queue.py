"""The ready steps: lanes by pool, priority, share and contract, and the first of each."""

from __future__ import annotations

import heapq
from collections.abc import Iterable
from dataclasses import dataclass, field

from yarnloom.engine.rules.fair_queue import Lanes
from yarnloom.engine.rules.reservations import Reservations
from yarnloom.engine.rules.states import StepState
from yarnloom.store import StepRow

Lane = tuple[str, int, str, str]  # pool, priority, share, contract
Place = tuple[int, bytes, int]  # run, rank, step

MOST_KNOWN = 10_000
"""Of a lane; of one that has more, the next are looked for in the store."""


class Ready:
    """Ready steps by lane."""

    def __init__(self) -> None:
        self._steps: dict[Lane, set[int]] = {}
        self._heaps: dict[Lane, list[Place]] = {}

    def add(self, lane: Lane, place: Place) -> None:
        """Add a ready step."""
        steps = self._steps.setdefault(lane, set())
        if len(steps) < MOST_KNOWN and place[2] not in steps:
            steps.add(place[2])
            heapq.heappush(self._heaps.setdefault(lane, []), place)

    def discard(self, lane: Lane, step: int) -> None:
        """Remove a step."""
        if (steps := self._steps.get(lane)) is not None:
            steps.discard(step)
            if not steps:
                self.forget(lane)

    def forget(self, lane: Lane) -> None:
        """Forget the steps of a lane, so that the store is asked for them."""
        self._steps.pop(lane, None)
        self._heaps.pop(lane, None)

    def learn(self, lane: Lane, places: Iterable[Place]) -> None:
        """Replace the steps of a lane with the whole list from the store."""
        self.forget(lane)
        for place in places:
            self.add(lane, place)

    def first(self, lane: Lane, count: int) -> Place | None:
        """The first step of a lane; None if not all of its steps are known.

        Args:
            lane: the lane.
            count: how many steps it has.
        """
        steps = self._steps.get(lane)
        if steps is None or len(steps) != count:
            return None
        heap = self._heaps[lane]
        while heap[0][2] not in steps:
            heapq.heappop(heap)
        return heap[0]


@dataclass(slots=True)
class StepQueue:
    """Steps that workers can take now.

    Attributes:
        lanes: how many steps of each lane are ready, and which lane is next.
        ready: the steps behind those counts, as far as they are known.
        reservations: room in pools that is kept for steps that need much of it.
        paused: runs that are pausing or paused: none of their steps is in a lane.
    """

    lanes: Lanes = field(default_factory=Lanes)
    ready: Ready = field(default_factory=Ready)
    reservations: Reservations = field(default_factory=Reservations)
    paused: set[int] = field(default_factory=set)

    def has(self, step: StepRow) -> bool:
        """Whether a step can be taken: as the index `steps_to_start` says, but for its run."""
        return step.state == StepState.READY and step.open is None and step.run not in self.paused

    def add(self, step: StepRow) -> None:
        """Put a step into its lane."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.lanes.add(*lane)
        self.ready.add(lane, (step.run, step.rank, step.id))

    def remove(self, step: StepRow) -> None:
        """Take a step out of its lane: a worker has it, or nobody can take it."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.lanes.remove(*lane)
        self.ready.discard(lane, step.id)
