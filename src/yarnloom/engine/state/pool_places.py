"""Places in pools: attempts enter a pool when a worker gets them, and leave it when they end.

Decision: `docs/decisions/04-pools.md`.
"""

from __future__ import annotations

from collections.abc import Iterable

from yarnloom.engine.rules.fair_queue import Lanes
from yarnloom.engine.rules.limits import Pools, base_of, uses_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.due_times import Timers
from yarnloom.engine.state.transaction_notes import Changes

RATE_DUE = "rate"
"""The timer of a pool whose rate lets steps start again, or forgets a value."""


class PoolPlaces:
    """Lets attempts into their pools, and out of them.

    Args:
        pools: all pools.
        lanes: the queues of ready steps, which open with a pool.
        time: of the transaction.
        timers: of rates.
        changes: what looks different then.
    """

    __slots__ = ("_changes", "_lanes", "_pools", "_time", "_timers")

    def __init__(
        self, pools: Pools, lanes: Lanes, time: RunTime, timers: Timers, changes: Changes
    ) -> None:
        self._pools, self._lanes = pools, lanes
        self._time, self._timers, self._changes = time, timers, changes

    def enter(self, key: str, run: int, attempts: Iterable[int]) -> None:
        """Count attempts of a run in their pools; an empty key is none."""
        for pool, weight in uses_in(key):
            limiter = self._pools.limiter(pool)
            for attempt in attempts:
                limiter.enter(run, attempt, weight)
            limiter.record_use(limiter.closed(self._time.mono), self._time.now)
            self._changes.pools.add(base_of(pool))

    def leave(
        self,
        key: str,
        run: int,
        attempts: Iterable[int],
        *,
        begun: bool = False,
        never_began: bool = False,
    ) -> None:
        """Remove attempts of a run from their pools, so that waiting steps may start.

        Args:
            key: their pools; empty for none.
            run: the run's number.
            attempts: the attempts.
            begun: whether their begins still have to be counted.
            never_began: whether a worker gave them back before they began.
        """
        pools, lanes = self._pools, self._lanes
        for pool, weight in uses_in(key):
            limiter = pools.limiter(pool)
            for attempt in attempts:
                if never_began:
                    limiter.take_back(attempt)
                limiter.end(run, attempt, self._time.mono, weight)
                if begun:
                    pools.need(base_of(pool)).count_begun(self._time.mono)
            limiter.record_use(limiter.closed(self._time.mono), self._time.now)
            lanes.reopen(pool)
            # A pool that steps wait for has to remember when it opened.
            if not lanes.waiting_in(pool):
                pools.tidy(pool, self._time.mono)
            self._changes.pools.add(base_of(pool))
            if limiter.begins and not limiter.in_use:
                # A value of a pool with `per=` is remembered only as long as its rate asks.
                self.look_again(pool, limiter.forgotten_at)

    def look_again(self, pool: str, at: float) -> None:
        """Look at a pool again at a time of the steady clock, unless it is looked at before."""
        limiter = self._pools.limiter(pool)
        if limiter.armed is None or at < limiter.armed:
            limiter.armed = at
            self._timers.add(at, RATE_DUE, pool)

    def begin(self, key: str, attempt: int, at: float) -> None:
        """An attempt has begun: the rates of its pools count it from then."""
        for pool, weight in uses_in(key):
            self._pools.limiter(pool).begin(attempt, at, weight)
            self._lanes.reopen(pool)
