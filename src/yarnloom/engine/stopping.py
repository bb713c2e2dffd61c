"""Telling runs to stop: by hand, for another run, or because their deadline has passed."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import CancelRun
from yarnloom.engine.pausing import release
from yarnloom.engine.states import RunEvent, StopReason
from yarnloom.engine.turn import RUN_DEADLINE_DUE, START_BY_DUE, Turn
from yarnloom.engine.viewing import present
from yarnloom.engine.views import moment
from yarnloom.engine.weaving import Weave
from yarnloom.store import RunRow, timing
from yarnloom.store import writing as store
from yarnloom.units import duration_text

EXPIRED_AT_ONCE = 100


def cancel_run(turn: Turn, command: CancelRun) -> dict[str, Any]:
    """Cancel what has not begun, and tell what runs to stop.

    A run of which nothing is in a worker's hand and that has no `on_end` has ended when this
    returns. Follow-ups still run; a second cancel stops them too, and ends the grace of what runs.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: the run has ended.
    """
    run = turn.run(command.run)
    reason = f": {command.reason}" if command.reason else ""
    turn.move_run(run, RunEvent.CANCEL)
    store.log_command(turn.unit, turn.now, command.who, "cancel", run.number, command.reason)
    _stop(turn, run, f"cancelled by {command.who}{reason}", StopReason.CANCEL, now=command.now)
    return present(turn, run)


def stop(turn: Turn, run: RunRow, why: str) -> None:
    """Cancel a run for another's sake."""
    turn.move_run(run, RunEvent.CANCEL)
    store.log_command(turn.unit, turn.now, "service", "cancel", run.number, why)
    _stop(turn, run, why, StopReason.CANCEL)


def stop_late_runs(turn: Turn) -> None:
    """Stop runs whose deadline has passed: like a cancel, but they end failed."""
    for number in store.runs_past_deadline(turn.unit, turn.now):
        run = turn.run(number)
        root = turn.unit.parts.one("run = ? AND parent IS NULL", number)
        if root is not None and root.outcome is not None:
            run.deadline_at = None  # its plan has ended in time; follow-ups have no deadline
            turn.unit.runs.touch(run)
            continue
        limit = duration_text(turn.plan(run).deadline or 0.0)
        turn.move_run(run, RunEvent.CANCEL)
        why = f"the run's deadline of {limit} has passed"
        store.log_command(turn.unit, turn.now, "service", "deadline", run.number, why)
        _stop(turn, run, why, StopReason.DEADLINE)
    if (following := store.next_run_deadline(turn.unit)) is not None:
        turn.remind(RUN_DEADLINE_DUE, following)


def stop_late_starts(turn: Turn) -> None:
    """Cancel runs that have not begun by the time by which they were to."""
    for number in timing.runs_to_expire(turn.unit, turn.wall, EXPIRED_AT_ONCE):
        run = turn.run(number)
        turn.move_run(run, RunEvent.CANCEL)
        why = f"expired: it had not begun by {moment(run.start_by)}"
        store.log_command(turn.unit, turn.now, "service", "expire", run.number, why)
        _stop(turn, run, why, StopReason.CANCEL, "Expired")
    if (following := timing.next_to_expire(turn.unit)) is not None:
        turn.remind_by_day(START_BY_DUE, following)


def _stop(
    turn: Turn,
    run: RunRow,
    message: str,
    why: StopReason,
    kind: str = "Cancelled",
    *,
    now: bool = False,
) -> None:
    release(turn, run)
    run.cancels += 1
    if run.stop is None:
        run.stop = why
        error: dict[str, Any] = {"type": kind, "message": message}
        if why is StopReason.DEADLINE:
            task = {"step": str(run.number), "task": None, "attempts": 0}
            error = {**task, "type": "DeadlinePassed", "message": message}
        run.error = json.dumps(error, ensure_ascii=False)
    turn.unit.runs.touch(run)
    weave = Weave(turn, run)
    # A second cancel ends the grace, and a deadline cuts it.
    weave.without_grace = now or run.cancels > 1 or why is StopReason.DEADLINE
    weave.cancel(why)
