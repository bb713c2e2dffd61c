"""What happens because time has passed: leases, back-offs, deadlines, rates, starts, schedules."""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.engine.attending import LEASE_DUE, lose_worker
from yarnloom.engine.commands import LoseWorker, Tick
from yarnloom.engine.filing import drop_idle_files
from yarnloom.engine.handing_out import RATE_DUE, post_stop
from yarnloom.engine.items import FILL_DUE
from yarnloom.engine.reporting import hears_before, look_at_given, too_long
from yarnloom.engine.scheduling import fire_due
from yarnloom.engine.starting import open_due
from yarnloom.engine.states import StepEvent, StopReason
from yarnloom.engine.stopping import stop_late_runs, stop_late_starts
from yarnloom.engine.turn import (
    BACK_OFF_DUE,
    CHORES_DUE,
    DEADLINE_DUE,
    FILES_DUE,
    GRANT_DUE,
    QUIET_DUE,
    RUN_DEADLINE_DUE,
    SCHEDULE_DUE,
    START_BY_DUE,
    START_DUE,
    TIMEOUT_DUE,
    UNBEGUN_DUE,
    Turn,
)
from yarnloom.engine.unbegun import look_at_unbegun
from yarnloom.engine.weaving import Weave
from yarnloom.store import writing as store

AT_ONCE = 500
MILD = (None, StopReason.PAUSE, StopReason.DRAIN)
"""Of a step that is told to stop for these it may still be too late."""


def tick(turn: Turn, _: Tick) -> None:
    """Look at everything that has fallen due."""
    due = turn.memory.due
    if due.next_at is not None and turn.mono - due.next_at > turn.settings.lease / 3:
        # The service itself stood still: that a worker was not heard of says nothing about it.
        for worker in turn.memory.workers.values():
            worker.lease_until = turn.mono + turn.settings.lease
    for kind, key in list(turn.memory.take_due(turn.mono)):
        _FALLEN_DUE[kind](turn, key)


def _look_at_lease(turn: Turn, worker_id: str) -> None:
    """Give a worker up that was not heard of."""
    worker = turn.memory.workers.get(worker_id)
    if worker is None:
        return
    if worker.lease_until > turn.mono:
        turn.memory.due.add(worker.lease_until, LEASE_DUE, worker_id)
    else:
        why = f"not heard of for {turn.settings.lease:g} s"
        lose_worker(turn, LoseWorker(worker_id, why))


def _go_on(turn: Turn, part_id: str) -> None:
    """Make more items of an each."""
    part = turn.unit.parts.get(int(part_id))
    if part is not None:
        Weave(turn, turn.run(part.run)).go_on(part)


def _look_at_rate(turn: Turn, pool: str) -> None:
    """A pool's rate may let something begin again."""
    turn.memory.pools.gate(pool).armed = False
    turn.memory.lanes.reopen(pool)
    turn.memory.pools.tidy(pool, turn.mono)


def _look_at_times(turn: Turn, _: str) -> None:
    """Tell attempts to stop that have run as long as they may."""
    timeouts = turn.memory.timeouts
    for attempt_id in [one for one, (at, _why) in timeouts.items() if at <= turn.mono]:
        _at, why = timeouts.pop(attempt_id)
        attempt = turn.unit.attempts.need(attempt_id)
        step = turn.unit.steps.need(attempt.step)
        if step.stop in MILD:
            rules = turn.plan(turn.run(step.run)).nodes[step.node].rules
            limit = rules.timeout if why is StopReason.TIMEOUT else rules.deadline
            lead = hears_before(turn, attempt, step, limit or 0.0)
            post_stop(turn, step, why, raise_in=lead)
    if timeouts:
        turn.memory.arm(TIMEOUT_DUE, min(timeouts.values())[0])


def _look_at_quiet(turn: Turn, _: str) -> None:
    """Attempts that say nothing of their progress are stuck; some are stopped for it."""
    following = []
    for attempt_id, heard in list(turn.memory.heard.items()):
        attempt = turn.unit.attempts.need(attempt_id)
        step = turn.unit.steps.need(attempt.step)
        rules = turn.plan(turn.run(step.run)).nodes[step.node].rules
        at = heard + (rules.quiet_for or 0.0)
        if at > turn.mono:
            following.append(at)
            continue
        turn.changed.add(step.run)
        if rules.if_quiet == "retry" and step.stop in MILD:
            post_stop(turn, step, StopReason.QUIET, raise_in=0.0)
        else:
            following.append(turn.mono + (rules.quiet_for or 0.0))
    if following:
        turn.memory.arm(QUIET_DUE, min(following))


def _wake_steps(turn: Turn, _: str) -> None:
    """Steps whose back-off or rest is over are ready."""
    for step_id in store.steps_due(turn.unit, turn.now, AT_ONCE):
        turn.move_step(turn.unit.steps.need(step_id), StepEvent.DUE)
    if (following := store.next_due(turn.unit)) is not None:
        turn.remind(BACK_OFF_DUE, following)


def _stop_late_steps(turn: Turn, _: str) -> None:
    """Steps whose deadline has passed fail, or are told to stop where they run."""
    for step_id in store.steps_past_deadline(turn.unit, turn.now, AT_ONCE):
        step = turn.unit.steps.need(step_id)
        if step.ended_at is not None:
            continue  # because of another
        if step.stop == StopReason.CANCEL:
            post_stop(turn, step, StopReason.CANCEL, now=True)  # the deadline cuts its grace
        if step.stop not in MILD:
            continue
        run = turn.run(step.run)
        limit = turn.plan(run).nodes[step.node].rules.deadline or 0.0
        if not post_stop(turn, step, StopReason.DEADLINE, raise_in=0.0):
            Weave(turn, run).fail_step(step, too_long(limit, "deadline", "DeadlinePassed"))
    if (following := store.next_step_deadline(turn.unit)) is not None:
        turn.remind(DEADLINE_DUE, following)


def _stop_late_runs(turn: Turn, _: str) -> None:
    stop_late_runs(turn)


def _open_runs(turn: Turn, _: str) -> None:
    open_due(turn)


def _stop_late_starts(turn: Turn, _: str) -> None:
    stop_late_starts(turn)


def _fire_schedules(turn: Turn, _: str) -> None:
    fire_due(turn)


def _tell_chores(turn: Turn, _: str) -> None:
    """What was found undone at a start is told with this transaction's results."""


_FALLEN_DUE: dict[str, Callable[[Turn, str], None]] = {
    LEASE_DUE: _look_at_lease,
    FILL_DUE: _go_on,
    RATE_DUE: _look_at_rate,
    TIMEOUT_DUE: _look_at_times,
    QUIET_DUE: _look_at_quiet,
    UNBEGUN_DUE: look_at_unbegun,
    GRANT_DUE: look_at_given,
    BACK_OFF_DUE: _wake_steps,
    DEADLINE_DUE: _stop_late_steps,
    RUN_DEADLINE_DUE: _stop_late_runs,
    START_DUE: _open_runs,
    START_BY_DUE: _stop_late_starts,
    SCHEDULE_DUE: _fire_schedules,
    FILES_DUE: drop_idle_files,
    CHORES_DUE: _tell_chores,
}
