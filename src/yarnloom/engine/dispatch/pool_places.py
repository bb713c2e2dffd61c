"""Places in pools: attempts enter a pool when a worker gets them, and leave it when they end.

Decision: `docs/decisions/04-pools.md`.
"""

from __future__ import annotations

from collections.abc import Iterable

from yarnloom.engine.rules.limits import Pools, base_of
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.transaction import Transaction

RATE_DUE = "rate"
"""The timer of a pool whose rate lets steps start again, or forgets a value."""


def enter_pool(
    time: RunTime, pools: Pools, changes: Changes, pool: str, run: int, attempts: Iterable[int]
) -> None:
    """Count attempts of a run in their pool; an empty name is none."""
    if not pool:
        return
    limiter = pools.limiter(pool)
    for attempt in attempts:
        limiter.enter(run, attempt)
    limiter.record_use(limiter.closed(time.mono), time.now)
    changes.pools.add(base_of(pool))


def leave_pool(
    transaction: Transaction,
    pool: str,
    run: int,
    attempts: Iterable[int],
    *,
    begun: bool = False,
    never_began: bool = False,
) -> None:
    """Remove attempts of a run from their pool, so that waiting steps may start.

    Args:
        transaction: the transaction.
        pool: its name; empty for none.
        run: the run's number.
        attempts: the attempts.
        begun: whether their begins still have to be counted.
        never_began: whether a worker gave them back before they began.
    """
    if not pool:
        return
    pools, lanes = transaction.memory.pools, transaction.memory.queue.lanes
    limiter = pools.limiter(pool)
    for attempt in attempts:
        if never_began:
            limiter.take_back(attempt)
        limiter.end(run, attempt, transaction.time.mono)
        if begun:
            pools.need(pool).count_begun(transaction.time.mono)
    limiter.record_use(limiter.closed(transaction.time.mono), transaction.time.now)
    lanes.reopen(pool)
    # A pool that steps wait for has to remember when it opened.
    if not lanes.waiting_in(pool):
        pools.tidy(pool, transaction.time.mono)
    transaction.changes.pools.add(base_of(pool))
    if limiter.begins and not limiter.in_use and not limiter.armed:
        # Of many values of a pool with `per=` none is to be remembered longer than its rate asks.
        limiter.armed = True
        transaction.memory.timers.add(limiter.forgotten_at, RATE_DUE, pool)
