"""What the engine keeps in memory: workers, lanes and timers.

All of it can be rebuilt from the store, and is, at a start and after a failed commit. Workers'
leases are only here: after a rebuild every worker gets a full one.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, NamedTuple

from yarnloom.engine.data_commands import Chore
from yarnloom.engine.lanes import Lanes
from yarnloom.engine.pools import Pools, base_of
from yarnloom.engine.ready import Lane, Ready
from yarnloom.engine.relays import Relays
from yarnloom.engine.shares import Paces
from yarnloom.engine.states import StopReason
from yarnloom.plan import EachFacts, Node, Plan, item_key
from yarnloom.plan.schemas import Fit, fit


class Misfit(StrEnum):
    """Why a worker can never run steps of a contract, as it is."""

    NO_TASK = "no_task"  # it has no task of that name
    OTHER_CODE = "other_code"  # the plan asks for its own code, and this is another
    OTHER_TYPES = "other_types"  # the task's types do not fit the plan
    LACKS = "lacks"  # something that the step needs is not there


ANSWER_BYTES = 4 * 2**20
"""Work in one answer to a worker, at most; what is over it comes with the next."""


@dataclass(slots=True)
class Worker:
    """A worker that is thought to live.

    Attributes:
        id: its own choice, unique.
        name: for people.
        facts: host, pid and the like.
        tasks: the tasks it can run, each with its code hash.
        io_tasks: those of them whose attempts share a process, and have places of their own.
        plain_tasks: those of them that need nothing but their input.
        offers: for tasks, by name, their input and output schema, where the worker says them.
        graces: for tasks, by name, how long before a time-out they are to hear of it, at most.
        misfits: contracts that were compared with what it has: why they do not fit, or None.
        places: how many attempts of other tasks it runs at once.
        ahead: how many more of them it may have in hand, since they begin at once.
        io_places: how many attempts of `io_tasks`.
        has: what steps can ask for with `only_on`.
        pools: the only pools that it takes from; None for any, and for steps without one.
        draining: whether it is to get nothing new, and to end.
        until_idle: whether it is to end when there is nothing left to do.
        trouble: why its processes can take nothing, though it lives.
        abandoned: attempts that ended for the service, in a process that goes on: they count in
            their pool until it has ended. Each with its pool and run.
        in_hand: its open attempts, each with whether it is of an io task.
        lease_until: on the monotonic clock, in seconds.
        registered: False for one known from the records only, until it registers again.
        listening: whether its open request is there to be answered.
        outbox: messages by serial number that it has not acknowledged, with about how many bytes
            each has.
        unsent: serial numbers of those that were never sent.
        about: serial numbers of those about an attempt, by attempt.
        groups: by serial number the attempts of a message that gives many.
        idle_since: since when it has nothing in hand, or had nothing last.
        last: the attempt that it had in hand and that ended last, and when.
    """

    id: str
    name: str
    facts: dict[str, Any]
    lease_until: float
    tasks: dict[str, str] = field(default_factory=dict)
    io_tasks: frozenset[str] = frozenset()
    plain_tasks: frozenset[str] = frozenset()
    offers: dict[str, dict[str, Any]] = field(default_factory=dict)
    graces: dict[str, float] = field(default_factory=dict)
    misfits: dict[str, Misfit | None] = field(default_factory=dict)
    places: int = 0
    ahead: int = 0
    io_places: int = 0
    has: frozenset[str] = frozenset()
    pools: frozenset[str] | None = None
    draining: bool = False
    until_idle: bool = False
    trouble: str | None = None
    abandoned: dict[int, tuple[str, int]] = field(default_factory=dict)
    in_hand: dict[int, bool] = field(default_factory=dict)
    io_in_hand: int = 0
    registered: bool = False
    listening: bool = False
    seen_at: int = 0
    outbox: dict[int, tuple[dict[str, Any], int]] = field(default_factory=dict)
    unsent: list[int] = field(default_factory=list)
    about: dict[int, list[int]] = field(default_factory=dict)
    groups: dict[int, range] = field(default_factory=dict)
    serial: int = 0
    idle_since: int = 0
    last: int | None = None
    last_at: int = 0

    def hold(self, attempt: int, task: str) -> None:
        """Take an attempt in hand."""
        self.in_hand[attempt] = io = task in self.io_tasks
        self.io_in_hand += io

    def hold_all(self, attempts: range, task: str) -> None:
        """Take many attempts of a task in hand."""
        io = task in self.io_tasks
        self.in_hand.update(dict.fromkeys(attempts, io))
        self.io_in_hand += io * len(attempts)

    def release(self, attempt: int) -> None:
        """An attempt is not in hand any more; what was posted about it is void."""
        self.io_in_hand -= self.in_hand.pop(attempt, False)
        if self.about:
            for serial in self.about.pop(attempt, ()):
                self.outbox.pop(serial, None)

    def release_all(self, attempts: Iterable[int]) -> None:
        """Many attempts are no longer in hand."""
        if self.about:
            for attempt in attempts:
                self.release(attempt)
            return
        self.io_in_hand -= sum([self.in_hand.pop(attempt, False) for attempt in attempts])

    def can_take(self, contracts: Contracts) -> Takes | None:
        """The contracts for which there is a free place now; None if there is none."""
        if self.draining or not self.registered:
            return None
        alone = self._alone < self.places + self.ahead
        shared = self.io_in_hand < self.io_places
        return Takes(self, contracts, alone=alone, shared=shared) if alone or shared else None

    def room(self, contract: str) -> int:
        """How many attempts of a contract it can take in hand."""
        if task_of(contract) in self.io_tasks:
            return self.io_places - self.io_in_hand
        return self.places + self.ahead - self._alone

    def has_place(self, contract: str) -> bool:
        """Whether an attempt could begin now, not only be in hand ahead."""
        if task_of(contract) in self.io_tasks:
            return self.io_in_hand < self.io_places
        return self._alone < self.places

    def holding(self, contract: str) -> list[int]:
        """The attempts in hand that take the places which a contract would."""
        io = task_of(contract) in self.io_tasks
        return [attempt for attempt, is_io in self.in_hand.items() if is_io == io]

    @property
    def _alone(self) -> int:
        return len(self.in_hand) - self.io_in_hand

    def takes_from(self, pool: str) -> bool:
        """Whether it takes steps of a pool, or with an empty name of none."""
        return self.pools is None or base_of(pool) in self.pools

    def misfit(self, contract: str, contracts: Contracts) -> Misfit | None:
        """Why it can never run steps of a contract; None if it can."""
        if contract not in self.misfits:
            self.misfits[contract] = contracts.misfit(self, contract)
        return self.misfits[contract]

    def post(self, *, size: int = 0, **message: Any) -> int:
        """Put a message into the outbox, of about so many bytes; its serial number."""
        self.serial = serial = self.serial + 1
        message["serial"] = serial
        self.outbox[serial] = message, size
        self.unsent.append(serial)
        if attempt := message.get("attempt"):
            self.about.setdefault(attempt, []).append(serial)
        return serial

    def posted(self, attempt: int) -> bool:
        """Whether there is a message about an attempt of which it is not known that it arrived."""
        return any(serial in self.outbox for serial in self.about.get(attempt, ())) or any(
            attempt in attempts for attempts in self.groups.values()
        )

    def post_works(self, first: int, items: list[Any], size: int, **message: Any) -> None:
        """Put attempts in a row into the outbox that have much in common, as one message.

        Args:
            first: the first attempt.
            items: what each has of its own.
            size: about how many bytes all of it has.
            message: the fields that they share.
        """
        serial = self.post(size=size, kind="works", first=first, items=items, **message)
        self.groups[serial] = range(first, first + len(items))

    def take_unsent(self) -> list[dict[str, Any]]:
        """Return messages that were never sent, now marked as sent; as many as one answer holds."""
        taken: list[dict[str, Any]] = []
        room = ANSWER_BYTES
        count = 0
        for serial in self.unsent:
            if room <= 0 and taken:
                break
            count += 1
            if serial in self.outbox and (message := self._still_due(serial)):
                taken.append(message)
                room -= self.outbox[serial][1]
        del self.unsent[:count]
        return taken

    def _still_due(self, serial: int) -> dict[str, Any] | None:
        """A message without those of many attempts that are no longer in hand; None for nothing."""
        message, _ = self.outbox[serial]
        attempts = self.groups.get(serial)
        if attempts is None or all(one in self.in_hand for one in attempts):
            return message
        left = [
            item if attempt in self.in_hand else None
            for attempt, item in zip(attempts, message["items"], strict=True)
        ]
        return {**message, "items": left} if any(left) else None

    def acknowledge(self, received: tuple[int, ...]) -> None:
        """Forget messages that have arrived."""
        for serial in received:
            message, _ = self.outbox.pop(serial, ({}, 0))
            if self.groups.pop(serial, None):
                continue
            if about := self.about.get(message.get("attempt", 0)):
                about.remove(serial)
                if not about:
                    del self.about[message["attempt"]]

    def forget_messages(self) -> None:
        """Drop every message of the outbox."""
        for kept in (self.outbox, self.unsent, self.about, self.groups):
            kept.clear()

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

    def misfit(self, worker: Worker, contract: str) -> Misfit | None:
        """Why a worker cannot run a contract: it has no such task, other code, or other types."""
        name = task_of(contract)
        code_hash = worker.tasks.get(name)
        if code_hash is None:
            return Misfit.NO_TASK
        wanted = self._facts.get(contract.partition("+")[0], {})
        offer = worker.offers.get(name)
        if wanted.get("code_hash", code_hash) != code_hash:
            return Misfit.OTHER_CODE
        # A worker that does not say its types is taken at its word.
        if wanted and offer is not None and not _types_fit(wanted, offer):
            return Misfit.OTHER_TYPES
        return None if needs_of(contract) <= worker.has else Misfit.LACKS


def _types_fit(wanted: dict[str, Any], offer: dict[str, Any]) -> bool:
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
        return place and self.worker.misfit(contract, self.contracts) is None

    @property
    def pools(self) -> frozenset[str] | None:
        """The only pools that the worker takes from."""
        return self.worker.pools

    def now(self) -> Takes:
        """Those of them that could begin now, without what is only in hand ahead."""
        worker = self.worker
        return replace(self, alone=self.alone and worker._alone < worker.places)


def task_of(contract: str) -> str:
    """The full name of a contract's task."""
    return contract.partition("@")[0]


