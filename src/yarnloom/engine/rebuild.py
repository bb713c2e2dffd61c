"""Rebuilding the memory from the records: at a start, and after a commit that failed."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.dispatch.kept_files import KeptFiles
from yarnloom.engine.dispatch.pool_settings import PoolSettings
from yarnloom.engine.part_contents.items import FILL_DUE
from yarnloom.engine.rules.limits import Pools, uses_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import TROUBLE
from yarnloom.engine.state.due_times import (
    BACK_OFF_DUE,
    DEADLINE_DUE,
    FILES_DUE,
    RUN_DEADLINE_DUE,
    SCHEDULE_DUE,
    START_BY_DUE,
    START_DUE,
    DueTimes,
    Timers,
)
from yarnloom.engine.state.hourly_counts import MINUTE, MINUTES, Recent, Tally
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases.attempt_reports import AttemptReports
from yarnloom.engine.use_cases.list_results import ListResults
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.engine.use_cases.run_end import listeners_of
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.engine.use_cases.worker_sessions import WorkerSessions
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.store import Unit
from yarnloom.store.runs import due_records, earlier_times, item_records, schedule_records
from yarnloom.store.runs import run_records as store
from yarnloom.store.workers import worker_records, workflow_records


def _by_day(time: RunTime, wall: int | None) -> int | None:
    return None if wall is None else wall + time.ahead


@dataclass(slots=True)
class Rebuild:
    """Rebuilds the memory from the store."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    counts: Statistics
    workers: Workers
    queue: StepQueue
    pools: Pools
    timers: Timers
    workflows: Workflows
    attempt_reports: AttemptReports
    granted_items: GrantedItems
    kept_files: KeptFiles
    list_results: ListResults
    pausing: Pausing
    pool_settings: PoolSettings
    relay_steps: RelaySteps
    schedules: Schedules
    worker_sessions: WorkerSessions

    def rebuild(self) -> None:
        """Fill an empty memory from the records; what was open then goes on as before."""
        unit = self.unit
        self.workflows.plans = workflow_records.current_plans(unit)
        self.workflows.weights = earlier_times.newest(unit)
        self.pool_settings.rebuild()
        self.pausing.rebuild()
        self.granted_items.rebuild()
        for pool, priority, share, contract, count, run in due_records.ready_by_lane(unit):
            # The plan says what the steps of a contract expect of a worker.
            self.plans.of(self.unit.run(run))
            self.queue.lanes.add(pool, priority, share, contract, count)
        for workflow, queue, admission, count in store.runs_by_queue(unit):
            self.workflows.counted(admission)[workflow, queue] += count
        self.workflows.listeners = listeners_of(self.unit)
        self.schedules.rearm()
        self.set_timers()
        for each in item_records.unfinished_eaches(unit):
            self.timers.add(self.time.mono, FILL_DUE, str(each))
        self.list_results.rebuild()
        for worker_id, name, facts in worker_records.workers_present(unit):
            self.worker_sessions.remember(worker_id, name, facts)
        for worker in self.workers.values():
            for attempt in worker.in_hand:
                self._remember_attempt(attempt)
        self.relay_steps.rebuild()
        for worker in self.workers.values():
            for attempt_id, (pool, run) in worker.abandoned.items():
                for single, weight in uses_in(pool):
                    self.pools.limiter(single).use(run, weight)
                    self.pools.limiter(single).take_back(attempt_id)
        self.pool_settings.rebuild_begins(self.pools.settings)
        for number in self.queue.paused:
            self.pausing.settle(self.unit.run(number))
        self.counts.eaches.write(self.plans)
        self.counts.hours.write(unit)
        self.counts.times.write()
        unit.commit()

    def _remember_attempt(self, attempt_id: int) -> None:
        """An attempt that a worker has in hand counts for turns, in its pool, and in time."""
        attempt = self.unit.attempts.need(attempt_id)
        step = self.unit.steps.need(attempt.step)
        self.queue.lanes.started(step.pool, step.share)
        for pool, weight in uses_in(step.pool):
            self.pools.limiter(pool).enter(step.run, attempt_id, weight)
        if attempt.begun_at is None:
            self.due_times.expect_begin(attempt_id)
        else:
            self.attempt_reports.watch(attempt, step)

    def set_timers(self) -> None:
        """Set a timer for each kind of what the store keeps by time."""
        unit, time = self.unit, self.time
        next_of_kind = {
            BACK_OFF_DUE: due_records.next_due(unit),
            DEADLINE_DUE: due_records.next_step_deadline(unit),
            RUN_DEADLINE_DUE: due_records.next_run_deadline(unit),
            START_DUE: schedule_records.next_to_open(unit, time.ahead),
            START_BY_DUE: _by_day(time, schedule_records.next_to_expire(unit)),
            SCHEDULE_DUE: _by_day(time, schedule_records.next_firing(unit)),
            FILES_DUE: self.kept_files.next_drop(),
        }
        for kind, at in next_of_kind.items():
            if at is not None:
                self.due_times.set(kind, at)


def count_last_hour(unit: Unit, now: int) -> Recent:
    """Count what the records say of the last hour, the newest attempts of very many."""
    last_hour = Recent()
    since = now - MINUTES * MINUTE
    found = []
    for ready_at, begun_at, ended_at, outcome in worker_records.recent_attempts(unit, since):
        waited = max(0, begun_at - ready_at) / 1_000_000
        found.append((begun_at, Tally(begun=1, waited=waited, longest=waited)))
        if ended_at is not None:
            found.append((ended_at, Tally(ended=1, failed=outcome in TROUBLE)))
    for at, tally in sorted(found, key=lambda one: one[0]):
        last_hour.add(at, tally)
    return last_hour
