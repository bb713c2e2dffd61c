"""Items of eaches that workers have without rows: what the engine remembers of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from yarnloom.engine.state.step_queue import Lane, Place
from yarnloom.plan import EachFacts, Node, item_key
from yarnloom.values import JsonObject, JsonValue


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
    value: JsonValue = None
    path: tuple[str, ...] = ()


@dataclass(slots=True)
class Straight:
    """An each whose items go to workers without rows (`without_rows/giving_items`).

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
        folds: whether items that are done have no rows (`without_rows/item_batches`).
        is_kept: whether the store has what readers need of it.
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
    is_kept: bool = False

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
    def shared(self) -> JsonObject:
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
    raw: JsonValue
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

    def forget(self, each: int) -> None:
        """Forget an each that is decided."""
        self.eaches.pop(each, None)
        self.not_straight.discard(each)

    def first_offer(self, lane: Lane) -> tuple[Place, Straight] | None:
        """Return the place of the first item that is offered in a lane, and its each."""
        offers = self.offers.get(lane)
        if not offers:
            return None
        places = (((each.run, each.rank_of_next, 0), each) for each in offers.values())
        return min(places, key=lambda offer: offer[0])

    def offered_in(self, lane: Lane) -> int:
        """Return how many items are offered in a lane."""
        offers = self.offers.get(lane)
        return sum(each.offered for each in offers.values()) if offers else 0