def needs_of(contract: str) -> frozenset[str]:
    """What a worker must have to run a contract."""
    return frozenset(filter(None, contract.partition("+")[2].split(",")))


class DueQueue:
    """Everything that waits for a moment, behind one timer.

    Entries are never taken out early: whoever gets a due entry asks whether it still holds.
    """

    def __init__(self) -> None:
        self._heap: list[tuple[float, str, str]] = []

    def add(self, at: float, kind: str, key: str) -> None:
        """Remember to look at something at a time of the monotonic clock."""
        heapq.heappush(self._heap, (at, kind, key))

    def take(self, until: float) -> Iterator[tuple[float, str, str]]:
        """What has fallen due, in order: when, the kind and the key."""
        while self._heap and self._heap[0][0] <= until:
            yield heapq.heappop(self._heap)

    @property
    def next_at(self) -> float | None:
        """When the first entry falls due; None if there is none."""
        return self._heap[0][0] if self._heap else None


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
        """Whether it is told of a run."""
        return (not self.states or state in self.states) and (
            not self.workflows or workflow in self.workflows
        )


@dataclass(slots=True)
class Unbegun:
    """An attempt that was handed out and has not begun.

    Attributes:
        looked_at: when it was handed out, or looked at last, on the steady clock.
        order: the serial number of the order to give it back, once that was posted.
        heard: whether the worker was seen to have that order.
    """

    looked_at: float
    order: int | None = None
    heard: bool = False


