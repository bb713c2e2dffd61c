"""What the engine keeps in memory: workers, lanes and timers.

All of it can be rebuilt from the store, and is, at a start and after a failed commit. Workers'
leases are only here: after a rebuild every worker gets a full one.
"""

from __future__ import annotations

import heapq
from collections.abc import Container, Iterator
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.lanes import Lanes


@dataclass(slots=True)
class Worker:
    """A worker that is thought to live.

    Attributes:
        id: its own choice, unique.
        name: for people.
        facts: host, pid and the like.
        tasks: the tasks it can run, each with its code hash.
        io_tasks: those of them whose attempts share a process, and have places of their own.
        lone_tasks: the others.
        places: how many attempts of other tasks it may have in hand.
        io_places: how many attempts of `io_tasks`.
        in_hand: its open attempts, each with whether it is of an io task.
        lease_until: on the monotonic clock, in seconds.
        registered: False for one known from the records only, until it registers again.
        listening: whether its open request is there to be answered.
        outbox: messages by serial number that it has not acknowledged.
        unsent: serial numbers of those that were never sent.
    """

    id: str
    name: str
    facts: dict[str, Any]
    lease_until: float
    tasks: dict[str, str] = field(default_factory=dict)
    io_tasks: frozenset[str] = frozenset()
    lone_tasks: frozenset[str] = frozenset()
    places: int = 0
    io_places: int = 0
    in_hand: dict[int, bool] = field(default_factory=dict)
    io_in_hand: int = 0
    registered: bool = False
    listening: bool = False
    seen_at: int = 0
    outbox: dict[int, dict[str, Any]] = field(default_factory=dict)
    unsent: list[int] = field(default_factory=list)
    serial: int = 0

    def hold(self, attempt: int, task: str) -> None:
        """Take an attempt in hand."""
        self.in_hand[attempt] = io = task in self.io_tasks
        self.io_in_hand += io

    def release(self, attempt: int) -> None:
        """An attempt is not in hand any more; what was posted about it is void."""
        self.io_in_hand -= self.in_hand.pop(attempt, False)
        for serial in [s for s, m in self.outbox.items() if m.get("attempt") == attempt]:
            del self.outbox[serial]

    def can_take(self) -> Container[str]:
        """The tasks for which there is a free place now; empty if there is none."""
        alone = len(self.in_hand) - self.io_in_hand < self.places
        shared = self.io_in_hand < self.io_places
        if alone and shared:
            return self.tasks
        if alone:
            return self.lone_tasks
        return self.io_tasks if shared else ()

    def post(self, **message: Any) -> None:
        """Put a message into the outbox."""
        self.serial += 1
        self.outbox[self.serial] = {"serial": self.serial, **message}
        self.unsent.append(self.serial)

    def take_unsent(self) -> list[dict[str, Any]]:
        """The messages that were never sent, now marked as sent."""
        taken = [self.outbox[serial] for serial in self.unsent if serial in self.outbox]
        self.unsent.clear()
        return taken

    def acknowledge(self, received: tuple[int, ...]) -> None:
        """Forget messages that have arrived."""
        for serial in received:
            self.outbox.pop(serial, None)

    def send_again(self) -> None:
        """Mark every message that was not acknowledged as not sent."""
        self.unsent = list(self.outbox)


class DueQueue:
    """Everything that waits for a moment, behind one timer.

    Entries are never taken out early: whoever gets a due entry asks whether it still holds.
    """

    def __init__(self) -> None:
        self._heap: list[tuple[float, str, str]] = []

    def add(self, at: float, kind: str, key: str) -> None:
        """Remember to look at something at a time of the monotonic clock."""
        heapq.heappush(self._heap, (at, kind, key))

    def take(self, until: float) -> Iterator[tuple[str, str]]:
        """What has fallen due, in order."""
        while self._heap and self._heap[0][0] <= until:
            _, kind, key = heapq.heappop(self._heap)
            yield kind, key

    @property
    def next_at(self) -> float | None:
        """When the first entry falls due; None if there is none."""
        return self._heap[0][0] if self._heap else None


@dataclass(slots=True)
class Memory:
    """Workers, lanes and timers."""

    lanes: Lanes = field(default_factory=Lanes)
    due: DueQueue = field(default_factory=DueQueue)
    workers: dict[str, Worker] = field(default_factory=dict)
    workflows: dict[str, int] = field(default_factory=dict)
