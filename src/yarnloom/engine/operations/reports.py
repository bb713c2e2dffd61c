"""What workers tell of their attempts, and what follows from it.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing.
"""

from __future__ import annotations

from yarnloom.engine.commands import Report, Reported
from yarnloom.engine.compact import granted_items
from yarnloom.engine.operations.attempt_reports import free, save_of, take_item
from yarnloom.engine.operations.compact_reports import (
    end_items,
    reports_of_legs,
    take_leg,
    usual_output,
)
from yarnloom.engine.state.transaction import Transaction


def report(transaction: Transaction, command: Report) -> Reported:
    """Take in everything that a worker reports; each item stands alone."""
    answer = Reported()
    for attempt_id in command.freed:
        free(
            transaction.unit,
            transaction.memory.workers,
            transaction.afterwards,
            transaction.pool_places,
            command.worker,
            attempt_id,
        )
    for attempt_id, saved in command.saved.items():
        granted_items.unfold_attempt(transaction, attempt_id)
        save_of(
            transaction.unit,
            transaction.time,
            transaction.memory.attempts,
            transaction.progress,
            transaction.changes,
            command.worker,
            attempt_id,
            saved,
        )
    known = transaction.memory.grants.attempts
    # By attempt: an end that is reported twice counts once.
    ended: dict[int, granted_items.EndOf] = {}
    legs = (
        reports_of_legs(transaction.memory.relays, transaction.composing, command)
        if transaction.memory.relays.attempts
        else {}
    )
    for item in command.items:
        if item.attempt in legs:
            continue
        given = known.get(item.attempt)
        if given is not None and given.worker == command.worker:
            if item.attempt in ended:
                continue
            if (output := usual_output(item)) is not None:
                ended[item.attempt] = (given, item, output)
                continue
            granted_items.unfold(transaction, given)
        if why := take_item(transaction, command.worker, item):
            answer.refused.append({"attempt": item.attempt, "why": why})
    end_items(transaction, list(ended.values()))
    for attempt in sorted(legs):
        for item in legs[attempt]:
            if why := take_leg(transaction, command.worker, item):
                answer.refused.append({"attempt": attempt, "why": why})
    return answer
