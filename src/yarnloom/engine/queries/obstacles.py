"""What is in the way of a step that could run: its pool, the workers, who is before it."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from yarnloom.engine.records.waits import Reason
from yarnloom.engine.rules.fair_queue import MOST_AHEAD
from yarnloom.engine.rules.limits import Pools, pools_in, uses_in
from yarnloom.engine.rules.reservations import Reservation
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import Misfit, needs_of, task_of
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.workers import Worker, Workers
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.store import StepRow, Unit
from yarnloom.values import JsonObject

SHOWN = 50
NO_PLACE, ELSEWHERE, DRAINING, TROUBLE = "no_place", "elsewhere", "draining", "trouble"


FLAWS = (TROUBLE, DRAINING, ELSEWHERE, *reversed(Misfit))
"""Why a worker does not take a step, what is mended most easily first."""


def reason(kind: str, words: JsonObject | None = None, **facts: Any) -> Reason:
    """Return a reason with what the API shows of it, and what its sentence needs besides."""
    return Reason(kind, facts, words or {})


@dataclass(slots=True)
class Obstacles:
    """Finds what keeps a step from running."""

    unit: Unit
    time: RunTime
    workers: Workers
    queue: StepQueue
    pools: Pools
    relays: Relays
    granted_items: GrantedItems

    def obstacles(
        self, step: StepRow, waiters: Mapping[int, int], *, order: bool
    ) -> Iterator[Reason]:
        """Everything that keeps a ready step from starting.

        Args:
            step: the step.
            waiters: attempts in which a task waits for another run, and for which.
            order: whether it is told who comes before.
        """
        pool_reasons = list(self.of_pools(step.pool, step.priority, step.share))
        yield from pool_reasons
        yield from self._of_itself(step, waiters)
        worker_reason = self._of_workers(step)
        if worker_reason is not None:
            yield worker_reason
        if pool_reasons or (worker_reason and worker_reason.kind == NO_PLACE):
            if order:
                yield from _of_order(self.queue, step)
        elif worker_reason is None:
            yield reason("moment")

    def _of_itself(self, step: StepRow, waiters: Mapping[int, int]) -> Iterator[Reason]:
        """That every place for a step is held by a task that waits for it: nothing can go on."""
        fitting = [
            one
            for one in self.workers.values()
            if one.session.registered and _flaws(self.workers, one, step) in ([], [NO_PLACE])
        ]
        held = [attempt for one in fitting for attempt in one.holding(step.contract)]
        if not held or any(one.has_place(step.contract) for one in fitting):
            return
        waited = {waiters[attempt] for attempt in held if attempt in waiters}
        # One holder that does not wait gives its place back by itself.
        if any(attempt not in waiters for attempt in held) or step.run not in waited:
            return
        for attempt_id in (one for worker in self.workers.values() for one in worker.in_hand):
            if self._run_of(attempt_id) in waited and attempt_id not in waiters:
                return  # it ends, and then they go on
        runs = sorted({self.unit.attempts.need(attempt).run for attempt in held})
        yield reason("itself", {"places": len(held)}, runs=runs)

    def _run_of(self, attempt: int) -> int:
        """The run of an attempt in hand, with rows or without."""
        leg = self.relays.attempts.get(attempt)
        return leg.run if leg else self.granted_items.run_of_attempt(attempt)

    def of_pools(self, pools: str, priority: int, share: str) -> Iterator[Reason]:
        """Everything in its pools that keeps a share's step from starting."""
        key = (pools, priority, share)
        own = self.queue.reservations.made.get(key)
        before = self.queue.reservations.before(key)
        kept = Counter[str]()
        for one in before:
            kept.update(dict(uses_in(one.pools)))
        for pool, weight in uses_in(pools):
            limiter = self.pools.limiter(pool)
            settings = limiter.settings
            for closed in limiter.obstacles(self.time.mono, weight, kept[pool]):
                words = {
                    "paused": settings.paused or {},
                    "runs": [run for run, _ in limiter.in_use.most_common()],
                    "rate": settings.rate,
                    "left": None if closed.until is None else closed.until - self.time.mono,
                    "before": [self._of_reservation(one) for one in before if pool in one.pools],
                }
                facts = {"pool": pool, "limit": settings.limit, "in_use": limiter.used}
                reserved = own is not None and own.active
                yield reason(f"pool_{closed.why}", words, weight=weight, reserved=reserved, **facts)

    def _of_reservation(self, one: Reservation) -> JsonObject:
        """A reservation, and the pools in which it does not fit yet."""
        waits_for = [
            pool
            for pool, weight in uses_in(one.pools)
            if self.pools.limiter(pool).closed(self.time.mono, weight) is not None
        ]
        facts = {"share": one.share, "priority": one.priority, "pools": dict(uses_in(one.pools))}
        return {**facts, "waits_for": waits_for}

    def _of_workers(self, step: StepRow) -> Reason | None:
        """Why no worker takes it; None if one has a place."""
        workers = [one for one in self.workers.values() if one.session.registered]
        if not workers:
            return reason("no_worker")
        flaws = [(one, _flaws(self.workers, one, step)) for one in workers]
        if not all(found for _, found in flaws):
            return None
        full = [worker for worker, found in flaws if found == [NO_PLACE]]
        if not full:
            return self._no_worker_fits(step, flaws)
        places = sum(_places(one, step.contract) for one in full)
        names = [one.name for one in full]
        return reason(NO_PLACE, {"places": places}, workers=names)

    def _no_worker_fits(self, step: StepRow, flaws: list[tuple[Worker, list[str]]]) -> Reason:
        """What is missing in each worker; those that lack the least first."""
        groups: dict[tuple[str, ...], list[Worker]] = {}
        for worker, found in flaws:
            kinds = [one for one in found if one != NO_PLACE]
            groups.setdefault(tuple(kinds), []).append(worker)
        nearest_first = sorted(groups, key=lambda kinds: [len(kinds), *map(FLAWS.index, kinds)])
        facts = [{"worker": worker.name, "why": found} for worker, found in flaws[:SHOWN]]
        words = {
            "task": task_of(step.contract),
            "pool": ", ".join(sorted(pools_in(step.pool))),
            "near": _near(step, flaws),
            "groups": [
                ([worker.name for worker in groups[kinds]], kinds, _lacks(step, groups[kinds]))
                for kinds in nearest_first
            ],
            "troubles": [groups[kinds][0].session.trouble or "" for kinds in nearest_first],
        }
        return reason(nearest_first[0][0], words, workers=facts)


