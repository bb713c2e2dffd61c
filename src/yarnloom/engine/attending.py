"""Workers come, ask, are thought to live, leave, and are lost."""

from __future__ import annotations

import hashlib
from typing import Any

from yarnloom.engine import granting, relaying
from yarnloom.engine.commands import (
    Ask,
    CloseAsk,
    DrainWorker,
    InHand,
    Leave,
    ListWorkers,
    LoseWorker,
    Register,
    Report,
    Reported,
)
from yarnloom.engine.handing_out import leave_pool, post_stop, post_work
from yarnloom.engine.memory import Given, Memory, Worker, task_of
from yarnloom.engine.pools import base_of
from yarnloom.engine.reporting import free, hand_back, lose, report
from yarnloom.engine.states import StopReason
from yarnloom.engine.turn import Turn
from yarnloom.engine.views import moment
from yarnloom.errors import Conflict, NotFound, WorkerUnknown, nearest
from yarnloom.store import AttemptKey, Printer, pools
from yarnloom.store import writing as store

LEASE_DUE = "lease"
WENT_BACK = "the service's records went back in time"


def register(turn: Turn, command: Register) -> dict[str, Any]:
    """Take a worker in, for the first time or again after this service was restarted.

    What the records say it has in hand and it has not is sent to it again, under the same numbers.
    What it has in hand and the records do not is ordered to be dropped. One that comes with another
    epoch is only told of the present one: it is to end what it has, and to come again.
    """
    if _has_seen_more(turn, command):
        _begin_epoch(turn)
    about = {
        "worker": command.worker,
        "service": turn.service_id,
        "lease": turn.settings.lease,
        "epoch": turn.past.epoch,
    }
    if command.service == turn.service_id and command.epoch not in ("", turn.past.epoch):
        return about
    store.keep_worker(turn.unit, command.worker, command.name, command.facts, turn.now)
    known = turn.memory.workers.get(command.worker)
    worker = known or remember(turn, command.worker, command.name, command.facts)
    granting.unfold_of_worker(turn, worker.id)
    relaying.drop_of_worker(turn, worker, command.in_hand, turn.past.above["attempts"])
    worker.name, worker.facts = command.name, command.facts
    worker.tasks, worker.io_tasks = dict(command.tasks), frozenset(command.io_tasks)
    worker.plain_tasks = frozenset(command.plain_tasks)
    worker.offers, worker.graces = dict(command.offers), dict(command.graces)
    worker.misfits.clear()
    for name, source in command.sources.items():
        store.keep_code(turn.unit, name, command.tasks[name], source, turn.now)
    worker.places, worker.io_places = command.places, command.io_places
    worker.ahead, worker.has = command.ahead, frozenset(command.has)
    worker.pools = None if command.pools is None else frozenset(command.pools)
    worker.draining, worker.until_idle = command.draining, command.until_idle
    held = {one: _task_of(turn, one) for one in worker.in_hand}
    worker.in_hand, worker.io_in_hand = {}, 0
    for attempt_id, task in held.items():
        worker.hold(attempt_id, task)
    # One that only has new tasks still has its open request; what is sent there in vain otherwise
    # is sent again with the next.
    worker.registered, worker.trouble = True, command.trouble
    worker.forget_messages()
    renew(turn, worker)
    turn.workers = True
    legs = turn.memory.relays.attempts
    for attempt_id in sorted(worker.in_hand):
        if attempt_id in legs:
            continue
        if attempt_id <= turn.past.above["attempts"]:
            lose(turn, attempt_id, f"{WENT_BACK}; worker {worker.name} had it before")
            continue
        attempt = turn.unit.attempts.need(attempt_id)
        step = turn.unit.steps.need(attempt.step)
        if attempt.begun_at is None:
            turn.expect_begin(attempt_id)
        if attempt_id not in command.in_hand:
            post_work(turn, worker, step, attempt)
        if step.stop:
            post_stop(turn, step, StopReason(step.stop))
    for attempt_id in sorted(worker.abandoned.keys() - set(command.abandoned)):
        free(turn, worker.id, attempt_id)
    for attempt_id in sorted(set(command.in_hand) - worker.in_hand.keys()):
        worker.post(kind="drop", attempt=attempt_id)
    return about


def _task_of(turn: Turn, attempt: int) -> str:
    """The task of an attempt in hand, with rows or without."""
    if leg := turn.memory.relays.attempts.get(attempt):
        return turn.plan(turn.run(leg.run)).nodes[leg.node].task
    step = turn.unit.steps.need(turn.unit.attempts.need(attempt).step)
    return task_of(step.contract)