@dataclass(slots=True)
class Grant:
    """A row of `grants`.

    Attributes:
        attempt: its key, the first attempt.
        left: how many items of it have no rows yet.
    """

    attempt: int
    left: int


class Field(NamedTuple):
    """An input of a step whose items go straight.

    Attributes:
        name: the input's name.
        key: the same as JSON, with a colon.
        text: its value as JSON text, where it is the same for all items; else None.
        value: that value.
        path: else its path within the item; empty for the item itself.
    """

    name: str
    key: str
    text: str | None = None
    value: Any = None
    path: tuple[str, ...] = ()


@dataclass(slots=True)
class Straight:
    """An each whose items go to workers without rows (`granting`).

    Attributes:
        each: the id of its part.
        run: its run's number.
        facts: of the each.
        do: the node of its items.
        step: the node of the step in each.
        lane: of the step.
        address: of the each.
        plan_address: of the step, without the keys of items.
        fields: of the step's input.
        rank: of the each.
        next: the index of the item that is given next.
        offered: how many may be given.
        since: when anything was offered or given last, on the steady clock.
        given: what workers have in hand, by item.
        folds: whether items that are done have no rows (`folding`).
    """

    each: int
    run: int
    facts: EachFacts
    do: Node
    step: Node
    lane: Lane
    address: str
    plan_address: str
    fields: list[Field]
    rank: bytes
    next: int
    offered: int = 0
    since: float = 0.0
    given: dict[int, Given] = field(default_factory=dict)
    folds: bool = True

    @property
    def pool(self) -> str:
        """The pool that limits how many run at once; empty for none."""
        return self.lane[0]

    @property
    def share(self) -> str:
        """Whose turn it is."""
        return self.lane[2]

    @property
    def rank_of_next(self) -> bytes:
        """The rank of the next item."""
        return self.rank_of(self.next)

    def rank_of(self, index: int) -> bytes:
        """The rank of an item."""
        return self.rank + index.to_bytes(4, "big")

    @property
    def shared(self) -> dict[str, Any]:
        """The inputs that are the same for all items."""
        return {one.name: one.value for one in self.fields if one.text is not None}

    def address_of(self, index: int, name: str | None) -> str:
        """The address of the step in an item."""
        return f"{self.address}[{item_key(name, index)}]/{self.step.label}"


