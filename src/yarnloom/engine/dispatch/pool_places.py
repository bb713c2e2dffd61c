"""Places in pools: attempts enter a pool when a worker gets them, and leave it when they end."""

from __future__ import annotations

from collections.abc import Iterable

from yarnloom.engine.rules.limits import base_of
from yarnloom.engine.state.transaction import Transaction

RATE_DUE = "rate"
"""The timer of a pool whose rate lets steps start again, or forgets a value."""


def enter_pool(transaction: Transaction, pool: str, run: int, attempts: Iterable[int]) -> None:
    """Count attempts of a run in their pool; an empty name is none."""
    if not pool:
        return
    gate = transaction.memory.pools.gate(pool)
    for attempt in attempts:
        gate.hand_out(run, attempt)
    gate.note(gate.closed(transaction.mono), transaction.now)
    transaction.changes.pools.add(base_of(pool))


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
    gate = pools.gate(pool)
    for attempt in attempts:
        if never_began:
            gate.take_back(attempt)
        gate.end(run, attempt, transaction.mono)
        if begun:
            pools.need(pool).count_begun(transaction.mono)
    gate.note(gate.closed(transaction.mono), transaction.now)
    lanes.reopen(pool)
    # A pool that steps wait for has to remember when it opened.
    if not lanes.waiting_in(pool):
        pools.tidy(pool, transaction.mono)
    transaction.changes.pools.add(base_of(pool))
    if gate.begins and not gate.in_use and not gate.armed:
        # Of many values of a pool with `per=` none is to be remembered longer than its rate asks.
        gate.armed = True
        transaction.memory.timers.add(gate.forgotten_at, RATE_DUE, pool)