def _has_seen_more(turn: Turn, command: Register) -> bool:
    """Whether a worker knows of commits that these records have not: they went back."""
    if command.service != turn.service_id or not command.epoch:
        return False  # it knows of other records, or of none
    if not turn.past.knows(command.epoch):
        return True
    return command.epoch == turn.past.epoch and command.commits > turn.past.commits


def _begin_epoch(turn: Turn) -> None:
    """The records went back: what workers have in hand was given out by records that are gone.

    It is lost when a worker has ended it and comes again, or when its lease is over.
    """
    turn.unit.begin_epoch()
    for worker in turn.memory.workers.values():
        worker.registered = worker.listening = False
        turn.gone.add(worker.id)  # for its open request


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


def in_hand(turn: Turn, command: InHand) -> dict[int, Printer | None]:
    """Return those of some attempts that are a worker's own, to run or abandoned.

    With those that have no rows comes where their lines belong.
    """
    worker = turn.memory.workers.get(command.worker)
    if worker is None or not worker.registered:
        raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
    own = (one for one in command.attempts if one in worker.in_hand or one in worker.abandoned)
    return {one: _printer(turn, one) for one in own}


def in_hand_now(memory: Memory, command: InHand) -> dict[int, Printer | None] | None:
    """The same from memory alone; None where that does not tell."""
    worker, items = memory.workers.get(command.worker), memory.grants.attempts
    if worker is None or not worker.registered:
        return None
    given = [items.get(one) for one in command.attempts]
    if not all(one is not None and one.worker == worker.id for one in given):
        return None
    return {one.attempt: _printer_of(one) for one in given if one is not None}


def _printer(turn: Turn, attempt: int) -> Printer | None:
    if leg := turn.memory.relays.attempts.get(attempt):
        key = AttemptKey(leg.part, 0, leg.node, 1, attempt)
        return Printer(key, leg.run, relaying.address_of(turn, leg))
    given = turn.memory.grants.attempts.get(attempt)
    return None if given is None else _printer_of(given)


def _printer_of(given: Given) -> Printer:
    attempt, straight = given.attempt, given.straight
    key = AttemptKey(straight.each, given.item, straight.step.index, 1, attempt)
    return Printer(key, straight.run, straight.address_of(given.item, given.name))


def leave(turn: Turn, command: Leave) -> None:
    """A worker has ended on purpose; what it still had in hand was never finished."""
    worker = _taken_out(turn, command.worker)
    if worker is None:
        return
    for attempt in sorted(worker.in_hand):
        hand_back(turn, attempt)
    _gone(turn, worker)


def lose_worker(turn: Turn, command: LoseWorker) -> None:
    """A worker is gone: its attempts are lost, which spends no try."""
    worker = _taken_out(turn, command.worker)
    if worker is None:
        return
    for attempt in sorted(worker.in_hand):
        lose(turn, attempt, f"worker {worker.name} is gone: {command.why}")
    _gone(turn, worker)
    store.log_command(
        turn.unit, turn.now, "service", "lose_worker", None, command.why, worker=worker.name
    )


def _taken_out(turn: Turn, worker_id: str) -> Worker | None:
    """Remove a worker from memory, and give rows to the attempts that it had in hand."""
    granting.unfold_of_worker(turn, worker_id)
    worker = turn.memory.workers.get(worker_id)
    if worker is not None:
        relaying.drop_of_worker(turn, worker)
        del turn.memory.workers[worker_id]
    return worker


def remember(turn: Turn, worker_id: str, name: str, facts: dict[str, Any]) -> Worker:
    """Put a worker into memory, with a full lease and what the records say it has in hand."""
    lease = turn.mono + turn.settings.lease
    worker = Worker(worker_id, name, facts, lease, seen_at=turn.now, idle_since=turn.now)
    worker.in_hand.update(dict.fromkeys(store.open_attempts(turn.unit, worker_id), False))
    for attempt_id in pools.abandoned_attempts(turn.unit, worker_id):
        attempt = turn.unit.attempts.need(attempt_id)
        worker.abandoned[attempt_id] = (attempt.pool, attempt.run)
    turn.memory.workers[worker_id] = worker
    turn.memory.due.add(worker.lease_until, LEASE_DUE, worker_id)
    return worker


