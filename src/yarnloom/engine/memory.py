"""What the engine keeps in memory: workers, lanes and timers.

All of it can be rebuilt from the store, and is, at a start and after a failed commit. Workers'
leases are only here: after a rebuild every worker gets a full one.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.lanes import Lanes
from yarnloom.plan import Plan
from yarnloom.plan.schemas import Fit, fit


@dataclass(slots=True)
class Worker:
    """A worker that is thought to live.

    Attributes:
        id: its own choice, unique.
        name: for people.
        facts: host, pid and the like.
        tasks: the tasks it can run, each with its code hash.
        io_tasks: those of them whose attempts share a process, and have places of their own.
        offers: for tasks, by name, their input and output schema, where the worker says them.
        fits: contracts that were compared with what it has, and whether they fit.
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
    offers: dict[str, dict[str, Any]] = field(default_factory=dict)
    fits: dict[str, bool] = field(default_factory=dict)
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

    def can_take(self, contracts: Contracts) -> Takes | None:
        """The contracts for which there is a free place now; None if there is none."""
        alone = len(self.in_hand) - self.io_in_hand < self.places
        shared = self.io_in_hand < self.io_places
        return Takes(self, contracts, alone=alone, shared=shared) if alone or shared else None

    def has(self, contract: str, contracts: Contracts) -> bool:
        """Whether its code fits what a plan expects of a task."""
        fits = self.fits.get(contract)
        if fits is None:
            fits = self.fits[contract] = contracts.fit(self, contract)
        return fits

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


class Contracts:
    """What plans expect of tasks: by contract the facts that stand in the plan."""

    def __init__(self) -> None:
        self._facts: dict[str, dict[str, Any]] = {}

    def learn(self, plan: Plan) -> None:
        """Take in what a plan expects."""
        for name, contract in plan.contracts.items():
            self._facts[contract] = plan.tasks[name]

    def fit(self, worker: Worker, contract: str) -> bool:
        """Whether a worker has a task of that name with fitting types, and the code if pinned."""
        name = task_of(contract)
        code_hash = worker.tasks.get(name)
        if code_hash is None:
            return False
        wanted, offer = self._facts.get(contract, {}), worker.offers.get(name)
        if wanted.get("code_hash", code_hash) != code_hash:
            return False
        if offer is None or not wanted:
            return True  # a worker that does not say its types is taken at its word
        return (
            fit(wanted["input"], offer["input"]) is not Fit.CANNOT
            and fit(offer["output"], wanted["output"]) is not Fit.CANNOT
        )


@dataclass(frozen=True, slots=True)
class Takes:
    """The contracts that a worker can take now."""

    worker: Worker
    contracts: Contracts
    alone: bool
    shared: bool

    def __contains__(self, contract: object) -> bool:
        assert isinstance(contract, str)
        place = self.shared if task_of(contract) in self.worker.io_tasks else self.alone
        return place and self.worker.has(contract, self.contracts)


def task_of(contract: str) -> str:
    """The full name of a contract's task."""
    return contract.partition("@")[0]


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
    """Workers, lanes and timers, and what saves looking twice.

    Attributes:
        workflows: the current plan of every workflow.
        slices: of eaches under way: the first item of a slice of their list, and the slice.
        passed: of branches of parallels: how many of those that they wait for have settled.
        contracts: what plans expect of tasks.
    """

    lanes: Lanes = field(default_factory=Lanes)
    due: DueQueue = field(default_factory=DueQueue)
    workers: dict[str, Worker] = field(default_factory=dict)
    workflows: dict[str, int] = field(default_factory=dict)
    slices: dict[int, tuple[int, list[Any]]] = field(default_factory=dict)
    passed: dict[tuple[int, int], int] = field(default_factory=dict)
    contracts: Contracts = field(default_factory=Contracts)

    def forget_part(self, part: int, branches: Iterable[int]) -> None:
        """A part is decided: what was remembered of it is not needed any more."""
        self.slices.pop(part, None)
        for branch in branches:
            self.passed.pop((part, branch), None)
