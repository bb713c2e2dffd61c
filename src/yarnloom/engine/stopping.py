"""Telling runs to stop."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import CancelRun
from yarnloom.engine.handing_out import post_stop
from yarnloom.engine.starting import present
from yarnloom.engine.states import RunEvent, StepEvent, StopReason
from yarnloom.engine.turn import Turn
from yarnloom.engine.weaving import step_ended
from yarnloom.store import writing as store


def cancel_run(turn: Turn, command: CancelRun) -> dict[str, Any]:
    """Cancel what has not begun, and tell what runs to stop.

    A run of which nothing is in a worker's hand has ended when this returns.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: the run has ended.
    """
    run = turn.run(command.run)
    turn.move_run(run, RunEvent.CANCEL)
    store.log_command(turn.unit, turn.now, command.who, "cancel", run.number, command.reason)
    if run.stop is None:
        run.stop = StopReason.CANCEL
        message = f"cancelled by {command.who}" + (f": {command.reason}" if command.reason else "")
        run.error = json.dumps({"type": "Cancelled", "message": message})
        for step in turn.unit.steps.select(
            "run = ? AND ended_at IS NULL ORDER BY rank", run.number
        ):
            if step.ended_at is None and not post_stop(turn, step, StopReason.CANCEL):
                turn.move_step(step, StepEvent.CANCEL)
                step_ended(turn, step)
    return present(turn, run)
