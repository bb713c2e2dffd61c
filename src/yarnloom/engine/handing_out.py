"""Handing out: ready steps go to workers that have a place and are there to be told."""

from __future__ import annotations

import contextlib
import json
from collections import deque
from collections.abc import Callable, Iterable
from typing import Any

from yarnloom.engine import granting
from yarnloom.engine.lanes import Turn as LaneTurn
from yarnloom.engine.memory import Straight, Worker, task_of
from yarnloom.engine.pools import base_of
from yarnloom.engine.ready import Lane, Place
from yarnloom.engine.relays import Anchor
from yarnloom.engine.states import Outcome, StopReason
from yarnloom.engine.turn import Turn
from yarnloom.errors import FolderUnusable
from yarnloom.secrets import has_sealed
from yarnloom.store import AttemptRow, StepRow
from yarnloom.store import writing as store
from yarnloom.store.unit import LARGEST_GRANT
from yarnloom.values import decode

FETCH = 64
RATE_DUE = "rate"


def hand_out(turn: Turn, extend: Callable[[Turn, Anchor], None]) -> None:
    """Give ready steps to workers, one to each in turn, until places or steps are used up.

    Args:
        turn: the transaction.
        extend: called for each step, so that those behind it can go along.
    """
    lanes = turn.memory.lanes
    if not lanes.ready:
        return
    desk = _Desk(turn, extend)
    # The longest idle first, so that one worker does not get all of a trickle.
    wanting = sorted(_wanting(turn), key=lambda worker: len(worker.in_hand))
    while wanting and lanes.ready:
        alone = len(wanting) == 1
        wanting = [worker for worker in wanting if desk.serve(worker, alone=alone)]


def _wanting(turn: Turn) -> Iterable[Worker]:
    return (
        worker
        for worker in turn.memory.workers.values()
        if (worker.listening or worker.id in turn.reporters)
        and worker.can_take(turn.memory.contracts)
    )


class _Desk:
    """Serves workers within one transaction; fetches the first steps of a lane a few at a time."""

    def __init__(self, turn: Turn, extend: Callable[[Turn, Anchor], None]) -> None:
        self.turn = turn
        self.extend = extend
        self.fetched: dict[Lane, deque[Place]] = {}

    def serve(self, worker: Worker, *, alone: bool) -> bool:
        """Hand the next step or items to a worker; False if it can take none.

        Args:
            worker: the worker.
            alone: whether nobody else wants anything.
        """
        memory = self.turn.memory
        takes = worker.can_take(memory.contracts)
        whose = memory.lanes.next_turn(takes, self.may_start) if takes else None
        if whose and takes and memory.pools.rated(whose.pool):
            # Nothing of such a pool is handed out ahead. What comes behind it is not either: the
            # worker gets only what can begin now, until it has a place for it.
            whose = memory.lanes.next_turn(takes.now(), self.may_start)
        if whose is None:
            return False
        step = self.next_step(whose)
        if isinstance(step, Straight):
            granting.give(self.turn, worker, step, self.how_many(worker, step, alone=alone))
        else:
            handed = _hand(self.turn, worker, self.turn.unit.steps.need(step))
            self.extend(self.turn, handed)
        return True

    def how_many(self, worker: Worker, straight: Straight, *, alone: bool) -> int:
        """How many items of an each a worker is given: one where others wait for their turn."""
        lanes = self.turn.memory.lanes
        if lanes.ready > straight.offered:
            return 1
        room = min(worker.room(straight.lane[3]), granting.room_in_pool(self.turn, straight))
        most = min(straight.offered, LARGEST_GRANT)
        return min(most, room if alone else min(room, max(1, worker.places)))

    def may_start(self, pool: str) -> bool:
        """Whether anything of a pool may start; if its rate forbids it, it is looked at again."""
        if not pool:
            return True
        gate = self.turn.memory.pools.gate(pool)
        closed = gate.closed(self.turn.mono)
        gate.note(closed, self.turn.now)
        if closed is None:
            return True
        if closed.until is not None and not gate.armed:
            gate.armed = True
            self.turn.memory.due.add(closed.until, RATE_DUE, pool)
        return False

    def next_step(self, whose: LaneTurn) -> int | Straight:
        """The first step, or item without rows, in plan order among a share's contracts."""
        heads: list[tuple[Place, Lane]] = []
        offers: list[tuple[Place, Straight]] = []
        for contract in whose.contracts:
            lane = (whose.pool, whose.priority, whose.share, contract)
            if offer := granting.first_offer(self.turn, lane):
                offers.append(offer)
            if self.rows_in(lane):
                heads.append((self.first(lane), lane))
        if offers:
            place, straight = min(offers, key=lambda one: one[0])
            if not heads or place < min(heads)[0]:
                return straight
        (_, _, step), lane = min(heads)
        if queue := self.fetched.get(lane):
            queue.popleft()
        return step

    def rows_in(self, lane: Lane) -> int:
        """How many ready steps of a lane have rows."""
        return self.turn.memory.lanes.count(*lane) - granting.offered_in(self.turn, lane)

    def first(self, lane: Lane) -> Place:
        """The first step of a lane, as known; else fetched, a few at a time."""
        if queue := self.fetched.get(lane):
            return queue[0]
        memory = self.turn.memory
        known = memory.ready.first(lane, self.rows_in(lane))
        if known is not None:
            return known
        # The query must not find steps of this lane that were handed out a moment ago.
        self.turn.unit.flush()
        rows = store.next_ready(self.turn.unit, lane, FETCH, some_held=bool(memory.paused))
        places = [(run, rank, step) for step, run, rank in rows]
        if len(places) < FETCH:
            memory.ready.learn(lane, places)
        else:
            self.fetched[lane] = deque(places)
        return places[0]