class Given(NamedTuple):
    """An item without rows that a worker has in hand.

    Attributes:
        straight: its each.
        grant: with which it was given.
        item: which item.
        name: its name.
        raw: its value.
        worker: who has it.
        code_hash: of the task as the worker has it.
        at: when it was handed out.
        mono: the same on the steady clock.
        attempt: id of its attempt.
        part: of its part.
        step: of its step.
    """

    straight: Straight
    grant: Grant
    item: int
    name: str | None
    raw: Any
    worker: str
    code_hash: str
    at: int
    mono: float
    attempt: int
    part: int
    step: int


@dataclass(slots=True)
class Grants:
    """What goes straight to workers.

    Attributes:
        eaches: by part the eaches whose items do.
        not_straight: eaches whose items never do.
        offers: by lane those of which something is offered.
        attempts: what workers have in hand, by attempt.
    """

    eaches: dict[int, Straight] = field(default_factory=dict)
    not_straight: set[int] = field(default_factory=set)
    offers: dict[Lane, dict[int, Straight]] = field(default_factory=dict)
    attempts: dict[int, Given] = field(default_factory=dict)


@dataclass(slots=True)
class Memory:
    """Workers, lanes and timers, and what saves looking twice.

    Attributes:
        grants: items of eaches that have no rows while workers have them.
        relays: steps of sequences that have no rows while workers have them.
        ready: the steps behind the counts of the lanes, as far as they are known.
        workflows: the current plan of every workflow.
        slices: of eaches under way: the first item of a slice of their list, and the slice.
        passed: of branches of parallels: how many of those that they wait for have settled.
        contracts: what plans expect of tasks.
        pools: what limits how many run at once.
        under_way: by workflow how many runs have entered and not ended.
        held: by workflow how many runs wait until others have ended.
        paused: runs that are pausing or paused: nothing of them is in the lanes.
        timeouts: of attempts that run: when they are told that their time is over, and why.
        chores: of eaches that wait for one: the newest.
        new_chores: those of them that nobody was told of yet.
        listeners: by loom the tasks that are started at the end of runs.
        furthest: of attempts that said how far they are: the farthest of it.
        heard: of attempts that are to say how far they are: when they did last.
        weights: by workflow the newest row that says how long its nodes took.
        paces: what follows from such a row for a plan, by the ids of both.
        learnt: by workflow when that was last learnt, on the steady clock.
        unbegun: attempts that were handed out and have not begun.
        armed: of what is kept elsewhere by time, in the store or above: when it is looked at next.
    """

    lanes: Lanes = field(default_factory=Lanes)
    ready: Ready = field(default_factory=Ready)
    grants: Grants = field(default_factory=Grants)
    relays: Relays = field(default_factory=Relays)
    due: DueQueue = field(default_factory=DueQueue)
    workers: dict[str, Worker] = field(default_factory=dict)
    workflows: dict[str, int] = field(default_factory=dict)
    slices: dict[int, tuple[int, list[Any]]] = field(default_factory=dict)
    passed: dict[tuple[int, int], int] = field(default_factory=dict)
    contracts: Contracts = field(default_factory=Contracts)
    pools: Pools = field(default_factory=Pools)
    under_way: Counter[str] = field(default_factory=Counter)
    held: Counter[str] = field(default_factory=Counter)
    paused: set[int] = field(default_factory=set)
    timeouts: dict[int, tuple[float, StopReason]] = field(default_factory=dict)
    chores: dict[int, Chore] = field(default_factory=dict)
    new_chores: list[Chore] = field(default_factory=list)
    chore_serial: int = 0
    armed: dict[str, float] = field(default_factory=dict)
    listeners: dict[str, list[Listener]] = field(default_factory=dict)
    furthest: dict[int, float] = field(default_factory=dict)
    heard: dict[int, float] = field(default_factory=dict)
    weights: dict[str, int] = field(default_factory=dict)
    paces: dict[tuple[int, int], Paces] = field(default_factory=dict)
    learnt: dict[str, float] = field(default_factory=dict)
    unbegun: dict[int, Unbegun] = field(default_factory=dict)

    @property
    def is_busy(self) -> bool:
        """Whether any run is under way, or waits for others."""
        return any(self.under_way.values()) or any(self.held.values())

    def counted(self, entered: int) -> Counter[str]:
        """Where a run counts that is not ahead of its time."""
        return self.under_way if entered else self.held

    def arm(self, kind: str, at: float) -> None:
        """See to it that a kind is looked at then at the latest: it has one timer."""
        if at < self.armed.get(kind, float("inf")):
            self.armed[kind] = at
            self.due.add(at, kind, "")

    def take_due(self, until: float) -> Iterator[tuple[str, str]]:
        """What has fallen due; of a kind that was armed again since, only the newest timer."""
        for at, kind, key in self.due.take(until):
            if not key:
                if self.armed.get(kind) != at:
                    continue
                del self.armed[kind]
            yield kind, key

    def forget_part(self, part: int, branches: Iterable[int]) -> None:
        """A part is decided: what was remembered of it is not needed any more."""
        self.slices.pop(part, None)
        self.grants.eaches.pop(part, None)
        self.grants.not_straight.discard(part)
        for branch in branches:
            self.passed.pop((part, branch), None)