def renew(turn: Turn, worker: Worker) -> None:
    """The worker was heard of. Nothing is written for it."""
    worker.lease_until = turn.mono + turn.settings.lease
    worker.seen_at = turn.now


def drain_worker(turn: Turn, command: DrainWorker) -> dict[str, Any]:
    """Let a worker take nothing new, and end when it has nothing in hand; what is told of it.

    Raises:
        NotFound: no worker has that name or id.
        Conflict: several have that name.
    """
    known = turn.memory.workers
    found = [one for one in known.values() if command.worker in (one.id, one.name)]
    if not found:
        names = [one.name for one in known.values()]
        raise NotFound(f"there is no worker {command.worker!r}{nearest(command.worker, names)}")
    if len(found) > 1:
        ids = ", ".join(sorted(one.id for one in found))
        raise Conflict(f"{len(found)} workers are called {command.worker!r}; give an id: {ids}")
    (worker,) = found
    if not worker.draining:
        worker.draining = turn.workers = True
        worker.post(kind="drain")
        store.log_command(
            turn.unit, turn.now, command.who, "drain", None, command.reason, worker=worker.name
        )
    return _worker_view(worker)


def dismiss_idle(turn: Turn) -> None:
    """Tell workers that want to end when nothing is left to do that nothing is."""
    workers = turn.memory.workers.values()
    waiting = [one for one in workers if one.until_idle and one.registered and not one.draining]
    if not waiting or any(one.in_hand for one in workers):
        return
    if store.next_due(turn.unit) is not None:
        return
    for worker in waiting:
        if not _has_work(turn, worker):
            worker.draining = True
            worker.post(kind="idle")


def _has_work(turn: Turn, worker: Worker) -> bool:
    """Whether anything is ready that a worker could run, pools that are halted by hand left out."""
    memory = turn.memory
    for pool, contract in memory.lanes.ready_contracts():
        settings = memory.pools.need(base_of(pool))
        halted = settings.paused is not None or settings.limit == 0
        fits = worker.misfit(contract, memory.contracts) is None and worker.takes_from(pool)
        if fits and not halted:
            return True
    return False


def _gone(turn: Turn, worker: Worker) -> None:
    """A worker is gone, and with it the processes of attempts that were abandoned."""
    store.worker_gone(turn.unit, worker.id, turn.now)
    turn.gone.add(worker.id)
    turn.workers = True
    for attempt_id, (pool, run) in worker.abandoned.items():
        attempt = turn.unit.attempts.need(attempt_id)
        attempt.abandoned = 0
        turn.unit.attempts.touch(attempt)
        leave_pool(turn, pool, run, attempt)
    worker.abandoned.clear()


def list_workers(turn: Turn, _: ListWorkers) -> list[dict[str, Any]]:
    """The workers as they are now."""
    return [_worker_view(worker) for worker in turn.memory.workers.values()]


def _worker_view(worker: Worker) -> dict[str, Any]:
    return {
        "id": worker.id,
        "name": worker.name,
        "facts": worker.facts,
        "registered": worker.registered,
        "places": worker.places,
        "io_places": worker.io_places,
        "has": sorted(worker.has),
        "pools": None if worker.pools is None else sorted(worker.pools),
        "draining": worker.draining,
        "trouble": worker.trouble,
        "in_hand": sorted(worker.in_hand),
        "idle_since": None if worker.in_hand else moment(worker.idle_since),
        "last": worker.last and {"id": worker.last, "ended_at": moment(worker.last_at)},
        "tasks": dict(worker.tasks),
        "code": _code_of(worker),
        "seen_at": moment(worker.seen_at),
    }


def _code_of(worker: Worker) -> str:
    """A hash of all its code, so that two generations of workers are told apart."""
    text = "\n".join(f"{name} {code}" for name, code in sorted(worker.tasks.items()))
    return hashlib.blake2s(text.encode(), digest_size=6).hexdigest()


def _heard_from(turn: Turn, command: Ask | Report) -> Worker:
    worker = turn.memory.workers.get(command.worker)
    if worker is None or not worker.registered:
        raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
    if command.epoch not in (None, turn.past.epoch):
        raise WorkerUnknown(f"{WENT_BACK} since then; register again")
    worker.acknowledge(command.received)
    if command.places is not None:
        worker.places = command.places
    if command.io_places is not None:
        worker.io_places = command.io_places
    if command.ahead is not None:
        worker.ahead = command.ahead
        turn.workers |= worker.trouble != command.trouble
        worker.trouble = command.trouble
    renew(turn, worker)
    return worker