def _hand(turn: Turn, worker: Worker, step: StepRow) -> Anchor:
    run = turn.run(step.run)
    attempt = AttemptRow(
        id=turn.unit.new_id("attempts"),
        step=step.id,
        run=step.run,
        number=step.attempts + 1,
        try_=step.tries + 1,
        worker=worker.id,
        code_hash=worker.tasks[task_of(step.contract)],
        ready_at=step.ready_at,
        handed_at=turn.now,
        pool=step.pool,
        round=run.round,
    )
    if step.pool:
        gate = turn.memory.pools.gate(step.pool)
        attempt.pool_until = gate.opened_at if gate.opened_at > step.ready_at else None
        gate.hand_out(step.run, attempt.id)
        gate.note(gate.closed(turn.mono), turn.now)
        turn.pools.add(base_of(step.pool))
    turn.unit.attempts.add(attempt)
    run.attempts += 1
    turn.unit.runs.touch(run)
    turn.take_out_of_lane(step)
    turn.memory.lanes.started(step.pool, step.share)
    step.open = attempt.id
    step.attempts = attempt.number
    turn.unit.steps.touch(step)
    turn.changed.add(step.run)
    worker.hold(attempt.id, task_of(step.contract))
    turn.workers = True
    turn.expect_begin(attempt.id)
    message = post_work(turn, worker, step, attempt)
    return Anchor(step, worker.id, attempt.id, message)


def post_work(turn: Turn, worker: Worker, step: StepRow, attempt: AttemptRow) -> dict[str, Any]:
    """Tell a worker to run an attempt; the message."""
    run = turn.run(step.run)
    node = turn.plan(run).nodes[step.node]
    secrets: list[str] = []
    given = decode(step.input)
    if has_sealed(step.input):
        with contextlib.suppress(FolderUnusable):  # then the task's own check refuses it
            given = turn.vault.open(given, secrets)
    serial = worker.post(
        size=len(step.input) + len(step.saved or ""),
        kind="work",
        attempt=attempt.id,
        address=turn.address(run, node, turn.unit.parts.need(step.part)),
        number=attempt.number,
        code_hash=attempt.code_hash,
        tries=attempt.try_,
        task=task_of(step.contract),
        input=given,
        token=turn.token_of(step),
        **({"memory": node.rules.memory} if node.rules.memory else {}),
        **({"saved": json.loads(step.saved)} if step.saved else {}),
        **({"secrets": secrets} if secrets else {}),
    )
    return worker.outbox[serial][0]


def post_stop(
    turn: Turn, step: StepRow, why: StopReason, *, raise_in: float | None = None, now: bool = False
) -> bool:
    """Tell the worker that has a step in hand to stop it; False if none has.

    Args:
        turn: the transaction.
        step: the step.
        why: the reason.
        raise_in: of one whose time is over: seconds until it is, when the stop is raised in it.
        now: raise it at once, without a grace.
    """
    if step.open is None:
        return False
    attempt = turn.unit.attempts.need(step.open)
    step.stop = why
    turn.unit.steps.touch(step)
    turn.changed.add(step.run)
    worker = turn.memory.workers[attempt.worker]
    more: dict[str, Any] = {} if raise_in is None else {"raise_in": raise_in}
    more |= {"now": True} if now else {}
    worker.post(kind="stop", attempt=attempt.id, why=str(why), **more)
    return True


def post_go_on(turn: Turn, step: StepRow) -> None:
    """Tell the worker that has a step in hand that it need not stop after all."""
    assert step.open is not None
    attempt = turn.unit.attempts.need(step.open)
    step.stop = None
    turn.unit.steps.touch(step)
    turn.changed.add(step.run)
    turn.memory.workers[attempt.worker].post(kind="go_on", attempt=attempt.id)


def take_back(turn: Turn, step: StepRow, attempt: AttemptRow) -> None:
    """An attempt has ended: it is in nobody's hand any more."""
    worker = turn.memory.workers.get(attempt.worker)
    if worker:
        worker.release(attempt.id)
        worker.last, worker.last_at = attempt.id, turn.now
        if not worker.in_hand:
            worker.idle_since = turn.now
        turn.workers = True
    turn.memory.lanes.ended(step.pool, step.share)
    turn.memory.timeouts.pop(attempt.id, None)
    turn.memory.unbegun.pop(attempt.id, None)
    if attempt.abandoned and worker:
        worker.abandoned[attempt.id] = (step.pool, step.run)
    else:
        leave_pool(turn, step.pool, step.run, attempt)


def leave_pool(turn: Turn, pool: str, run: int, attempt: AttemptRow) -> None:
    """An attempt does not count in its pool any more; what waits for that may start."""
    if not pool:
        return
    gate = turn.memory.pools.gate(pool)
    if attempt.outcome == Outcome.HANDED_BACK and attempt.begun_at is None:
        gate.take_back(attempt.id)
    gate.end(run, attempt.id, turn.mono)
    gate.note(gate.closed(turn.mono), turn.now)
    turn.memory.lanes.reopen(pool)
    if not turn.memory.lanes.waiting_in(pool):  # else it is to be known when it was opened
        turn.memory.pools.tidy(pool, turn.mono)
    turn.pools.add(base_of(pool))
    if gate.begins and not gate.in_use and not gate.armed:
        # Of many values of a pool with `per=` none is to be remembered longer than its rate asks.
        gate.armed = True
        turn.memory.due.add(gate.forgotten_at, RATE_DUE, pool)
