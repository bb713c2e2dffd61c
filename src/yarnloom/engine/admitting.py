"""How many runs of a workflow are under way: who enters, who waits, who makes room."""

from __future__ import annotations

from yarnloom.engine.states import RUN_ENDED, Entry
from yarnloom.engine.stopping import stop
from yarnloom.engine.turn import Turn
from yarnloom.engine.weaving import Weave
from yarnloom.plan import IfBusy, Plan
from yarnloom.store import RunRow
from yarnloom.store import writing as store


def is_busy(turn: Turn, plan: Plan) -> bool:
    """Whether as many runs of a workflow are under way as may be."""
    return plan.at_once is not None and turn.memory.under_way[plan.workflow] >= plan.at_once


def count_in(turn: Turn, run: RunRow) -> None:
    """A new run is under way, or waits."""
    turn.memory.counted(run.entered)[run.workflow] += 1


def make_room(turn: Turn, run: RunRow, plan: Plan) -> None:
    """A run came while its workflow is busy: it waits, is cancelled, or others are."""
    busy = f"{plan.at_once} of {plan.workflow} under way"
    if plan.if_busy is IfBusy.SKIP:
        stop(turn, run, f"skipped: it came with {busy}, and the workflow says if_busy='skip'")
        return
    if plan.if_busy is IfBusy.WAIT:
        return
    assert plan.at_once is not None
    others = store.runs_under_way(turn.unit, run.workflow)
    entered = [number for number, has_entered in others if has_entered]
    waiting = [number for number, has_entered in others if not has_entered]
    ending = [number for number in entered if turn.run(number).stop]
    more = len(entered) - len(ending) - plan.at_once + 1
    standing = [number for number in entered if number not in ending]
    for number in (*(one for one in waiting if one != run.number), *standing[: max(0, more)]):
        stop(turn, turn.run(number), f"replaced by run {run.number}")


def admit(turn: Turn) -> None:
    """Let runs begin that waited for others which have ended: by priority, then in order."""
    while turn.made_room:
        workflow = turn.made_room.pop()
        number = store.next_held(turn.unit, workflow)
        if number is None:
            continue
        run = turn.run(number)
        if is_busy(turn, turn.plan(run)):
            continue
        turn.made_room.add(workflow)  # there may be room for another
        turn.memory.held[workflow] -= 1
        turn.memory.under_way[workflow] += 1
        run.entered = Entry.ENTERED
        turn.unit.runs.touch(run)
        root = turn.unit.parts.one("run = ? AND parent IS NULL", number)
        assert root is not None
        assert run.state not in RUN_ENDED
        Weave(turn, run).enter(root)
