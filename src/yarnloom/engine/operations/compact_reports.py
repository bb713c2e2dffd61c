"""Reports of items and legs that have no rows: they end well, or get their rows."""

from __future__ import annotations

from yarnloom.engine.commands import Report, ReportItem
from yarnloom.engine.compact import granted_items, relay_steps
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.operations.attempt_ends import checked_output
from yarnloom.engine.operations.attempt_reports import NEVER_BEGUN, take_item
from yarnloom.engine.rules.states import Outcome
from yarnloom.engine.state.open_relays import Relays
from yarnloom.engine.state.transaction import Composing, Transaction
from yarnloom.media_types import named_in


def reports_of_legs(
    relays: Relays, composing: Composing, command: Report
) -> dict[int, list[ReportItem]]:
    """Return the reported items of legs, by attempt, and note the outputs of done legs.

    The step before a leg takes its end in; a report may name that step later than the leg.
    """
    known = relays.attempts
    found: dict[int, list[ReportItem]] = {}
    for item in command.items:
        leg = known.get(item.attempt)
        if leg is not None and leg.worker == command.worker:
            found.setdefault(item.attempt, []).append(item)
            if (output := usual_output(item)) is not None:
                composing.relayed.setdefault(item.attempt, (item, output))
    return found


def take_leg(transaction: Transaction, worker: str, item: ReportItem) -> str | None:
    """Take in a leg's item after all others of the report; return why it is refused, or None."""
    done = transaction.composing.relayed.pop(item.attempt, None)
    leg = transaction.memory.relays.attempts.get(item.attempt)
    if leg is None:
        kept = done is None and item.outcome == Outcome.DONE
        return None if kept else take_item(transaction, worker, item)
    if item.outcome is None:
        return None  # the end of the one before it is still on its way
    relay_steps.given_back(
        transaction.unit, transaction.memory.workers, transaction.memory.relays, leg
    )
    if item.outcome in NEVER_BEGUN:
        return None
    return "the step before it has not ended well for the service"


def usual_output(item: ReportItem) -> str | None:
    """The output of an item that ended well, with nothing special about it; else None."""
    if item.outcome != Outcome.DONE or item.saved or item.abandoned:
        return None
    output, _, _ = checked_output(Outcome.DONE, item)
    return None if named_in(output) else output


def end_items(transaction: Transaction, ended: granted_items.Ends) -> None:
    """Items without rows have ended well, each by each; some may have got rows meanwhile."""
    known = transaction.memory.grants.attempts
    by_each: dict[int, granted_items.Ends] = {}
    for one in ended:
        given, item, _ = one
        if given.attempt in known:
            by_each.setdefault(given.straight.each, []).append(one)
        else:
            take_item(transaction, given.worker, item)
    for ends in by_each.values():
        left = [end for end in ends if end[0].attempt in known]
        for given, item, _ in [end for end in ends if end[0].attempt not in known]:
            take_item(transaction, given.worker, item)
        if left:
            straight = left[0][0].straight
            Composition(transaction, transaction.unit.run(straight.run)).items_ended(straight, left)


def look_at_given(transaction: Transaction, _: str) -> None:
    """Give rows to items that were given or offered a while ago and have not ended."""
    for straight in granted_items.unseen(transaction):
        granted_items.withdraw(transaction, straight)
        composition = Composition(transaction, transaction.unit.run(straight.run))
        composition.fill_plainly(transaction.unit.parts.need(straight.each))
