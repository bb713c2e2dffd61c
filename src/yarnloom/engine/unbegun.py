"""What was handed out and does not begin: the worker is told to give it back, or it is taken.

A worker that lives begins what it gets within milliseconds. After `BEGIN_SECONDS` it is told to
give an attempt back that has not begun; whoever says that it has begun after all keeps it. Where
the worker heard that and says nothing, the attempt is taken from it; a late report is refused.
A worker that is not heard of at all is another matter: its lease decides.
"""

from __future__ import annotations

from yarnloom.engine.memory import Unbegun
from yarnloom.engine.reporting import take_from
from yarnloom.engine.turn import BEGIN_SECONDS, UNBEGUN_DUE, Turn
from yarnloom.units import duration_text


def look_at_unbegun(turn: Turn, _: str) -> None:
    """Look at each attempt that should have begun by now."""
    memory = turn.memory
    due = turn.mono - BEGIN_SECONDS
    for attempt_id, unbegun in list(memory.unbegun.items()):
        if unbegun.looked_at <= due:
            unbegun.looked_at = turn.mono
            _look_at(turn, attempt_id, unbegun)
    if memory.unbegun:
        following = min(one.looked_at for one in memory.unbegun.values())
        memory.arm(UNBEGUN_DUE, following + BEGIN_SECONDS)


def _look_at(turn: Turn, attempt_id: int, unbegun: Unbegun) -> None:
    attempt = turn.unit.attempts.need(attempt_id)
    worker = turn.memory.workers.get(attempt.worker)
    if worker is None or not worker.registered or worker.posted(attempt_id):
        return  # it has not arrived: the worker is away
    turn.changed.add(attempt.run)
    if unbegun.order is None:
        unbegun.order = worker.post(kind="give_back", attempt=attempt_id)
    elif unbegun.order not in worker.outbox and not unbegun.heard:
        unbegun.heard = True  # what it sent before it heard of that may still be on its way
    elif unbegun.heard:
        spent = duration_text(round((turn.now - attempt.handed_at) / 1_000_000))
        take_from(turn, attempt, f"worker {worker.name} did not begin it within {spent}")
        worker.post(kind="drop", attempt=attempt_id)