def _places(worker: Worker, contract: str) -> int:
    return (
        worker.offer.io_places
        if task_of(contract) in worker.offer.io_tasks
        else worker.offer.places
    )


def _flaws(workers: Workers, worker: Worker, step: StepRow) -> list[str]:
    """Everything because of which a worker does not take a step; nothing if it can."""
    if worker.session.trouble is not None and not worker.offer.tasks:
        return [TROUBLE]  # it has not loaded its looms, so nobody knows its tasks
    misfit = worker.misfit(step.contract, workers.contracts)
    found = [] if misfit in (None, Misfit.LACKS) else [str(misfit)]
    if needs_of(step.contract) - worker.offer.has:
        found.append(str(Misfit.LACKS))
    if not worker.takes_from(step.pool):
        found.append(ELSEWHERE)
    if worker.session.draining:
        found.append(DRAINING)
    if worker.session.trouble is not None and not _places(worker, step.contract):
        found.append(TROUBLE)
    elif not worker.has_place(step.contract):
        found.append(NO_PLACE)
    return found


def _lacks(step: StepRow, workers: list[Worker]) -> list[str]:
    """What a step needs and some workers do not have."""
    needs = needs_of(step.contract)
    return sorted({word for worker in workers for word in needs - worker.offer.has})


def _near(step: StepRow, flaws: list[tuple[Worker, list[str]]]) -> str | None:
    """Return the task with the nearest name that a worker knows."""
    known = sorted({name for worker, _ in flaws for name in worker.offer.tasks})
    close = difflib.get_close_matches(task_of(step.contract), known, n=1)
    return close[0] if close else None


def _of_order(queue: StepQueue, step: StepRow) -> Iterator[Reason]:
    """Who comes first when there is room."""
    higher, shares = queue.lanes.ahead_of(step.pool, step.priority, step.share)
    if higher:
        yield reason("priority", steps=higher, priority=step.priority)
    if shares:
        words = {"shares": shares, "is_cut": len(shares) == MOST_AHEAD}
        yield reason("turn", words, shares=shares[:SHOWN])
