"""The workers that are thought to live, and the messages to each."""

from __future__ import annotations

from collections.abc import Container, Iterable
from dataclasses import dataclass, field, replace
from typing import Any

from yarnloom.engine.rules.limits import pools_in
from yarnloom.engine.state.plans import Contracts, Misfit, Offer, task_of
from yarnloom.values import JsonObject, JsonValue

Message = JsonObject
"""A message to a worker: `protocol/worker_messages.py` has a model of each kind."""

ANSWER_BYTES = 4 * 2**20
"""Work in one answer to a worker, at most; what is over it comes with the next."""


@dataclass(slots=True)
class WorkerMessages:
    """Messages to a worker, by serial number.

    Attributes:
        unacknowledged: messages that it has not acknowledged, with about how many bytes each has.
        unsent: serial numbers of those that were never sent.
        about: serial numbers of those about an attempt, by attempt.
        groups: by serial number the attempts of a message that gives many.
        serial: the last serial number.
        committed: the last one of a transaction that was committed.
    """

    unacknowledged: dict[int, tuple[Message, int]] = field(default_factory=dict)
    unsent: list[int] = field(default_factory=list)
    about: dict[int, list[int]] = field(default_factory=dict)
    groups: dict[int, range] = field(default_factory=dict)
    serial: int = 0
    committed: int = 0

    def undo(self) -> set[str]:
        """Drop the messages of a transaction that was rolled back; return their kinds."""
        kinds = set()
        for serial in range(self.committed + 1, self.serial + 1):
            message, _ = self.unacknowledged.pop(serial, ({}, 0))
            kinds.add(message.get("kind", ""))
            self.groups.pop(serial, None)
            if about := self.about.get(message.get("attempt", 0)):
                about.remove(serial)
        self.unsent = [serial for serial in self.unsent if serial <= self.committed]
        return kinds

    def post(self, *, size: int = 0, **message: Any) -> int:
        """Post a message of about so many bytes, and return its serial number."""
        self.serial = serial = self.serial + 1
        message["serial"] = serial
        self.unacknowledged[serial] = message, size
        self.unsent.append(serial)
        if attempt := message.get("attempt"):
            self.about.setdefault(attempt, []).append(serial)
        return serial

    def posted(self, attempt: int) -> bool:
        """Whether there is a message about an attempt of which it is not known that it arrived."""
        return any(serial in self.unacknowledged for serial in self.about.get(attempt, ())) or any(
            attempt in attempts for attempts in self.groups.values()
        )

    def post_works(self, first: int, items: list[JsonValue], size: int, **message: Any) -> None:
        """Post attempts in a row that have much in common, as one message.

        Args:
            first: the first attempt.
            items: what each has of its own.
            size: about how many bytes all of it has.
            message: the fields that they share.
        """
        serial = self.post(size=size, kind="works", first=first, items=items, **message)
        self.groups[serial] = range(first, first + len(items))

    def take_unsent(self, in_hand: Container[int]) -> list[Message]:
        """Return messages that were never sent, now marked as sent; as many as one answer holds."""
        taken: list[Message] = []
        room = ANSWER_BYTES
        count = 0
        for serial in self.unsent:
            if room <= 0 and taken:
                break
            count += 1
            if serial in self.unacknowledged and (message := self._still_due(serial, in_hand)):
                taken.append(message)
                room -= self.unacknowledged[serial][1]
        del self.unsent[:count]
        return taken

    def _still_due(self, serial: int, in_hand: Container[int]) -> Message | None:
        """A message without those of many attempts that are no longer in hand; None for nothing."""
        message, _ = self.unacknowledged[serial]
        attempts = self.groups.get(serial)
        if attempts is None or all(one in in_hand for one in attempts):
            return message
        left = [
            item if attempt in in_hand else None
            for attempt, item in zip(attempts, message["items"], strict=True)
        ]
        return {**message, "items": left} if any(left) else None

    def acknowledge(self, received: tuple[int, ...]) -> None:
        """Forget messages that have arrived."""
        for serial in received:
            message, _ = self.unacknowledged.pop(serial, ({}, 0))
            if self.groups.pop(serial, None):
                continue
            if about := self.about.get(message.get("attempt", 0)):
                about.remove(serial)
                if not about:
                    del self.about[message["attempt"]]

    def forget_about(self, attempt: int) -> None:
        """Drop the messages about an attempt."""
        if self.about:
            for serial in self.about.pop(attempt, ()):
                self.unacknowledged.pop(serial, None)

    def clear(self) -> None:
        """Drop every message."""
        for kept in (self.unacknowledged, self.unsent, self.about, self.groups):
            kept.clear()

    def send_again(self) -> None:
        """Mark every message that was not acknowledged as not sent."""
        self.unsent = list(self.unacknowledged)


@dataclass(slots=True)
class Session:
    """How a worker is, from its registration to its end.

    Attributes:
        lease_until: on the monotonic clock, in seconds.
        registered: False for one known from the records only, until it registers again.
        polling: whether its open request waits for an answer.
        draining: whether it gets nothing new, and ends.
        until_idle: whether it ends when no work is left.
        trouble: why its processes can take nothing, though it lives.
        seen_at: when it sent its last request, in microseconds.
    """

    lease_until: float
    registered: bool = False
    polling: bool = False
    draining: bool = False
    until_idle: bool = False
    trouble: str | None = None
    seen_at: int = 0


