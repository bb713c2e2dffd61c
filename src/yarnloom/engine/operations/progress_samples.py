"""How far runs are: samples of the time that each has moved and of the time that it has left.

A sample is taken when something of a run changed and the last one is some time ago. Between samples
time goes on by itself, so that a reader knows both at any moment (`rules/progress`).
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.operations import time_left
from yarnloom.engine.operations.time_left import Facts
from yarnloom.engine.rules.progress import between
from yarnloom.engine.rules.states import RunState, StepState
from yarnloom.engine.state.time_shares import paces_of
from yarnloom.engine.state.transaction import Transaction
from yarnloom.plan import Kind, Plan
from yarnloom.store import RunRow, attempts_under_way
from yarnloom.store.attempts_under_way import Row

SPACE = 0.25
"""Seconds of the steady clock between two samples of a run with a plan of at most `NODES`."""

NODES = 200
"""A plan with more of them is sampled less often, as a sample looks at all of them."""

FOLLOWED = 1_000
"""How many runs are sampled when all are, as a pool opens or a worker comes."""


class ProgressSamples:
    """Takes samples of runs, at the end of each transaction."""

    def __init__(self) -> None:
        self._taken: dict[int, float] = {}
        self._around: tuple[object, ...] = ()

    def take(self, transaction: Transaction) -> None:
        """Take samples of the runs that changed, if it is time to."""
        sampler = _Sampler(transaction)
        changed = set(transaction.changes.runs)
        if sampler.around != self._around:
            # What holds runs up, or does so no more, is no change of theirs.
            self._around = sampler.around
            changed.update(list(self._taken)[:FOLLOWED])
        for number in changed:
            last = self._taken.get(number)
            run = transaction.unit.runs.get(number)
            if run is None or run.started_at is None:
                continue
            if run.state != RunState.RUNNING or run.ended_at is not None:
                self._taken.pop(number, None)
                sampler.rest(run)
            elif last is None and not sampler.is_long(run):
                self._taken[number] = transaction.mono  # most end before their first sample
            elif last is None or transaction.mono >= last + sampler.space(run) or sampler.holds:
                self._taken[number] = transaction.mono
                sampler.sample(run)

    def forget(self) -> None:
        """Forget when samples were taken."""
        self._taken.clear()


@dataclass(frozen=True, slots=True)
class _Sampler:
    """Takes samples in one transaction."""

    transaction: Transaction

    @property
    def around(self) -> tuple[frozenset[str], bool]:
        """The pools in which nothing begins, and whether there is a worker."""
        memory = self.transaction.memory
        workers = any(worker.session.registered for worker in memory.workers.values())
        return frozenset(memory.pools.closed), workers

    @property
    def holds(self) -> bool:
        """Whether something may hold runs up."""
        closed, workers = self.around
        return bool(closed) or not workers

    def is_long(self, run: RunRow) -> bool:
        """Whether earlier runs took so long that a sample at the begin is worth it."""
        seconds = paces_of(self.transaction, run).seconds
        return seconds is not None and seconds >= 4 * SPACE

    def space(self, run: RunRow) -> float:
        """Seconds between two samples of a run."""
        return SPACE * max(1.0, len(self.transaction.plan(run).nodes) / NODES)

    def now(self, run: RunRow, at: int) -> float | None:
        """How far a run is at a time, by its newest sample."""
        return between(run.progress, run.left_micros, run.sampled_at, at)[0]

    def rest(self, run: RunRow) -> None:
        """Let the progress of a run rest, as it does not move."""
        if run.left_micros is not None:
            run.progress = self.now(run, run.ended_at or self.transaction.now)
            run.left_micros, run.sampled_at = None, self.transaction.now
            self.transaction.unit.runs.touch(run)

    def sample(self, run: RunRow) -> None:
        """Take a sample of a run that goes on."""
        transaction = self.transaction
        plan = transaction.plan(run)
        rows = attempts_under_way.rows_of(transaction.unit, run.number)
        facts = Facts(
            plan=plan,
            now=transaction.now,
            rows=rows,
            ran=transaction.counts.times.ran_in(run.number),
            open=attempts_under_way.running(transaction.unit, run.number),
            paces=paces_of(transaction, run),
            places=sum(worker.offer.places for worker in transaction.memory.workers.values()),
            round=run.round,
            limit_of=transaction.memory.pools.limit_of,
        )
        held = not self.around[1] or self._is_closed(plan, rows)
        left, at_least = (None, False) if held else time_left.seconds_left(facts)
        fraction = self.now(run, transaction.now)
        if left is not None and fraction is None:
            fraction = self._first(run, rows, left)
        run.progress, run.sampled_at = fraction, transaction.now
        run.at_least = int(at_least)
        run.left_micros = None if left is None else max(1, round(left * 1e6))
        transaction.unit.runs.touch(run)

    def _first(self, run: RunRow, rows: dict[int, Row], left: float) -> float:
        """How far a run is when the time that it has left is known first, in this round."""
        assert run.started_at is not None
        moved = max(0.0, (self.transaction.now - run.started_at - run.paused_micros) / 1e6)
        if run.round > 1 and 0 in rows:
            kept = rows[0]["fraction"]
            moved += left * kept / max(1e-9, 1 - kept)
        return moved / (moved + left) if moved + left else 0.0

    def _is_closed(self, plan: Plan, rows: dict[int, Row]) -> bool:
        """Whether something under way needs a pool in which nothing begins."""
        closed, _ = self.around
        if not closed:
            return False
        pools = [
            plan.nodes[index].rules.pool
            for index, row in rows.items()
            if row["ended_at"] is None and row["state"] != StepState.RUNNING
            if plan.nodes[index].kind is Kind.STEP
        ]
        pools += [
            plan.nodes[step].rules.pool
            for index, row in rows.items()
            if row["ended_at"] is None and plan.nodes[index].kind is Kind.EACH
            for step in plan.steps_in(plan.nodes[index])
        ]
        return not closed.isdisjoint(pools)
