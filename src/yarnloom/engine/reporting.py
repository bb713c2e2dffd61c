"""What workers tell of their attempts, and what follows from it.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing.
"""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import Report, Reported, ReportItem
from yarnloom.engine.handing_out import leave_pool, take_back
from yarnloom.engine.pools import base_of
from yarnloom.engine.retrying import Tried, kinds_of, next_wait
from yarnloom.engine.states import Outcome, RunEvent, RunState, StepEvent, StopReason
from yarnloom.engine.turn import BACK_OFF_DUE, TIMEOUT_DUE, Turn
from yarnloom.engine.weaving import Weave
from yarnloom.errors import ValueRefused
from yarnloom.store import AttemptRow, StepRow
from yarnloom.units import duration_text
from yarnloom.values import encode


def report(turn: Turn, command: Report) -> Reported:
    """Take in everything that a worker reports; each item stands alone."""
    answer = Reported()
    for attempt_id in command.freed:
        free(turn, command.worker, attempt_id)
    for item in command.items:
        if why := _take(turn, command.worker, item):
            answer.refused.append({"attempt": item.attempt, "why": why})
    return answer


def free(turn: Turn, worker_id: str, attempt_id: int) -> None:
    """The process of an abandoned attempt has ended."""
    worker = turn.memory.workers.get(worker_id)
    held = worker.abandoned.pop(attempt_id, None) if worker else None
    if held is not None:
        attempt = turn.unit.attempts.need(attempt_id)
        attempt.abandoned = 0
        turn.unit.attempts.touch(attempt)
        leave_pool(turn, *held, attempt)


def lose(turn: Turn, attempt_id: int, why: str) -> None:
    """Give an attempt up as lost: its worker is gone."""
    attempt = turn.unit.attempts.need(attempt_id)
    error = {"type": "Lost", "message": why}
    _end(turn, attempt, Outcome.LOST, ReportItem(attempt_id, error=error))


def hand_back(turn: Turn, attempt_id: int) -> None:
    """A worker that leaves did not run an attempt to its end."""
    _end(turn, turn.unit.attempts.need(attempt_id), Outcome.HANDED_BACK, ReportItem(attempt_id))


def _take(turn: Turn, worker: str, item: ReportItem) -> str | None:
    """Take in one item; why it is refused, or None."""
    attempt = turn.unit.attempts.get(item.attempt)
    if attempt is None or attempt.worker != worker:
        return "this worker was never given that attempt"
    if attempt.outcome is not None:
        if attempt.outcome == Outcome.LOST and item.outcome != Outcome.LOST:
            return "the attempt was given up as lost; its step may be running elsewhere"
        return None  # said again, because the answer was lost: no news, and no mistake
    called = item.begun_ago is not None or item.outcome in (Outcome.DONE, Outcome.FAILED)
    if called and attempt.begun_at is None:
        _begin(turn, attempt, item)
    if item.outcome is not None:
        _end(turn, attempt, Outcome(item.outcome), item)
    return None


def _begin(turn: Turn, attempt: AttemptRow, item: ReportItem) -> None:
    step = turn.unit.steps.need(attempt.step)
    attempt.begun_at = max(attempt.handed_at, turn.now - _micros(item.begun_ago or item.ended_ago))
    attempt.pid = item.pid
    turn.unit.attempts.touch(attempt)
    turn.move_step(step, StepEvent.BEGIN)
    if step.started_at is None:
        step.started_at = attempt.begun_at
    watch(turn, attempt, step)
    if attempt.pool:
        turn.memory.pools.need(base_of(attempt.pool)).count_begun(turn.mono)
    run = turn.run(step.run)
    if run.state == RunState.QUEUED:
        turn.move_run(run, RunEvent.BEGIN)
    if run.started_at is None:
        run.started_at = attempt.begun_at
        turn.unit.runs.touch(run)


def watch(turn: Turn, attempt: AttemptRow, step: StepRow) -> None:
    """An attempt has begun: its pool's rate counts from then, and its time-out."""
    assert attempt.begun_at is not None
    begun = turn.mono_of(attempt.begun_at)
    if attempt.pool:
        turn.memory.pools.gate(attempt.pool).begin(attempt.id, begun)
        turn.memory.lanes.reopen(attempt.pool)
    timeout = turn.plan(turn.run(step.run)).nodes[step.node].rules.timeout
    if timeout is not None:
        turn.memory.timeouts[attempt.id] = begun + timeout
        turn.memory.arm(TIMEOUT_DUE, begun + timeout)


