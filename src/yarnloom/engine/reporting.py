"""What workers tell of their attempts, and what follows from it.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing.
"""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import Report, Reported, ReportItem
from yarnloom.engine.handing_out import take_back
from yarnloom.engine.states import Outcome, RunEvent, RunState, StepEvent, StopReason
from yarnloom.engine.turn import Turn
from yarnloom.engine.weaving import Weave
from yarnloom.errors import ValueRefused
from yarnloom.store import AttemptRow, StepRow
from yarnloom.values import encode


def report(turn: Turn, command: Report) -> Reported:
    """Take in everything that a worker reports; each item stands alone."""
    answer = Reported()
    for item in command.items:
        if why := _take(turn, command.worker, item):
            answer.refused.append({"attempt": item.attempt, "why": why})
    return answer


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
    run = turn.run(step.run)
    if run.state == RunState.QUEUED:
        turn.move_run(run, RunEvent.BEGIN)
    if run.started_at is None:
        run.started_at = attempt.begun_at
        turn.unit.runs.touch(run)


def _end(turn: Turn, attempt: AttemptRow, outcome: Outcome, item: ReportItem) -> None:
    step = turn.unit.steps.need(attempt.step)
    output, outcome, error = _checked(outcome, item)
    attempt.outcome = outcome
    attempt.ended_at = max(
        attempt.begun_at or attempt.handed_at, turn.now - _micros(item.ended_ago)
    )
    attempt.error = json.dumps(error) if error else None
    attempt.cpu = None if item.cpu is None else _micros(item.cpu)
    attempt.memory = item.memory
    turn.unit.attempts.touch(attempt)
    asked = step.stop
    if outcome is Outcome.FAILED:
        step.tries += 1
    if outcome is Outcome.LOST:
        step.losses += 1
    event = _event(turn, step, outcome, asked)
    if event is StepEvent.FINISH:
        step.output = output
    if event is StepEvent.FAIL:
        step.error = json.dumps(_final_error(turn, step, outcome, error or {}))
    take_back(turn, step, attempt)
    turn.move_step(step, event, closing=True)
    if event is not StepEvent.TRY_AGAIN:
        step.ended_at = attempt.ended_at
        Weave(turn, turn.run(step.run)).step_ended(step)


def _event(turn: Turn, step: StepRow, outcome: Outcome, asked: str | None) -> StepEvent:
    """What the end of an attempt means for its step."""
    if outcome is Outcome.DONE:
        return StepEvent.FINISH  # what came within the grace is kept
    if asked == StopReason.CANCEL:
        return StepEvent.CANCEL
    if outcome is Outcome.LOST and step.losses <= turn.settings.losses:
        return StepEvent.TRY_AGAIN
    if outcome in (Outcome.HANDED_BACK, Outcome.CANCELLED):
        # Nobody asked this step to stop, so a worker that stopped it has merely handed it back.
        return StepEvent.TRY_AGAIN
    return StepEvent.FAIL


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
    turn: Turn, step: StepRow, outcome: Outcome, error: dict[str, Any]
) -> dict[str, Any]:
    if outcome is not Outcome.LOST:
        return error
    message = (
        f"lost {step.losses} times, at most {turn.settings.losses} are borne; "
        f"the last time: {error.get('message', '')}"
    )
    return {**error, "message": message}


def _micros(seconds: float) -> int:
    return round(seconds * 1_000_000)
