"""Assigning: ready steps go to workers that have a place and poll for work.

Decision: `docs/decisions/03-fair-turns.md`.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.rules.fair_queue import NextUp
from yarnloom.engine.rules.limits import PASSING, Pools, is_single, uses_in
from yarnloom.engine.rules.reservations import Key, Reservation
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.due_times import DueTimes, Timers
from yarnloom.engine.state.given_items import Grants, Straight
from yarnloom.engine.state.plans import task_of
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.step_queue import Lane, Place, StepQueue
from yarnloom.engine.state.steps_sent_along import Anchor
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.workers import EVERYTHING, FreePlaces, Worker, Workers
from yarnloom.store import AttemptRow, StepRow, Unit
from yarnloom.store.runs import due_records
from yarnloom.store.unit_of_work import LARGEST_GRANT

FETCH = 64
NOTHING_KEPT: Counter[str] = Counter()

GiveItems = Callable[[Worker, Straight, int], None]
"""Gives a worker the next items of an each without rows, as many as the number says."""

ExtendRelay = Callable[[Anchor], None]
"""Sends the steps behind an assigned one along with it."""


@dataclass(slots=True)
class Assignment:
    """Gives ready steps to workers."""

    unit: Unit
    time: RunTime
    due_times: DueTimes
    changes: Changes
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    pools: Pools
    grants: Grants
    timers: Timers
    worker_orders: WorkerOrders

    def assign_ready_steps(self, give_items: GiveItems, extend_relay: ExtendRelay) -> None:
        """Assign ready steps to workers, one to each in turn, until places or steps are used up."""
        lanes = self.queue.lanes
        if not lanes.ready:
            return
        self._refresh_reservations()
        dispatcher = Dispatcher(self, give_items, extend_relay)
        # The longest idle first, so that one worker does not get all of a trickle.
        polling = sorted(self._polling(), key=lambda worker: len(worker.in_hand))
        while polling and lanes.ready:
            alone = len(polling) == 1
            polling = [worker for worker in polling if dispatcher.serve(worker, alone=alone)]
        for pool, priority, _ in dispatcher.too_large:
            lanes.put_back(pool, priority)

    def _refresh_reservations(self) -> None:
        """Find out which reservations could begin but for running attempts."""
        reservations = self.queue.reservations
        if not reservations.made:
            return
        some_paused = bool(self.queue.paused)
        for pool in reservations.refresh(
            self.could_begin, lambda one: not some_paused and not self._contracts(one)
        ):
            self.queue.lanes.reopen(pool)

    def could_begin(self, one: Reservation) -> bool:
        """Whether nothing but running attempts and rates is in the way of a reservation's step."""
        for pool, weight in uses_in(one.pools):
            obstacles = self.pools.limiter(pool).obstacles(self.time.mono, weight)
            if any(blocked.why not in PASSING for blocked in obstacles):
                return False
        return any(
            worker.could_take(contract, one.pools, self.workers.contracts)
            for contract in self._contracts(one)
            for worker in self.workers.values()
        )

    def _contracts(self, one: Reservation) -> tuple[str, ...]:
        return self.queue.lanes.takeable(*one.key, EVERYTHING)

    def _polling(self) -> Iterable[Worker]:
        return (
            worker
            for worker in self.workers.values()
            if (worker.session.polling or worker.id in self.changes.reporters)
            and worker.can_take(self.workers.contracts)
        )


