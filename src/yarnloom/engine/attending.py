"""Workers come, ask, are thought to live, leave, and are lost."""

from __future__ import annotations

from typing import Any

from yarnloom.engine.commands import (
    Ask,
    CloseAsk,
    Leave,
    ListWorkers,
    LoseWorker,
    Register,
    Report,
    Reported,
    Tick,
)
from yarnloom.engine.handing_out import post_stop, post_work
from yarnloom.engine.items import FILL_DUE
from yarnloom.engine.memory import Worker, task_of
from yarnloom.engine.reporting import hand_back, lose, report
from yarnloom.engine.states import StopReason
from yarnloom.engine.turn import Turn
from yarnloom.engine.weaving import Weave
from yarnloom.errors import WorkerUnknown
from yarnloom.store import writing as store

LEASE_DUE = "lease"


def register(turn: Turn, command: Register) -> dict[str, Any]:
    """Take a worker in, for the first time or again after this service was restarted.

    What the records say it has in hand and it has not is sent to it again, under the same numbers.
    What it has in hand and the records do not is ordered to be dropped.
    """
    store.keep_worker(turn.unit, command.worker, command.name, command.facts, turn.now)
    known = turn.memory.workers.get(command.worker)
    worker = known or remember(turn, command.worker, command.name, command.facts)
    worker.name, worker.facts = command.name, command.facts
    worker.tasks, worker.io_tasks = dict(command.tasks), frozenset(command.io_tasks)
    worker.offers = dict(command.offers)
    worker.fits.clear()
    for name, source in command.sources.items():
        store.keep_code(turn.unit, name, command.tasks[name], source, turn.now)
    worker.places, worker.io_places = command.places, command.io_places
    held = {one: turn.unit.attempts.need(one).step for one in worker.in_hand}
    worker.in_hand, worker.io_in_hand = {}, 0
    for attempt_id, step_id in held.items():
        worker.hold(attempt_id, task_of(turn.unit.steps.need(step_id).contract))
    worker.registered, worker.listening = True, False
    worker.outbox.clear()
    worker.unsent.clear()
    renew(turn, worker)
    for attempt_id in sorted(worker.in_hand):
        attempt = turn.unit.attempts.need(attempt_id)
        step = turn.unit.steps.need(attempt.step)
        if attempt_id not in command.in_hand:
            post_work(turn, worker, step, attempt)
        if step.stop:
            post_stop(turn, step, StopReason(step.stop))
    for attempt_id in sorted(set(command.in_hand) - worker.in_hand.keys()):
        worker.post(kind="drop", attempt=attempt_id)
    return {"worker": worker.id, "service": turn.service_id, "lease": turn.settings.lease}


def ask(turn: Turn, command: Ask) -> None:
    """A worker's open request has come; everything not acknowledged is for its answer."""
    worker = _heard_from(turn, command)
    worker.listening = True
    worker.send_again()


def close_ask(turn: Turn, command: CloseAsk) -> None:
    """A worker's open request ended without an answer."""
    worker = turn.memory.workers.get(command.worker)
    if worker:
        worker.listening = False


def take_report(turn: Turn, command: Report) -> Reported:
    """A worker's report; its answer can carry work at once."""
    _heard_from(turn, command)
    answer = report(turn, command)
    turn.reporters.add(command.worker)
    return answer


def leave(turn: Turn, command: Leave) -> None:
    """A worker has ended on purpose; what it still had in hand was never finished."""
    worker = turn.memory.workers.pop(command.worker, None)
    if worker is None:
        return
    for attempt in sorted(worker.in_hand):
        hand_back(turn, attempt)
    store.worker_gone(turn.unit, worker.id, turn.now)
    turn.gone.add(worker.id)


def lose_worker(turn: Turn, command: LoseWorker) -> None:
    """A worker is gone: its attempts are lost, which spends no try."""
    worker = turn.memory.workers.pop(command.worker, None)
    if worker is None:
        return
    for attempt in sorted(worker.in_hand):
        lose(turn, attempt, f"worker {worker.name} is gone: {command.why}")
    store.worker_gone(turn.unit, worker.id, turn.now)
    turn.gone.add(worker.id)
    store.log_command(
        turn.unit, turn.now, "service", "lose_worker", None, command.why, worker=worker.name
    )


def tick(turn: Turn, _: Tick) -> None:
    """Look at everything that has fallen due."""
    due = turn.memory.due
    if due.next_at is not None and turn.mono - due.next_at > turn.settings.lease / 3:
        # The service itself stood still: that a worker was not heard of says nothing about it.
        for worker in turn.memory.workers.values():
            worker.lease_until = turn.mono + turn.settings.lease
    for kind, key in list(due.take(turn.mono)):
        if kind == LEASE_DUE and (holder := turn.memory.workers.get(key)):
            _look_at_lease(turn, holder)
        if kind == FILL_DUE and (part := turn.unit.parts.get(int(key))):
            Weave(turn, turn.run(part.run)).go_on(part)


def _look_at_lease(turn: Turn, worker: Worker) -> None:
    if worker.lease_until > turn.mono:
        turn.memory.due.add(worker.lease_until, LEASE_DUE, worker.id)
    else:
        why = f"not heard of for {turn.settings.lease:g} s"
        lose_worker(turn, LoseWorker(worker.id, why))


def remember(turn: Turn, worker_id: str, name: str, facts: dict[str, Any]) -> Worker:
    """Put a worker into memory, with a full lease and what the records say it has in hand."""
    worker = Worker(worker_id, name, facts, turn.mono + turn.settings.lease, seen_at=turn.now)
    worker.in_hand.update(dict.fromkeys(store.open_attempts(turn.unit, worker_id), False))
    turn.memory.workers[worker_id] = worker
    turn.memory.due.add(worker.lease_until, LEASE_DUE, worker_id)
    return worker


def renew(turn: Turn, worker: Worker) -> None:
    """The worker was heard of. Nothing is written for it."""
    worker.lease_until = turn.mono + turn.settings.lease
    worker.seen_at = turn.now


def list_workers(turn: Turn, _: ListWorkers) -> list[dict[str, Any]]:
    """The workers as they are now."""
    return [
        {
            "id": worker.id,
            "name": worker.name,
            "facts": worker.facts,
            "registered": worker.registered,
            "places": worker.places,
            "io_places": worker.io_places,
            "in_hand": sorted(worker.in_hand),
            "tasks": dict(worker.tasks),
            "seen_at": worker.seen_at,
        }
        for worker in turn.memory.workers.values()
    ]


def _heard_from(turn: Turn, command: Ask | Report) -> Worker:
    worker = turn.memory.workers.get(command.worker)
    if worker is None or not worker.registered:
        raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
    worker.acknowledge(command.received)
    if command.places is not None:
        worker.places = command.places
    if command.io_places is not None:
        worker.io_places = command.io_places
    renew(turn, worker)
    return worker
