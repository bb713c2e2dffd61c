"""Telling runs to stop."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import CancelRun
from yarnloom.engine.starting import present
from yarnloom.engine.states import RunEvent, StopReason
from yarnloom.engine.turn import Turn
from yarnloom.engine.weaving import Weave
from yarnloom.store import writing as store


def cancel_run(turn: Turn, command: CancelRun) -> dict[str, Any]:
    """Cancel what has not begun, and tell what runs to stop.

    A run of which nothing is in a worker's hand and that has no `on_end` has ended when this
    returns. Follow-ups still run; a second cancel stops them too.

    Raises:
        NotFound: there is no such run.
        IllegalTransition: the run has ended.
    """
    run = turn.run(command.run)
    turn.move_run(run, RunEvent.CANCEL)
    store.log_command(turn.unit, turn.now, command.who, "cancel", run.number, command.reason)
    run.cancels += 1
    if run.stop is None:
        run.stop = StopReason.CANCEL
        message = f"cancelled by {command.who}" + (f": {command.reason}" if command.reason else "")
        run.error = json.dumps({"type": "Cancelled", "message": message})
    if run.cancels <= 2:
        Weave(turn, run).cancel()
    return present(turn, run)
