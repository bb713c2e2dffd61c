"""How parts begin: conditions, steps, the next of a sequence, branches of a parallel."""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.engine.composition.endings import ComposedRun, Endings
from yarnloom.engine.parts.error_text import error_text
from yarnloom.engine.parts.inputs import Fate, is_allowed, prepare_step
from yarnloom.engine.parts.list_values import ItemFault
from yarnloom.engine.parts.rerun_scope import has_ended
from yarnloom.engine.parts.work_queue import BeginBranches
from yarnloom.engine.rules.states import PartState, SkipReason, StepEvent, StepState
from yarnloom.plan import Kind, Node
from yarnloom.store import PartRow, StepRow


class Beginnings:
    """How the parts of one run begin.

    Args:
        of: the run.
        endings: how they end.
        begin_each: begins an each.
    """

    def __init__(
        self, of: ComposedRun, endings: Endings, begin_each: Callable[[Node, PartRow], None]
    ) -> None:
        self.of = of
        self.needs, self.run, self.plan = of.needs, of.run, of.plan
        self.resolver, self.queue = of.resolver, of.queue
        self.endings = endings
        self._begin_each = begin_each

    def begin(self, node: Node, around: PartRow) -> None:
        """Begin a part: nothing that it waits for is missing any more."""
        if node.kind is Kind.STEP:
            self.begin_step(node, around)
            return
        part = self.needs.new_rows.add_part(self.run, node, around)
        if self.resolver.gap(node, around):
            self.endings.skip_part(part, SkipReason.NOT_REACHED)
        else:
            self.begin_inner(part)

    def begin_inner(self, part: PartRow) -> None:
        """Begin what is in a part, if its condition allows."""
        node = self.plan.nodes[part.node]
        try:
            allowed = is_allowed(self.resolver, node, part)
        except ItemFault as fault:
            self.endings.fail_part(part, fault)
            return
        if not allowed:
            self.endings.skip_part(part, SkipReason.ONLY_IF)
            return
        match node.kind:
            case Kind.SEQUENCE:
                self.begin_next(part, node, 0)
                if self.run.renewed:
                    self.endings.decide_if_over(part)
            case Kind.PARALLEL:
                self.queue.append(BeginBranches(part))
            case Kind.EACH:
                self._begin_each(node, part)

    def begin_next(self, part: PartRow, node: Node, position: int) -> None:
        """Begin the next part of a sequence; what a mend kept is passed over."""
        for index in node.children[position:]:
            if self.begin_unless_kept(self.plan.nodes[index], part):
                return

    def begin_unless_kept(self, child: Node, part: PartRow) -> bool:
        """Begin a child of a part, unless it has ended in an earlier round."""
        kept = self.run.renewed and self.resolver.child(part, child).state != StepState.WAITING
        if not kept:
            self.begin(child, part)
        return not kept

    def begin_branch(self, part: PartRow, position: int) -> None:
        """Begin a branch; what follows from it comes before the next one."""
        children = self.plan.nodes[part.node].children
        if position + 1 < len(children):
            self.queue.append(BeginBranches(part, position + 1))
        branch = self.plan.nodes[children[position]]
        if part.rest_state is not None:
            return
        if not branch.waits_for or (self.run.renewed and self.is_free(part, branch)):
            self.begin_unless_kept(branch, part)
            if self.run.renewed:
                self.endings.decide_if_over(part)

    def begin_freed(self, part: PartRow, branch: Node) -> None:
        """Begin a branch that waited for others, unless nothing more begins beside it."""
        if part.rest_state is None:
            self.begin_unless_kept(branch, part)
            if self.run.renewed:
                self.endings.decide_if_over(part)

    def begin_step(self, node: Node, around: PartRow) -> None:
        """Make the row of a step; it is ready, or ends at once where it cannot run."""
        prepared = prepare_step(self.resolver, node, around)
        step = self.needs.new_rows.add_step(self.run, node, around, prepared)
        if prepared.fate is not None:
            self.meet_fate(step, prepared.fate)
        elif prepared.error is not None:
            self.endings.end_step(step, StepEvent.FAIL)
        elif prepared.skip is not None:
            self.endings.end_step(step, StepEvent.SKIP)
        else:
            self.needs.moves.step(step, StepEvent.OPEN)

    def meet_fate(self, step: StepRow, fate: Fate) -> None:
        """A step that nobody runs ends as someone decided by hand."""
        step.error = step.skip_reason = None
        match fate.kind:
            case "skip":
                step.skip_reason = SkipReason.BY_HAND
                self.endings.end_step(step, StepEvent.SKIP)
            case "supply":
                step.output, step.supplied = fate.output, 1
                self.endings.end_step(step, StepEvent.SUPPLY)
            case _:
                step.error = error_text({"type": "Cancelled", "message": fate.why})
                self.endings.end_step(step, StepEvent.CANCEL)

    def is_free(self, part: PartRow, branch: Node) -> bool:
        """Whether everything that a branch reads has settled.

        How many of them have is remembered: it only rises, so each is looked at once. Once free it
        is one more than there are, so that a branch is free once.
        """
        known = self.needs.parts.passed
        passed = known.get((part.id, branch.index), 0)
        while passed < len(branch.waits_for):
            child = self.plan.nodes[branch.waits_for[passed]]
            if not self._has_settled(part, child):
                break
            passed += 1
        free = passed == len(branch.waits_for)
        known[part.id, branch.index] = passed + free
        return free

    def _has_settled(self, part: PartRow, child: Node) -> bool:
        if child.kind is not Kind.STEP:
            row = self._row(part, child.index)
            return row is not None and has_ended(row)
        step = self.needs.unit.steps.one("part = ? AND node = ?", part.id, child.index)
        if step is None or not has_ended(step):
            return False
        rows = (self._row(part, index) for index in child.follow_ups.values())
        return all(row is None or has_ended(row) or _waits(row) for row in rows)

    def _row(self, part: PartRow, node: int) -> PartRow | None:
        return self.needs.unit.parts.one("parent = ? AND node = ? AND item = 0", part.id, node)


def _waits(row: PartRow) -> bool:
    return row.state == PartState.WAITING
