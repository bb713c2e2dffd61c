"""Changing a run that has not begun: when it is to begin, its priority, its tags."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import ChangeRun
from yarnloom.engine.starting import open_run
from yarnloom.engine.states import Entry, RunEvent, RunState
from yarnloom.engine.turn import Turn
from yarnloom.engine.viewing import present
from yarnloom.engine.views import moment
from yarnloom.errors import Conflict, InvalidInput, Problem
from yarnloom.store import RunRow, ledger
from yarnloom.store import writing as store


def change_run(turn: Turn, command: ChangeRun) -> dict[str, Any]:
    """Change a run that is scheduled or queued; what is None stays. The answer is the run.

    Raises:
        NotFound: there is no such run.
        Conflict: it has begun, or ended; or it is to be moved, and waits in its queue already.
        InvalidInput: it could never begin.
    """
    run = turn.run(command.run)
    if run.state not in (RunState.SCHEDULED, RunState.QUEUED):
        why = f"run {run.number} is {run.state}; only one that has not begun can be changed"
        raise Conflict(why, state=str(run.state))
    at = command.start_at
    if command.start_in is not None:
        at = turn.now + round(command.start_in * 1_000_000)
    after_a_while = command.start_in is not None
    ahead = at is not None and at > (turn.now if after_a_while else turn.wall)
    if at is not None and ahead:
        _refuse_wrong_time(run, at)
    detail = {"priority": command.priority, "tags": command.tags, "start_at": moment(at)}
    given = {name: value for name, value in detail.items() if value is not None}
    store.log_command(
        turn.unit, turn.now, command.who, "change", run.number, command.reason, **given
    )
    if command.priority is not None:
        _prefer(turn, run, command.priority)
    if command.tags is not None:
        turn.unit.runs.rewrite(run, tags=json.dumps(command.tags))
    if at is not None and run.entered == Entry.AHEAD:  # else it begins as soon as there is room
        turn.unit.runs.rewrite(run, start_at=at, after_a_while=int(after_a_while))
        _move(turn, run, ahead=ahead)
    turn.changed.add(run.number)
    return present(turn, run)


def _refuse_wrong_time(run: RunRow, at: int) -> None:
    if run.entered != Entry.AHEAD:
        raise Conflict(
            f"run {run.number} is queued: it begins as soon as there is room, and cannot be moved "
            "any more; `pause` holds it",
            state=str(run.state),
        )
    if run.start_by is not None and run.start_by < at:
        text = f"found {moment(at)}, which is behind {moment(run.start_by)}, its start_by"
        raise InvalidInput("the run could never begin", problems=[Problem("/start_at", text)])


def _prefer(turn: Turn, run: RunRow, priority: int) -> None:
    """Give a run another priority, and its steps that have none of their own."""
    run.priority = priority
    turn.unit.runs.touch(run)
    plan = turn.plan(run)
    for step in turn.unit.steps.select("run = ? AND ended_at IS NULL", run.number):
        node, around = plan.nodes[step.node], turn.unit.parts.need(step.part)
        address = turn.address(run, node, around).partition("/")[2]
        by_hand = ledger.hand_of(turn.unit, run.number, address) if run.hands else {}
        if node.rules.priority is not None or "priority" in by_hand:
            continue
        free = turn.free_to_start(step)
        if free:
            turn.take_out_of_lane(step)
        step.priority = priority
        turn.unit.steps.touch(step)
        if free:
            turn.put_in_lane(step)


def _move(turn: Turn, run: RunRow, *, ahead: bool) -> None:
    """Let a run begin at its start time, or now."""
    if ahead:
        turn.move_run(run, RunEvent.MOVE)
        turn.remind_of_start(run)
    else:
        open_run(turn, run)
