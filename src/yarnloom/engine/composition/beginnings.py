"""How parts begin: conditions, steps, the next of a sequence, branches, the items of an each."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from yarnloom.engine.composition.endings import ComposedRun, Endings
from yarnloom.engine.part_contents.conditions import equal
from yarnloom.engine.part_contents.fates import Fate
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.inputs import is_allowed, prepare_step, text_of
from yarnloom.engine.part_contents.item_matching import next_that_waits
from yarnloom.engine.part_contents.items import FILL_DUE
from yarnloom.engine.part_contents.pending import GONE, NOT_CHOSEN, BeginBranches, CreateItems
from yarnloom.engine.part_contents.renewals import has_ended
from yarnloom.engine.records.errors import error_text
from yarnloom.engine.rules.states import PartState, SkipReason, StepEvent, StepState
from yarnloom.engine.state.progress import list_read
from yarnloom.engine.state.transitions import count_child
from yarnloom.plan import ChoiceFacts, Kind, Node
from yarnloom.plan.schemas import show
from yarnloom.store import PartRow, StepRow
from yarnloom.values import decode

MADE_AT_ONCE = 1_000
"""Items that one transaction makes at most."""


class EachItems:
    """The items of the eaches of one run.

    Args:
        of: the run.
        endings: how parts end.
        begin_part: begins what is in a part: here, in an item.
    """

    def __init__(
        self, of: ComposedRun, endings: Endings, begin_part: Callable[[PartRow], None]
    ) -> None:
        self.of = of
        self.needs, self.run, self.plan = of.needs, of.run, of.plan
        self.resolver, self.queue = of.resolver, of.queue
        self.endings = endings
        self._begin_part = begin_part
        self.filling: set[int] = set()

    def begin_each(self, node: Node, part: PartRow) -> None:
        """Read the list of an each, and make its first items."""
        assert node.each is not None
        try:
            text = text_of(self.resolver, node.each.over, part)
            if self.run.renewed and self.needs.item_matching.match_items(
                self.run, part, node, text
            ):
                self.fill(part)
                self.endings.decide_if_over(part)
                return
            count = self.needs.items.read_source(part, node.each, text)
        except ItemFault as fault:
            self.endings.fail_part(part, fault)
            return
        if count is None:
            self.endings.skip_part(part, SkipReason.ONLY_IF)
            return
        self.take_in(part, count)
        self.fill(part)
        self.endings.decide_if_over(part)

    def take_in(self, each: PartRow, values: int) -> None:
        """Note how many values the list of an each has."""
        facts = self.plan.nodes[each.node].each
        assert facts is not None
        list_read(self.needs.unit, each, values, facts.batch)

    def fill(self, part: PartRow, *, plain: bool = False) -> None:
        """See to it that as many items of an each are under way as may be.

        Args:
            part: the each.
            plain: whether they are to have rows from the start.
        """
        node = self.plan.nodes[part.node]
        assert node.each is not None
        limits = self.needs.items.window(node.each)
        if not plain and self.needs.granted_items.offer(
            self.run, part, limits, barred=self.endings.blocked(part) is not None
        ):
            return
        awake = part.begun - limits.passes_over * part.sleeping_children
        if (
            (part.unmade or part.items_to_rerun)
            and awake <= limits.refill_at
            and part.id not in self.filling
        ):
            self.filling.add(part.id)
            self.queue.append(CreateItems(part, limits.size))

    def make_item(self, part: PartRow, size: int) -> None:
        """Make the next item; what follows from it comes before the one behind it."""
        node = self.plan.nodes[part.node]
        assert node.each is not None
        under_way = part.begun + part.following
        if node.each.at_once is None:
            under_way -= part.sleeping_children
        left = part.unmade + part.items_to_rerun
        if not left or part.rest_state is not None or under_way >= size:
            self.filling.discard(part.id)
            return
        if self.needs.composing.made >= MADE_AT_ONCE:
            # A list of which nearly all is skipped must not hold up everybody else.
            self.needs.timers.add(self.needs.time.mono, FILL_DUE, str(part.id))
            return
        self.queue.append(CreateItems(part, size))
        do = self.plan.nodes[node.children[0]]
        if part.items_to_rerun and (item := next_that_waits(self.needs.unit, part)) is not None:
            part.items_to_rerun -= 1
            self.needs.composing.made += 1
            self._begin_part(self.needs.new_rows.begin_again(item, do))
            return
        index = part.total - part.unmade
        value, name = self.needs.items.item_value(part, node.each, index)
        part.unmade -= 1
        self.needs.composing.made += 1
        self._begin_part(self.needs.new_rows.add_part(self.run, do, part, index, value, name))

    def refill(self, eaches: Iterable[PartRow]) -> None:
        """Make the next items of eaches that go on; the others end, if nothing of them runs."""
        for each in eaches:
            if each.outcome is not None:
                continue
            if (bar := self.endings.blocked(each)) is not None:
                self.needs.outcomes.drop_rest(each, bar)
            else:
                self.fill(each)
            self.endings.decide_if_over(each)


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
            case Kind.CHOOSE:
                self._begin_choose(node, part)
            case Kind.FALLBACK:
                self._begin_fallback(node, part)

    def _begin_choose(self, node: Node, part: PartRow) -> None:
        """Begin the branch that a value chooses; the others will not."""
        assert node.choice is not None
        try:
            branch = self._branch(node, node.choice, part)
        except ItemFault as fault:
            self.endings.fail_part(part, fault)
            return
        if self.run.renewed:
            self._leave_old_branches(node, part, branch)
        self.begin_unless_kept(branch, part)
        self.needs.outcomes.drop_rest(part, NOT_CHOSEN)
        if self.run.renewed:
            self.endings.decide_if_over(part)

    def _branch(self, node: Node, choice: ChoiceFacts, part: PartRow) -> Node:
        """The branch for the value that a choose looks at.

        Raises:
            ItemFault: there is none for it.
        """
        text = text_of(self.resolver, choice.by, part)
        value = None if text is None else decode(text)
        for at, one in enumerate(choice.values):
            if equal(value, one):
                return self.plan.nodes[node.children[at]]
        if len(node.children) == len(choice.values):
            known = " or ".join(map(show, choice.values))
            raise ItemFault(f"by is {show(value)}; expected {known}")
        return self.plan.nodes[node.children[-1]]

    def _leave_old_branches(self, node: Node, part: PartRow, branch: Node) -> None:
        """Give up branches that ran in an earlier round; one that is chosen again runs anew."""
        renewal = self.needs.renewals.of(self.run)
        for index in node.children:
            row = self._row(part, index)
            if row is None:
                continue
            was_gone = row.state == PartState.SKIPPED and row.skip_reason == SkipReason.GONE
            if index == branch.index:
                if was_gone:
                    renewal.wholly(row)
            elif not was_gone:
                if row.state != PartState.WAITING:
                    renewal.wholly(row)
                self.needs.outcomes.end_part_that_waits(row, GONE)
                count_child(self.needs.unit, part.id, None, PartState.SKIPPED)

    def _begin_fallback(self, node: Node, part: PartRow) -> None:
        """Begin a part that has another one to run in its place."""
        first, instead = (self.plan.nodes[index] for index in node.children)
        if self.begin_unless_kept(first, part):
            return
        if self.resolver.child(part, first).state == StepState.FAILED:
            self.begin_unless_kept(instead, part)
        else:
            self.needs.outcomes.drop_rest(part, NOT_CHOSEN)
        self.endings.decide_if_over(part)

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
