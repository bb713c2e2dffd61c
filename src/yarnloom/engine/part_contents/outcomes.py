"""What becomes of a part: of what has not begun in it, at its end, and what follows it.

Decision: `docs/decisions/02-composition.md`.
"""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.part_contents.inputs import Resolver
from yarnloom.engine.part_contents.lists import ALL
from yarnloom.engine.part_contents.pending import CANCELLED, STOPPED, Blocked
from yarnloom.engine.rules.states import PASSED_OVER, SkipReason, StepState, StopReason
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.transaction_notes import Ended
from yarnloom.plan import FOLLOW_UPS, ON_FAILURE, Kind, Node, Plan
from yarnloom.store import PartRow, RunRow, StepRow, Unit
from yarnloom.store.files import file_records
from yarnloom.store.runs import item_records
from yarnloom.values import VALUE_LIMIT, size_of

STOPS = (StopReason.CANCEL, StopReason.DEADLINE)
"""Why a whole run is told to stop."""


def allowed_failures(part: PartRow, node: Node) -> int:
    """How many children of a part may fail."""
    if node.kind is Kind.FALLBACK:  # the part itself, where the other is done in its place
        return part.total if part.done else 0
    return node.each.allowed(part.total) if node.each else 0


def failures_in(part: PartRow, *, stopped: bool) -> int:
    """How many children of a part count as failures."""
    return part.failed + (0 if stopped else part.cancelled)


def outcome_of(part: PartRow, node: Node, *, stopped: bool) -> StepState:
    """What becomes of a part whose children are all decided.

    What was cut short is not done, although something in it may be. What was cancelled by itself,
    by hand, counts as a failure; what was cancelled with everything around it does not.

    Args:
        part: the part.
        node: the part in the plan.
        stopped: whether it was stopped from outside.
    """
    if failures_in(part, stopped=stopped) > allowed_failures(part, node):
        return StepState.FAILED
    if part.cancelled and stopped:
        return StepState.CANCELLED
    if part.skipped and part.skip_reason not in PASSED_OVER:
        return StepState.SKIPPED
    if part.skipped and part.skipped == part.total and part.skip_reason != SkipReason.GONE:
        return StepState.SKIPPED
    return StepState.DONE


def bar_of(
    unit: Unit, run: RunRow, plan: Plan, part: PartRow, *, outside: bool = False
) -> Blocked | None:
    """Why nothing more begins in a part; None where things go on.

    A follow-up is spared what happens around it, but for a second cancel. With `outside` it is
    only asked whether the part was stopped from there.
    """
    here = part
    while True:
        if here.closed and not (outside and here is part):
            return STOPPED
        if plan.nodes[here.node].follows:
            return CANCELLED if run.cancels > 1 else None
        if here.parent is None:
            return CANCELLED if run.stop in STOPS else None
        here = unit.around(here)


@dataclass(slots=True)
class Outcomes:
    """Ends waiting steps and parts where their part is decided."""

    unit: Unit
    plans: Plans
    counts: Statistics

    def drop_rest(self, part: PartRow, bar: Blocked) -> None:
        """The children of a part that never began will not."""
        left = part.total - part.over - part.begun
        if not left:
            return
        if run_is_renewed(self.unit, part):
            self._end_what_waits(part, bar)
            part.items_to_rerun = 0
        part.rest_state, part.rest_reason = bar.state, bar.reason
        self.counts.eaches.left(self.plans, part)
        if bar.state is StepState.CANCELLED:
            part.cancelled += left
        else:
            part.skipped += left
            note_skip(part, bar.reason)
        self.unit.parts.touch(part)

    def _end_what_waits(self, part: PartRow, bar: Blocked) -> None:
        """What was to run again in a part, and has a row for that reason, will not."""
        row: PartRow | StepRow
        for row in self.unit.steps.select("part = ? AND state = 'waiting'", part.id):
            row.state, row.skip_reason = bar.state, bar.reason
            if bar.reason in PASSED_OVER:
                row.fraction = 1.0
            self.unit.steps.touch(row)
        for row in self.unit.parts.select("parent = ? AND state = 'waiting'", part.id):
            if self.plans.of(self.unit.run(row.run)).nodes[row.node].follows:
                continue
            self.end_part_that_waits(row, bar)

    def end_part_that_waits(self, row: PartRow, bar: Blocked) -> None:
        """A part that was to run again will not, nor will what waits in it."""
        left = row.total - row.over
        self._end_what_waits(row, bar)
        counted = "cancelled" if bar.state is StepState.CANCELLED else "skipped"
        setattr(row, counted, getattr(row, counted) + left)
        row.rest_state, row.rest_reason, row.items_to_rerun = bar.state, bar.reason, 0
        self.counts.eaches.left(self.plans, row)
        row.state = row.outcome = bar.state
        row.skip_reason = bar.reason
        if bar.reason in PASSED_OVER:
            row.fraction = 1.0
        self.unit.parts.touch(row)


def run_is_renewed(unit: Unit, part: PartRow) -> bool:
    """Whether anything of a part's run ever had to wait to run again."""
    return bool(unit.run(part.run).renewed)


def note_skip(part: PartRow, reason: str | None) -> None:
    """Remember the gravest reason for which something in a part was skipped, the first of it."""
    if part.skip_reason is None or (
        part.skip_reason in PASSED_OVER and reason != SkipReason.NOT_CHOSEN
    ):
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


def gather(
    unit: Unit, settings: EngineSettings, resolver: Resolver, part: PartRow, node: Node
) -> tuple[str | None, int]:
    """Output and size of a part that is done; no output if nobody reads it, or it is too large."""
    if not node.wanted:
        return None, 0
    children = [resolver.plan.nodes[index] for index in node.children]
    match node.kind:
        case Kind.SEQUENCE:
            last = resolver.child(part, children[-1])
            return last.output, last.size
        case Kind.PARALLEL:
            return _gather_branches(resolver, part, children)
        case Kind.CHOOSE | Kind.FALLBACK:
            known = (resolver.child(part, child) for child in children)
            ended = next(one for one in known if one.state == StepState.DONE)
            return ended.output, ended.size
    if part.total == 0:
        return "[]", 2
    if part.size > settings.list_above:
        text = file_records.gathered_list(unit, part.id, ALL)
        assert text is not None, "an each with a long list is decided when that is gathered"
        return text, size_of(text)
    text = item_records.gathered(unit, part.run, part.id, node.children[0], only_done=False)
    return text, size_of(text)


def _gather_branches(
    resolver: Resolver, part: PartRow, branches: list[Node]
) -> tuple[str | None, int]:
    fields, size = [], 2
    for branch in branches:
        ended = resolver.child(part, branch)
        size += ended.size + len(branch.label) + 4
        if size <= VALUE_LIMIT:
            fields.append(f"{json.dumps(branch.label)}:{ended.output or 'null'}")
    return ("{" + ",".join(fields) + "}", size) if size <= VALUE_LIMIT else (None, size)
