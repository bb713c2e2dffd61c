"""Which attempts a worker has in hand, and where the lines that they print belong."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import InHand, handles
from yarnloom.engine.state.given_items import Given, Grants
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.errors import WorkerUnknown
from yarnloom.store import AttemptKey, Printer


@dataclass(slots=True)
class AttemptsInHand:
    """Tells which attempts workers have."""

    workers: Workers
    grants: Grants
    relays: Relays
    relay_steps: RelaySteps

    @handles(InHand)
    def in_hand(self, command: InHand) -> dict[int, Printer | None]:
        """Return those of some attempts that are a worker's own, to run or abandoned.

        With those that have no rows comes where their lines belong.
        """
        worker = self.workers.get(command.worker)
        if worker is None or not worker.session.registered:
            raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
        own = (
            attempt
            for attempt in command.attempts
            if attempt in worker.in_hand or attempt in worker.abandoned
        )
        return {one: self._printer(one) for one in own}

    def _printer(self, attempt: int) -> Printer | None:
        if leg := self.relays.attempts.get(attempt):
            key = AttemptKey(leg.part, 0, leg.node, 1, attempt)
            return Printer(key, leg.run, self.relay_steps.address_of(leg))
        given = self.grants.attempts.get(attempt)
        return None if given is None else _printer_of(given)


def in_hand_now(memory: Memory, command: InHand) -> dict[int, Printer | None] | None:
    """Return the same from memory alone; None where the records must be asked."""
    worker, items = memory.workers.get(command.worker), memory.grants.attempts
    if worker is None or not worker.session.registered:
        return None
    given = [items.get(attempt) for attempt in command.attempts]
    if not all(one is not None and one.worker == worker.id for one in given):
        return None
    return {one.attempt: _printer_of(one) for one in given if one is not None}


def _printer_of(given: Given) -> Printer:
    attempt, straight = given.attempt, given.straight
    key = AttemptKey(straight.each, given.item, straight.step.index, 1, attempt)
    return Printer(key, straight.run, straight.address_of(given.item, given.name))
