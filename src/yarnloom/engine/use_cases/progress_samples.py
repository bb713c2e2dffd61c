"""How far runs are: samples of the time that each has moved and of the time that it has left.

A sample is taken when something of a run changed and the last one is some time ago. Between samples
time goes on by itself, so that a reader knows both at any moment (`rules/progress`).
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.progress import between
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState, StepState
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.time_shares import paces_of
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases import time_left
from yarnloom.engine.use_cases.time_left import Facts
from yarnloom.plan import Kind, Plan
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import progress_samples as store
from yarnloom.store.runs import step_queries
from yarnloom.store.runs.step_queries import Row

SPACE = 0.25
"""Seconds of the steady clock between two samples of a run with a plan of at most `NODES`."""

NODES = 200
"""A plan with more of them is sampled less often, as a sample looks at all of them."""

FOLLOWED = 1_000
"""How many runs are sampled when all are, as a pool opens or a worker comes."""

KEPT = 200
"""How many samples of a round are kept for looking back; at least half as many once it had more."""


@dataclass(slots=True)
class _Kept:
    """The samples of a round that are kept.

    Attributes:
        count: how many.
        last: when the last was taken, in microseconds since 1970 UTC.
        space: microseconds between two at least.
        rests: whether the progress rests since then.
    """

    count: int
    last: int
    space: int = 0
    rests: bool = False


class ProgressSamples:
    """Takes samples of runs, at the end of each sampler.

    Args:
        since: when the service started, in microseconds since 1970 UTC; before, nothing moved.
    """

    def __init__(self, since: int) -> None:
        self._since = since
        self._moved_on = False
        self._taken: dict[int, float] = {}
        self._kept: dict[int, _Kept] = {}
        self._around: tuple[object, ...] = ()

    def take(self, sampler: Sampler, changed: set[int]) -> None:
        """Take samples of the runs that changed, if it is time to."""
        if not self._moved_on:
            self._skip_downtime(sampler.unit)
        if sampler.around != self._around:
            # What holds runs up, or does so no more, is no change of theirs.
            self._around = sampler.around
            changed = changed.union(list(self._taken)[:FOLLOWED])
        for number in changed:
            last = self._taken.get(number)
            run = sampler.unit.runs.get(number)
            if run is None or run.started_at is None:
                continue
            if run.state != RunState.RUNNING or run.ended_at is not None:
                self._taken.pop(number, None)
                if sampler.rest(run):
                    self._keep(sampler.unit, run)
                self._kept.pop(number, None)
            elif last is None and not sampler.is_long(run):
                self._taken[number] = sampler.time.mono  # most end before their first sample
            elif last is None or sampler.time.mono >= last + sampler.space(run) or sampler.holds:
                self._taken[number] = sampler.time.mono
                sampler.sample(run)
                self._keep(sampler.unit, run)

    def forget(self) -> None:
        """Forget what the last transaction did, as it was undone."""
        self._moved_on = False
        self._taken.clear()
        self._kept.clear()

    def _skip_downtime(self, unit: Unit) -> None:
        """Let what ran when the service stopped go on from there; again does no harm."""
        self._moved_on = True
        where = "state = ? AND left_micros IS NOT NULL AND sampled_at < ? LIMIT ?"
        for run in unit.runs.select(where, RunState.RUNNING, self._since, FOLLOWED):
            assert run.sampled_at is not None
            store.keep(unit, run.number, run.sampled_at, run.progress, None, run.at_least)
            run.sampled_at = self._since
            store.keep(unit, run.number, self._since, run.progress, run.left_micros, run.at_least)
            unit.runs.touch(run)

    def _keep(self, unit: Unit, run: RunRow) -> None:
        """Keep the newest sample of a run, if the last that was kept is some time ago."""
        assert run.sampled_at is not None
        kept = self._kept.get(run.number)
        if kept is None:
            since = run.started_at or 0
            kept = self._kept[run.number] = _Kept(*store.kept_since(unit, run.number, since))
            kept.space = (kept.last - since) // kept.count if kept.count > KEPT // 2 else 0
        rests = run.left_micros is None
        if rests == kept.rests and run.sampled_at < kept.last + kept.space:
            return
        if kept.count >= KEPT:
            since = run.started_at or 0
            store.drop_half(unit, run.number, since)
            kept.count -= kept.count // 2
            kept.space = (kept.last - since) // kept.count
        store.keep(
            *(unit, run.number, run.sampled_at), *(run.progress, run.left_micros, run.at_least)
        )
        kept.count, kept.last, kept.rests = kept.count + 1, run.sampled_at, rests


@dataclass(frozen=True, slots=True)
class Sampler:
    """Takes samples in one self."""

    unit: Unit
    time: RunTime
    plans: Plans
    counts: Statistics
    workers: Workers
    pools: Pools
    workflows: Workflows

    @property
    def around(self) -> tuple[frozenset[str], bool]:
        """The pools in which nothing begins, and whether there is a worker."""
        workers = any(worker.session.registered for worker in self.workers.values())
        return frozenset(self.pools.closed), workers

    @property
    def holds(self) -> bool:
        """Whether something may hold runs up."""
        closed, workers = self.around
        return bool(closed) or not workers

    def is_long(self, run: RunRow) -> bool:
        """Whether earlier runs took so long that a sample at the begin is worth it."""
        seconds = paces_of(self.unit, self.plans, self.workflows, run).seconds
        return seconds is not None and seconds >= 4 * SPACE

    def space(self, run: RunRow) -> float:
        """Seconds between two samples of a run."""
        return SPACE * max(1.0, len(self.plans.of(run).nodes) / NODES)

    def now(self, run: RunRow, at: int) -> float | None:
        """How far a run is at a time, by its newest sample."""
        return between(run.progress, run.left_micros, run.sampled_at, at)[0]

    def rest(self, run: RunRow) -> bool:
        """Let the progress of a run rest, as it moves no more; False where it rested before."""
        if run.left_micros is None:
            return False
        run.progress = self.now(run, run.ended_at or self.time.now)
        run.left_micros, run.sampled_at = None, self.time.now
        self.unit.runs.touch(run)
        return True

    def sample(self, run: RunRow) -> None:
        """Take a sample of a run that goes on."""
        plan = self.plans.of(run)
        rows = step_queries.rows_of(self.unit, run.number)
        facts = Facts(
            plan=plan,
            now=self.time.now,
            rows=rows,
            ran=self.counts.times.ran_in(run.number),
            open=step_queries.running(self.unit, run.number),
            paces=paces_of(self.unit, self.plans, self.workflows, run),
            places=sum(worker.offer.places for worker in self.workers.values()),
            round=run.round,
            limit_of=self.pools.limit_of,
        )
        held = not self.around[1] or self._is_closed(plan, rows)
        left, at_least = (None, False) if held else time_left.seconds_left(facts)
        fraction = self.now(run, self.time.now)
        if left is not None and fraction is None:
            fraction = self._first(run, rows, left)
        run.progress, run.sampled_at = fraction, self.time.now
        run.at_least = int(at_least)
        run.left_micros = None if left is None else max(1, round(left * 1e6))
        self.unit.runs.touch(run)

    def _first(self, run: RunRow, rows: dict[int, Row], left: float) -> float:
        """How far a run is when the time that it has left is known first, in this round."""
        assert run.started_at is not None
        moved = max(0.0, (self.time.now - run.started_at - run.paused_micros) / 1e6)
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
