"""What becomes of a part when all in it is decided, and what follows it. Nothing here changes rows
but for the reason of a skip."""

from __future__ import annotations

from yarnloom.engine.states import StepState, StopReason
from yarnloom.engine.turn import PASSED_OVER, Ended
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
