"""What the engine remembers of relays: steps that a worker is to run behind another.

See `without_rows/steps_sent_along`, which gives and takes them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from yarnloom.store import StepRow
from yarnloom.store.runs.sent_step_records import LostLeg
from yarnloom.values import JsonObject


class Leg(NamedTuple):
    """A step that a worker runs behind another, and that has no rows yet.

    Attributes:
        attempt: the id of its attempt.
        run: its run.
        part: the id of its sequence.
        position: its place in that.
        node: the step in the plan.
        worker: the worker's id.
        code_hash: of the task, as the worker has it.
        relay: the key of its row in `relays`.
        given: its inputs, each with its name as JSON and a colon, and its value as JSON text, or
            the node whose output that is; None after a restart, when that is worked out anew.
    """

    attempt: int
    run: int
    part: int
    position: int
    node: int
    worker: str
    code_hash: str
    relay: int
    given: tuple[tuple[str, str | int], ...] | None = None


@dataclass(frozen=True, slots=True)
class Anchor:
    """A step that was handed out in this transaction, and may take others along.

    Attributes:
        step: the step.
        worker: the id of its worker.
        attempt: the id of its attempt.
        message: to its worker.
    """

    step: StepRow
    worker: str
    attempt: int
    message: JsonObject


@dataclass(slots=True)
class Relays:
    """The legs of all relays that are under way.

    Attributes:
        attempts: legs by their attempt.
        places: the same by the sequence and the place in it.
        left: how many each relay still has.
        never_begun: of relays the highest attempt that was given back.
        called: attempts that the engine asked back.
        barred: runs that get no relays, since somebody decides about their steps.
        lost: by sequence and node, legs that ran on a worker which was lost, unreported.
    """

    attempts: dict[int, Leg] = field(default_factory=dict)
    places: dict[tuple[int, int], Leg] = field(default_factory=dict)
    left: dict[int, int] = field(default_factory=dict)
    never_begun: dict[int, int] = field(default_factory=dict)
    called: set[int] = field(default_factory=set)
    barred: set[int] = field(default_factory=set)
    lost: dict[tuple[int, int], list[LostLeg]] = field(default_factory=dict)

    def note_lost(self, leg: LostLeg) -> None:
        """Remember a leg whose step is to show that it ran once already."""
        self.lost.setdefault((leg.part, leg.node), []).append(leg)

    def add(self, leg: Leg) -> None:
        """Remember a leg."""
        self.attempts[leg.attempt] = self.places[leg.part, leg.position] = leg
        self.left[leg.relay] = self.left.get(leg.relay, 0) + 1

    def given_back(self, leg: Leg) -> bool:
        """Forget a leg that never began; whether it was the last of its relay."""
        self.never_begun[leg.relay] = max(self.never_begun.get(leg.relay, 0), leg.attempt)
        return self.ended([leg])

    def ended(self, legs: Sequence[Leg]) -> bool:
        """Forget legs of one relay, whose turn has come; whether they were its last."""
        for leg in legs:
            del self.attempts[leg.attempt]
            del self.places[leg.part, leg.position]
        if self.called:
            self.called.difference_update(leg.attempt for leg in legs)
        relay = legs[0].relay
        self.left[relay] -= len(legs)
        if self.left[relay]:
            return False
        del self.left[relay]
        return True

    def of_run(self, run: int) -> list[Leg]:
        """The legs of a run."""
        return [leg for leg in self.attempts.values() if leg.run == run]

    def of_worker(self, worker: str) -> list[Leg]:
        """The legs that a worker has."""
        return [leg for leg in self.attempts.values() if leg.worker == worker]

    def from_place(self, part: int, position: int) -> Iterator[Leg]:
        """The legs from one place of a sequence on, one behind the other."""
        while (leg := self.places.get((part, position))) is not None:
            yield leg
            position += 1
