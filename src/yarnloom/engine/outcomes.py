"""What becomes of a part: of what has not begun in it, at its end, and what follows it."""

from __future__ import annotations

from yarnloom.engine.agenda import CANCELLED, STOPPED, Bar
from yarnloom.engine.states import StepState, StopReason
from yarnloom.engine.turn import PASSED_OVER, Ended, Turn
from yarnloom.plan import FOLLOW_UPS, ON_FAILURE, Node, Plan
from yarnloom.store import PartRow, RunRow

STOPS = (StopReason.CANCEL, StopReason.DEADLINE)
"""Why a whole run is told to stop."""


def allowed_failures(part: PartRow, node: Node) -> int:
    """How many children of a part may fail."""
    return node.each.allowed(part.total) if node.each else 0


def outcome_of(part: PartRow, node: Node) -> StepState:
    """What becomes of a part whose children are all decided.

    What was cut short is not done, although something in it may be.
    """
    if part.failed > allowed_failures(part, node):
        return StepState.FAILED
    if part.cancelled:
        return StepState.CANCELLED
    if part.skipped and (part.skipped == part.total or part.skip_reason not in PASSED_OVER):
        return StepState.SKIPPED
    return StepState.DONE


def bar_of(turn: Turn, run: RunRow, plan: Plan, part: PartRow) -> Bar | None:
    """Why nothing more begins in a part; None where things go on.

    A follow-up is spared what happens around it, but for a second cancel.
    """
    here = part
    while True:
        if here.closed:
            return STOPPED
        if plan.nodes[here.node].follows:
            return CANCELLED if run.cancels > 1 else None
        if here.parent is None:
            return CANCELLED if run.stop in STOPS else None
        here = turn.around(here)


def drop_rest(turn: Turn, part: PartRow, bar: Bar) -> None:
    """The children of a part that never began will not."""
    left = part.total - part.over - part.begun
    if not left:
        return
    part.rest_state, part.rest_reason = bar.state, bar.reason
    if bar.state is StepState.CANCELLED:
        part.cancelled += left
    else:
        part.skipped += left
        note_skip(part, bar.reason)
    turn.unit.parts.touch(part)


def note_skip(part: PartRow, reason: str | None) -> None:
    """Remember the gravest reason for which something in a part was skipped, the first of it."""
    if part.skip_reason is None or part.skip_reason in PASSED_OVER:
        part.skip_reason = reason


def next_follow_up(run: RunRow, plan: Plan, node: Node, ended: Ended, first: str) -> Node | None:
    """The follow-up of a part or step that comes next, from one on; None if none does.

    After a cancel only `on_end` does, after a second one nothing. What was cancelled while
    nothing of its run had begun has none.
    """
    stopped = run.stop == StopReason.CANCEL and not node.in_follow_up
    if run.cancels > 1 or (ended.state == StepState.CANCELLED and run.started_at is None):
        return None
    for name in FOLLOW_UPS[FOLLOW_UPS.index(first) :]:
        fits = name != ON_FAILURE or (ended.state == StepState.FAILED and not stopped)
        if name in node.follow_ups and fits:
            return plan.nodes[node.follow_ups[name]]
    return None
