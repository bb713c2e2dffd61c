"""What workers tell of one attempt: it begins, saves, ends; and what takes it from its worker."""

from __future__ import annotations

from yarnloom.engine.commands import BeginAttempt, BeginEffect, ReportItem, handles
from yarnloom.engine.compact import relay_steps
from yarnloom.engine.dispatch import effects
from yarnloom.engine.dispatch.release import never_began
from yarnloom.engine.operations.attempt_ends import (
    CALLED,
    end_attempt,
    hears_before,
    keep_saved,
    micros_of,
)
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.workers import BegunEffect
from yarnloom.engine.rules.limits import base_of
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    NOT_BEGUN,
    Outcome,
    RunEvent,
    RunState,
    StepEvent,
    StopReason,
)
from yarnloom.engine.state.afterwards import Afterwards
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import QUIET_DUE, TIMEOUT_DUE
from yarnloom.engine.state.open_relays import Relays
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import Progress, item_began
from yarnloom.engine.state.transaction import Transaction
from yarnloom.engine.state.workers import Workers
from yarnloom.errors import Conflict
from yarnloom.store import AttemptRow, StepRow, Unit, segment_records
from yarnloom.values import JsonObject

_FENCED: dict[str, str] = {
    Outcome.LOST: "given up as lost",
    Outcome.HANDED_BACK: "taken back, since it had not begun",
}
"""Outcomes that the service decides itself, after which its worker may still run an attempt."""


NEVER_BEGUN = (Outcome.HANDED_BACK, Outcome.CANCELLED, Outcome.LOST)
"""Outcomes of legs whose turn never came; a process that died may have begun a lost one."""


def free(
    unit: Unit,
    workers: Workers,
    afterwards: Afterwards,
    pool_places: PoolPlaces,
    worker_id: str,
    attempt_id: int,
) -> None:
    """The process of an abandoned attempt has ended."""
    worker = workers.get(worker_id)
    held = worker.abandoned.pop(attempt_id, None) if worker else None
    if held is not None:
        attempt = unit.attempts.need(attempt_id)
        attempt.abandoned = 0
        unit.attempts.touch(attempt)
        pool_places.leave(*held, [attempt.id], never_began=never_began(attempt))
        afterwards.settling.add(attempt.run)


def save_of(
    unit: Unit,
    time: RunTime,
    attempts: OpenAttempts,
    progress: Progress,
    changes: Changes,
    worker: str,
    attempt_id: int,
    saved: JsonObject,
) -> None:
    """Keep what a running attempt saved; what comes from one that was given up changes nothing."""
    attempt = unit.attempts.get(attempt_id)
    if attempt is not None and attempt.worker == worker and attempt.outcome is None:
        keep_saved(
            unit, time, attempts, progress, changes, unit.steps.need(attempt.step), attempt, saved
        )


@handles(BeginAttempt)
def begin_attempt(transaction: Transaction, command: BeginAttempt) -> None:
    """Record that an attempt begins, before it does.

    Raises:
        Conflict: the attempt is not this worker's any more.
    """
    attempt = transaction.unit.attempts.get(command.attempt)
    if attempt is None or attempt.worker != command.worker or attempt.outcome is not None:
        raise Conflict("the attempt was given up, so it does not begin any more")
    record_begin(transaction, attempt)


@handles(BeginEffect)
def begin_effect(transaction: Transaction, command: BeginEffect) -> BegunEffect:
    """Write down that a side effect begins, and with it that its attempt has begun.

    Raises:
        Conflict: the attempt is not this worker's any more.
    """
    answer = effects.begin_effect(
        transaction.unit,
        transaction.time,
        transaction.plans,
        transaction.changes,
        transaction.folder,
        transaction.vault,
        command,
    )
    record_begin(transaction, transaction.unit.attempts.need(command.attempt))
    return answer


def record_begin(transaction: Transaction, attempt: AttemptRow, *, ago: float = 0.0) -> None:
    """Record that an attempt has begun, if that is not known yet."""
    if attempt.begun_at is None:
        _begin(transaction, attempt, ReportItem(attempt.id, begun_ago=ago))


def lose(transaction: Transaction, attempt_id: int, why: str) -> None:
    """Give an attempt up as lost: its worker is gone."""
    attempt = _taken_away(
        transaction.unit,
        transaction.plans,
        transaction.memory.workers,
        transaction.memory.relays,
        attempt_id,
    )
    error = StepError(type="Lost", message=why)
    end_attempt(transaction, attempt, Outcome.LOST, ReportItem(attempt_id, error=error))


def take_from(transaction: Transaction, attempt: AttemptRow, why: str) -> None:
    """Take an attempt that has not begun from its worker, which is not to report it any more."""
    error = StepError(type=NOT_BEGUN, message=why)
    _taken_away(
        transaction.unit,
        transaction.plans,
        transaction.memory.workers,
        transaction.memory.relays,
        attempt.id,
    )
    end_attempt(transaction, attempt, Outcome.HANDED_BACK, ReportItem(attempt.id, error=error))


