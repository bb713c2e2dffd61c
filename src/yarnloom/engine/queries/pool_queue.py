"""Who waits for a pool, in which order, and why; which runs use it."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import PoolQueue, RunsInPool, handles
from yarnloom.engine.queries.obstacles import Obstacles
from yarnloom.engine.records.settings import PoolQueueRecord, PoolWaiter
from yarnloom.engine.rules.limits import Pools, pools_in, uses_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.state.step_queue import StepQueue

SHOWN = 50
"""Shares that are shown; of more the first ones."""


@dataclass(slots=True)
class PoolQueues:
    """Lists what waits for a pool."""

    time: RunTime
    pools: Pools
    queue: StepQueue
    grants: Grants
    obstacles: Obstacles

    @handles(PoolQueue)
    def pool_queue(self, command: PoolQueue) -> PoolQueueRecord:
        """Return who waits for a pool or one of its values, next first."""
        reservations = self.queue.reservations.made
        waiters: list[tuple[tuple[int, ...], PoolWaiter]] = []
        by_priority: dict[int, int] = {}
        for pools, priority, share, steps in self.queue.lanes.waiting_shares():
            if command.name not in pools_in(pools):
                continue
            by_priority[priority] = by_priority.get(priority, 0) + steps
            own = reservations.get((pools, priority, share))
            order = self.queue.lanes.order_of(pools, priority, share)
            assert order is not None
            age = (0, own.number) if own and own.active else (1, 0)
            waiter = PoolWaiter(
                share=share,
                priority=priority,
                pools=dict(uses_in(pools)),
                steps=steps,
                reserved_at=own.since if own and own.active else None,
                reasons=list(self.obstacles.of_pools(pools, priority, share)),
            )
            waiters.append(((order[0], *age, *order[1:]), waiter))
        waiters.sort(key=lambda one: one[0])
        return PoolQueueRecord(
            waiters=[waiter for _, waiter in waiters[:SHOWN]],
            more=max(0, len(waiters) - SHOWN),
            by_priority=dict(sorted(by_priority.items(), reverse=True)),
        )

    @handles(RunsInPool)
    def runs_in_pool(self, command: RunsInPool) -> set[int]:
        """Return the runs with items without rows that use a pool, or wait for it."""
        eaches = self.grants.eaches.values()
        return {each.run for each in eaches if command.name in pools_in(each.pool)}