@dataclass(slots=True)
class Dispatcher:
    """Serves workers within one transaction; fetches the first steps of a lane a few at a time.

    Attributes:
        too_large: steps that come up and do not fit, and make a reservation once they are next.
    """

    needs: Assignment
    give_items: GiveItems
    extend_relay: ExtendRelay
    too_large: set[Key] = field(default_factory=set)
    fetched: dict[Lane, deque[Place]] = field(default_factory=dict)

    def serve(self, worker: Worker, *, alone: bool) -> bool:
        """Hand the next step or items to a worker; False if it can take none.

        Args:
            worker: the worker.
            alone: whether nobody else wants anything.
        """
        takes = worker.can_take(self.needs.workers.contracts)
        whose = self.next_up(takes) if takes else None
        if whose and takes and self.needs.pools.rated(whose.pool):
            # Nothing of such a pool is handed out ahead. What comes behind it is not either: the
            # worker gets only what can begin now, until it has a place for it.
            whose = self.next_up(takes.now())
        if whose is None:
            return False
        step = self.next_step(whose)
        if isinstance(step, Straight):
            count = self.how_many(worker, step, alone=alone)
            self.give_items(worker, step, count)
        else:
            anchor = self.assign(self.needs.unit.steps.need(step), worker)
            if self.needs.queue.reservations.made:
                self.needs.queue.reservations.drop((whose.pool, whose.priority, whose.share))
            self.extend_relay(anchor)
        return True

    def next_up(self, takes: FreePlaces) -> NextUp | None:
        """Whose turn it is: of equal priority first those with a reservation, by age."""
        lanes, reservations = self.needs.queue.lanes, self.needs.queue.reservations
        ordinary = lanes.next_up(takes, self.may_start)
        while self.too_large and self.reserve_before(ordinary):
            ordinary = lanes.next_up(takes, self.may_start)
        if not reservations.made:
            return ordinary
        for one, kept in reservations.ranked():
            if ordinary is not None and one.priority < ordinary.priority:
                break
            contracts = lanes.takeable(*one.key, takes)
            if contracts and takes.worker.takes_from(one.pools) and self.fits(one.pools, kept):
                return NextUp(*one.key, contracts)
        return ordinary

    def how_many(self, worker: Worker, straight: Straight, *, alone: bool) -> int:
        """How many items of an each a worker is given: one where others wait for their turn."""
        lanes = self.needs.queue.lanes
        if lanes.ready > straight.offered:
            return 1
        room = min(worker.room(straight.lane[3]), self.room_in_pool(straight))
        most = min(straight.offered, LARGEST_GRANT)
        return min(most, room if alone else min(room, max(1, worker.offer.places)))

    def room_in_pool(self, straight: Straight) -> int:
        """Return how many items of an each may be given before its pool is full."""
        if not straight.pool:
            return straight.offered
        limiter = self.needs.pools.limiter(straight.pool)
        limit = limiter.settings.limit
        kept = self.needs.queue.reservations.kept_from(straight.lane[1])[straight.pool]
        return straight.offered if limit is None else max(1, limit - limiter.used - kept)

    def may_start(self, pool: str, priority: int, share: str) -> bool:
        """Whether a step may start that has no reservation; one that needs much makes one."""
        if not pool:
            return True
        reservations = self.needs.queue.reservations
        kept = reservations.kept_from(priority) if reservations.made else NOTHING_KEPT
        if self.fits(pool, kept):
            return True
        if not is_single(pool) and (pool, priority, share) not in reservations.made:
            self.too_large.add((pool, priority, share))
        return False

    def reserve_before(self, ordinary: NextUp | None) -> bool:
        """Make reservations for steps that do not fit and come before another; whether any does."""
        lanes, made = self.needs.queue.lanes, False
        least = None
        if ordinary is not None:
            least = lanes.order_of(ordinary.pool, ordinary.priority, ordinary.share)
        for key in list(self.too_large):
            order = lanes.order_of(*key)
            if order is None or least is None or order < least:
                self.too_large.discard(key)
            if order is not None and (least is None or order < least):
                self.needs.queue.reservations.make(key, self.needs.time.now, self.needs.could_begin)
                made = True
        return made and ordinary is not None

    def fits(self, key: str, kept: Counter[str]) -> bool:
        """Whether a step fits into all its pools, beside what is kept for others.

        A pool whose rate forbids it is looked at again in time.
        """
        fits = True
        for pool, weight in uses_in(key):
            limiter = self.needs.pools.limiter(pool)
            closed = limiter.closed(self.needs.time.mono, weight, kept[pool])
            limiter.record_use(closed, self.needs.time.now)
            if closed is None:
                continue
            fits = False
            if closed.until is not None:
                self.needs.pool_places.look_again(pool, closed.until)
        return fits

    def next_step(self, whose: NextUp) -> int | Straight:
        """The first step, or item without rows, in plan order among a share's contracts."""
        heads: list[tuple[Place, Lane]] = []
        offers: list[tuple[Place, Straight]] = []
        grants = self.needs.grants
        for contract in whose.contracts:
            lane = (whose.pool, whose.priority, whose.share, contract)
            if grants.offers and (offer := grants.first_offer(lane)):
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
        grants, ready = self.needs.grants, self.needs.queue.lanes.count(*lane)
        return ready - grants.offered_in(lane) if grants.offers else ready

    def first(self, lane: Lane) -> Place:
        """The first step of a lane, as known; else fetched, a few at a time."""
        if queue := self.fetched.get(lane):
            return queue[0]
        known = self.needs.queue.ready.first(lane, self.rows_in(lane))
        if known is not None:
            return known
        # The query must not find steps of this lane that were handed out a moment ago.
        self.needs.unit.flush()
        rows = due_records.next_ready(
            self.needs.unit, lane, FETCH, some_held=bool(self.needs.queue.paused)
        )
        places = [(run, rank, step) for step, run, rank in rows]
        if len(places) < FETCH:
            self.needs.queue.ready.learn(lane, places)
        else:
            self.fetched[lane] = deque(places)
        return places[0]

    def assign(self, step: StepRow, worker: Worker) -> Anchor:
        """Make an attempt of a step, and order a worker to run it."""
        needs = self.needs
        run = needs.unit.run(step.run)
        attempt = AttemptRow(
            id=needs.unit.new_id("attempts"),
            step=step.id,
            run=step.run,
            number=step.attempts + 1,
            try_=step.tries + 1,
            worker=worker.id,
            code_hash=worker.offer.tasks[task_of(step.contract)],
            ready_at=step.ready_at,
            handed_at=needs.time.now,
            pool=step.pool,
            round=run.round,
        )
        if step.pool:
            opened_at = max(needs.pools.limiter(pool).opened_at for pool, _ in uses_in(step.pool))
            attempt.pool_until = opened_at if opened_at > step.ready_at else None
            needs.pool_places.enter(step.pool, step.run, [attempt.id])
        needs.unit.attempts.add(attempt)
        run.attempts += 1
        needs.unit.runs.touch(run)
        needs.queue.remove(step)
        needs.queue.lanes.started(step.pool, step.share)
        step.open = attempt.id
        step.attempts = attempt.number
        needs.unit.steps.touch(step)
        needs.changes.runs.add(step.run)
        worker.hold(attempt.id, task_of(step.contract))
        needs.changes.workers = True
        needs.due_times.expect_begin(attempt.id)
        message = needs.worker_orders.post_work(worker, step, attempt)
        return Anchor(step, worker.id, attempt.id, message)
