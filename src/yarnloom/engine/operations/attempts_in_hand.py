"""Which attempts a worker has in hand, and where the lines that they print belong."""

from __future__ import annotations

from yarnloom.engine.commands import InHand, handles
from yarnloom.engine.compact import relay_steps
from yarnloom.engine.state.grants import Given, Grants
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.open_relays import Relays
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.workers import Workers
from yarnloom.errors import WorkerUnknown
from yarnloom.store import AttemptKey, Printer, Unit


@handles(InHand)
def in_hand(
    unit: Unit, plans: Plans, workers: Workers, grants: Grants, relays: Relays, command: InHand
) -> dict[int, Printer | None]:
    """Return those of some attempts that are a worker's own, to run or abandoned.

    With those that have no rows comes where their lines belong.
    """
    worker = workers.get(command.worker)
    if worker is None or not worker.session.registered:
        raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
    own = (
        attempt
        for attempt in command.attempts
        if attempt in worker.in_hand or attempt in worker.abandoned
    )
    return {one: _printer(unit, plans, grants, relays, one) for one in own}


def in_hand_now(memory: Memory, command: InHand) -> dict[int, Printer | None] | None:
    """Return the same from memory alone; None where the records must be asked."""
    worker, items = memory.workers.get(command.worker), memory.grants.attempts
    if worker is None or not worker.session.registered:
        return None
    given = [items.get(attempt) for attempt in command.attempts]
    if not all(one is not None and one.worker == worker.id for one in given):
        return None
    return {one.attempt: _printer_of(one) for one in given if one is not None}


def _printer(
    unit: Unit, plans: Plans, grants: Grants, relays: Relays, attempt: int
) -> Printer | None:
    if leg := relays.attempts.get(attempt):
        key = AttemptKey(leg.part, 0, leg.node, 1, attempt)
        return Printer(key, leg.run, relay_steps.address_of(unit, plans, leg))
    given = grants.attempts.get(attempt)
    return None if given is None else _printer_of(given)


def _printer_of(given: Given) -> Printer:
    attempt, straight = given.attempt, given.straight
    key = AttemptKey(straight.each, given.item, straight.step.index, 1, attempt)
    return Printer(key, straight.run, straight.address_of(given.item, given.name))