def hand_back(transaction: Transaction, attempt_id: int, why: str = "") -> None:
    """A worker that leaves, or is gone, did not run an attempt to its end."""
    error = StepError(type=NOT_BEGUN, message=why) if why else None
    end_attempt(
        transaction,
        _taken_away(
            transaction.unit,
            transaction.plans,
            transaction.memory.workers,
            transaction.memory.relays,
            attempt_id,
        ),
        Outcome.HANDED_BACK,
        ReportItem(attempt_id, error=error),
    )


def _taken_away(
    unit: Unit, plans: Plans, workers: Workers, relays: Relays, attempt_id: int
) -> AttemptRow:
    """Return an attempt that its worker lost, after taking the legs behind it, too."""
    attempt = unit.attempts.need(attempt_id)
    relay_steps.drop_behind(unit, plans, workers, relays, unit.steps.need(attempt.step))
    return attempt


def take_item(transaction: Transaction, worker: str, item: ReportItem) -> str | None:
    """Take in one item; why it is refused, or None."""
    attempt = transaction.unit.attempts.get(item.attempt)
    if attempt is None and segment_records.worker_of(transaction.unit, item.attempt) == worker:
        return None  # it is done, and said again
    if attempt is None and item.outcome in NEVER_BEGUN:
        return None  # a leg that was given back, and said again
    if attempt is None or attempt.worker != worker:
        return "this worker was never given that attempt"
    # A report is sent again until its answer arrives, so the same end may come twice.
    if attempt.outcome is not None:
        if attempt.outcome in _FENCED and item.outcome != attempt.outcome:
            return f"the attempt was {_FENCED[attempt.outcome]}; its step may be running elsewhere"
        return None  # said again, because the answer was lost: no news, and no mistake
    called = item.begun_ago is not None or item.outcome in CALLED
    if called and attempt.begun_at is None:
        _begin(transaction, attempt, item)
    # Its begin may have been recorded before, without the process.
    if attempt.begun_at is not None and attempt.pid is None:
        attempt.pid = item.pid
        transaction.unit.attempts.touch(attempt)
    if item.outcome is not None:
        end_attempt(transaction, attempt, Outcome(item.outcome), item)
    return None


def _begin(transaction: Transaction, attempt: AttemptRow, item: ReportItem) -> None:
    step = transaction.unit.steps.need(attempt.step)
    attempt.begun_at = max(
        attempt.handed_at, transaction.time.now - micros_of(item.begun_ago or item.ended_ago)
    )
    transaction.memory.attempts.unbegun.pop(attempt.id, None)
    transaction.unit.attempts.touch(attempt)
    transaction.moves.step(step, StepEvent.BEGIN)
    item_began(transaction.unit, step.item_part, attempt.begun_at)
    transaction.counts.tally.begin(max(0, attempt.begun_at - attempt.ready_at) / 1_000_000)
    if step.started_at is None:
        step.started_at = attempt.begun_at
        transaction.unit.steps.touch(step)
    watch(transaction, attempt, step)
    if attempt.pool:
        transaction.memory.pools.need(base_of(attempt.pool)).count_begun(transaction.time.mono)
    run = transaction.unit.run(step.run)
    if run.state == RunState.QUEUED:
        transaction.moves.run(run, RunEvent.BEGIN)
    if run.started_at is None:
        run.started_at = attempt.begun_at
        transaction.unit.runs.touch(run)


def watch(transaction: Transaction, attempt: AttemptRow, step: StepRow) -> None:
    """An attempt has begun: its pool's rate counts from then, and its time-out."""
    assert attempt.begun_at is not None
    begun = transaction.time.mono_of(attempt.begun_at)
    if attempt.pool:
        transaction.memory.pools.limiter(attempt.pool).begin(attempt.id, begun)
        transaction.memory.queue.lanes.reopen(attempt.pool)
    rules = transaction.plans.of(transaction.unit.run(step.run)).nodes[step.node].rules
    ends = []
    if rules.timeout is not None:
        lead = hears_before(transaction.memory.workers, attempt, step, rules.timeout)
        ends.append((begun + rules.timeout - lead, StopReason.TIMEOUT))
    if rules.deadline is not None and step.deadline_at is not None:
        lead = hears_before(transaction.memory.workers, attempt, step, rules.deadline)
        ends.append((transaction.time.mono_of(step.deadline_at) - lead, StopReason.DEADLINE))
    if rules.quiet_for is not None:
        # After a restart of the service it has all that time again: what it said is not known.
        transaction.memory.attempts.heard[attempt.id] = transaction.time.mono
        transaction.memory.timers.set(QUIET_DUE, transaction.time.mono + rules.quiet_for)
    if ends:
        transaction.memory.attempts.timeouts[attempt.id] = min(ends)
        transaction.memory.timers.set(TIMEOUT_DUE, min(ends)[0])