def _end(turn: Turn, attempt: AttemptRow, outcome: Outcome, item: ReportItem) -> None:
    step = turn.unit.steps.need(attempt.step)
    output, outcome, error = _checked(outcome, item)
    weave = Weave(turn, turn.run(step.run))
    rules = weave.plan.nodes[step.node].rules
    asked = step.stop
    if asked == StopReason.TIMEOUT and outcome is Outcome.CANCELLED:
        outcome, error = Outcome.FAILED, too_long(rules.timeout or 0.0, "timeout", "TimedOut")
    kinds = kinds_of(error or {})
    error = {name: value for name, value in (error or {}).items() if name != "kinds"}
    attempt.outcome = outcome
    attempt.ended_at = max(
        attempt.begun_at or attempt.handed_at, turn.now - _micros(item.ended_ago)
    )
    attempt.error = json.dumps(error) if error else None
    attempt.cpu = None if item.cpu is None else _micros(item.cpu)
    attempt.memory = item.memory
    attempt.abandoned = int(item.abandoned)
    turn.unit.attempts.touch(attempt)
    if outcome is Outcome.FAILED:
        step.tries += 1
    if outcome is Outcome.LOST:
        step.losses += 1
    most = turn.settings.losses if rules.losses is None else rules.losses
    late = step.deadline_at is not None and turn.now >= step.deadline_at
    event = _event(step, outcome, asked, late and asked == StopReason.DEADLINE, most)
    if event is StepEvent.BACK_OFF:
        spent = (turn.now - (step.started_at or turn.now)) / 1_000_000
        tried = Tried(step.tries, kinds, spent, item.after)
        wait, why = next_wait(rules.retry, tried, turn.settings.chance)
        if wait is None or weave.is_barred(step):
            event = StepEvent.FAIL
            error |= {"no_more_tries": why} if rules.retry is not None and why else {}
        else:
            step.due_at = turn.now + _micros(wait)
            turn.remind(BACK_OFF_DUE, step.due_at)
    if event is StepEvent.FINISH:
        step.output, step.error = output, None
    if event in (StepEvent.FAIL, StepEvent.BACK_OFF):
        if asked == StopReason.DEADLINE and late:
            error = too_long(rules.deadline or 0.0, "deadline", "DeadlinePassed")
        step.error = json.dumps(_final_error(step, outcome, error, most))
    take_back(turn, step, attempt)
    turn.move_step(step, event, closing=True)
    if event is StepEvent.TRY_AGAIN:
        weave.ready_again(step)
    elif event is StepEvent.BACK_OFF:
        weave.fell_asleep(step)
    else:
        step.ended_at = attempt.ended_at
        weave.step_ended(step)


def _event(
    step: StepRow, outcome: Outcome, asked: str | None, late: bool, losses: int
) -> StepEvent:
    """What the end of an attempt means for its step; backing off is still to be decided.

    Args:
        asked: why it was told to stop; for a deadline it may be its run's.
        late: whether its own deadline has passed.
    """
    if outcome is Outcome.DONE:
        return StepEvent.FINISH  # what came within the grace is kept
    if asked == StopReason.CANCEL or (asked == StopReason.DEADLINE and not late):
        return StepEvent.CANCEL
    if late:
        return StepEvent.FAIL
    if outcome is Outcome.LOST and step.losses <= losses:
        return StepEvent.TRY_AGAIN
    if outcome in (Outcome.HANDED_BACK, Outcome.CANCELLED):
        # Nobody asked this step to stop, so a worker that stopped it has merely handed it back.
        return StepEvent.TRY_AGAIN
    return StepEvent.BACK_OFF if outcome is Outcome.FAILED else StepEvent.FAIL


def _checked(
    outcome: Outcome, item: ReportItem
) -> tuple[str | None, Outcome, dict[str, Any] | None]:
    """The output as text; an output that is refused makes the attempt a failed one."""
    if outcome is not Outcome.DONE:
        return None, outcome, item.error
    try:
        return encode(item.output, "the output"), outcome, None
    except ValueRefused as refused:
        return None, Outcome.FAILED, {"type": "ValueRefused", "message": str(refused)}


def _final_error(
    step: StepRow, outcome: Outcome, error: dict[str, Any], losses: int
) -> dict[str, Any]:
    if outcome is not Outcome.LOST:
        return error
    if step.losses == 1:
        message = f"lost once, which its losses=0 do not bear: {error.get('message', '')}"
    else:
        message = (
            f"lost {step.losses} times, at most {losses} are borne; "
            f"the last time: {error.get('message', '')}"
        )
    return {**error, "message": message}


def too_long(limit: float, what: str, kind: str) -> dict[str, Any]:
    """What is said of a step that did not end in time."""
    return {"type": kind, "message": f"its {what} of {duration_text(limit)} has passed"}


def _micros(seconds: float) -> int:
    return round(seconds * 1_000_000)