@dataclass(slots=True)
class Worker:
    """A worker that is thought to live.

    Attributes:
        id: its own choice, unique.
        name: for people.
        facts: host, pid and the like.
        session: how it is.
        offer: what it can run.
        messages: what the service has to tell it.
        misfits: contracts that were compared with its offer: why they do not fit, or None.
        abandoned: attempts that ended for the service, in a process that goes on: they count in
            their pool until it has ended. Each with its pool and run.
        in_hand: its open attempts, each with whether it is of an io task.
        io_in_hand: how many of them are.
        idle_since: since when it has nothing in hand, or had nothing last.
        last: the attempt that it had in hand and that ended last.
        last_at: when that ended.
    """

    id: str
    name: str
    facts: JsonObject
    session: Session
    offer: Offer = field(default_factory=Offer)
    messages: WorkerMessages = field(default_factory=WorkerMessages)
    misfits: dict[str, Misfit | None] = field(default_factory=dict)
    abandoned: dict[int, tuple[str, int]] = field(default_factory=dict)
    in_hand: dict[int, bool] = field(default_factory=dict)
    io_in_hand: int = 0
    idle_since: int = 0
    last: int | None = None
    last_at: int = 0

    def hold(self, attempt: int, task: str) -> None:
        """Take an attempt in hand."""
        self.in_hand[attempt] = io = task in self.offer.io_tasks
        self.io_in_hand += io

    def hold_all(self, attempts: range, task: str) -> None:
        """Take many attempts of a task in hand."""
        io = task in self.offer.io_tasks
        self.in_hand.update(dict.fromkeys(attempts, io))
        self.io_in_hand += io * len(attempts)

    def release(self, attempt: int) -> None:
        """Let go of an attempt; what was posted about it is void."""
        self.io_in_hand -= self.in_hand.pop(attempt, False)
        self.messages.forget_about(attempt)

    def release_all(self, attempts: Iterable[int]) -> None:
        """Let go of many attempts."""
        if self.messages.about:
            for attempt in attempts:
                self.release(attempt)
            return
        self.io_in_hand -= sum([self.in_hand.pop(attempt, False) for attempt in attempts])

    def take_unsent(self) -> list[Message]:
        """Return messages that were never sent, now marked as sent; as many as one answer holds."""
        return self.messages.take_unsent(self.in_hand)

    def can_take(self, contracts: Contracts) -> FreePlaces | None:
        """The contracts for which there is a free place now; None if there is none."""
        if self.session.draining or not self.session.registered:
            return None
        alone = self._alone < self.offer.places + self.offer.ahead
        shared = self.io_in_hand < self.offer.io_places
        return FreePlaces(self, contracts, alone=alone, shared=shared) if alone or shared else None

    def room(self, contract: str) -> int:
        """How many attempts of a contract it can take in hand."""
        if task_of(contract) in self.offer.io_tasks:
            return self.offer.io_places - self.io_in_hand
        return self.offer.places + self.offer.ahead - self._alone

    def has_place(self, contract: str) -> bool:
        """Whether an attempt could begin now, not only be in hand ahead."""
        if task_of(contract) in self.offer.io_tasks:
            return self.io_in_hand < self.offer.io_places
        return self._alone < self.offer.places

    def holding(self, contract: str) -> list[int]:
        """The attempts in hand that take the places which a contract would."""
        io = task_of(contract) in self.offer.io_tasks
        return [attempt for attempt, is_io in self.in_hand.items() if is_io == io]

    @property
    def _alone(self) -> int:
        return len(self.in_hand) - self.io_in_hand

    def takes_from(self, pool: str) -> bool:
        """Whether it takes steps that enter some pools, or with an empty key none."""
        if self.offer.pools is None:
            return True
        return bool(pool) and pools_in(pool) <= self.offer.pools

    def could_take(self, contract: str, pool: str, contracts: Contracts) -> bool:
        """Whether it lives and can run steps of a contract that enter some pools, place or not."""
        places = self.offer.io_places if task_of(contract) in self.offer.io_tasks else 1
        return (
            self.session.registered
            and not self.session.draining
            and bool(places and self.offer.places + self.offer.io_places)
            and self.takes_from(pool)
            and self.misfit(contract, contracts) is None
        )

    def misfit(self, contract: str, contracts: Contracts) -> Misfit | None:
        """Why it can never run steps of a contract; None if it can."""
        if contract not in self.misfits:
            self.misfits[contract] = contracts.misfit(self.offer, contract)
        return self.misfits[contract]


@dataclass(frozen=True, slots=True)
class FreePlaces:
    """The contracts that a worker can take now."""

    worker: Worker
    contracts: Contracts
    alone: bool
    shared: bool

    def __contains__(self, contract: object) -> bool:
        assert isinstance(contract, str)
        place = self.shared if task_of(contract) in self.worker.offer.io_tasks else self.alone
        return place and self.worker.misfit(contract, self.contracts) is None

    @property
    def pools(self) -> frozenset[str] | None:
        """The only pools that the worker takes from."""
        return self.worker.offer.pools

    def now(self) -> FreePlaces:
        """Those of them that could begin now, without what is only in hand ahead."""
        worker = self.worker
        return replace(self, alone=self.alone and worker._alone < worker.offer.places)


class _Everything:
    """Contains every contract."""

    def __contains__(self, contract: object) -> bool:
        return True


EVERYTHING = _Everything()


class Workers(dict[str, Worker]):
    """The workers by id, and what plans expect of their tasks."""

    __slots__ = ("contracts",)

    def __init__(self) -> None:
        super().__init__()
        self.contracts = Contracts()
