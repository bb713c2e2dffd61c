"""What was handed out and does not begin: the worker is told to give it back, or it is taken.

A worker that lives begins what it gets within milliseconds. After `BEGIN_SECONDS` it is told to
give an attempt back that has not begun; whoever says that it has begun after all keeps it. Where
the worker heard that and says nothing, the attempt is taken from it; a late report is refused.
A worker that is not heard of at all is another matter: its lease decides.
"""

from __future__ import annotations

from yarnloom.engine.dispatch.worker_orders import post_drop, post_give_back
from yarnloom.engine.operations.attempt_reports import take_from
from yarnloom.engine.state.attempts import Unbegun
from yarnloom.engine.state.due_times import BEGIN_SECONDS, UNBEGUN_DUE
from yarnloom.engine.state.transaction import Transaction
from yarnloom.units import duration_text


def look_at_unbegun(transaction: Transaction, _: str) -> None:
    """Look at each attempt that should have begun by now."""
    memory = transaction.memory
    due = transaction.time.mono - BEGIN_SECONDS
    for attempt_id, unbegun in list(memory.attempts.unbegun.items()):
        if unbegun.looked_at <= due:
            unbegun.looked_at = transaction.time.mono
            _look_at(transaction, attempt_id, unbegun)
    if memory.attempts.unbegun:
        following = min(one.looked_at for one in memory.attempts.unbegun.values())
        memory.timers.set(UNBEGUN_DUE, following + BEGIN_SECONDS)


def _look_at(transaction: Transaction, attempt_id: int, unbegun: Unbegun) -> None:
    attempt = transaction.unit.attempts.need(attempt_id)
    worker = transaction.memory.workers.get(attempt.worker)
    if worker is None or not worker.session.registered or worker.messages.posted(attempt_id):
        return  # it has not arrived: the worker is away
    transaction.changes.runs.add(attempt.run)
    if unbegun.order is None:
        unbegun.order = post_give_back(worker, attempt_id)
    elif unbegun.order not in worker.messages.unacknowledged and not unbegun.heard:
        unbegun.heard = True  # what it sent before it heard of that may still be on its way
    elif unbegun.heard:
        spent = duration_text(round((transaction.time.now - attempt.handed_at) / 1_000_000))
        take_from(transaction, attempt, f"worker {worker.name} did not begin it within {spent}")
        post_drop(worker, attempt_id)
