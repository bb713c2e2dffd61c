"""How parts begin, and hear of what ended in them: with `ending` the rules of composition.

A part is *decided* when everything of its plan in it is: its outcome stands then, and the part
around it hears of it. It is *settled*, and its state changes, when its follow-ups have ended too:
only then the next part of a sequence begins. What happens to a child is put on an agenda, of
which the newest is worked off first, so that nothing depends on how long a plan is. Nothing here
looks at more rows than the part's depth, but for the moment in which a part is closed.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from yarnloom.engine.compact import granted_items, relay_steps
from yarnloom.engine.composition.endings import Ending
from yarnloom.engine.dispatch.worker_orders import (
    post_stop,
)
from yarnloom.engine.parts.create_rows import add_part, add_step, begin_again
from yarnloom.engine.parts.inputs import Fate, is_allowed, prepare_step, text_of
from yarnloom.engine.parts.item_matching import match_items, next_that_waits
from yarnloom.engine.parts.items import FILL_DUE, item_value, read_source, window
from yarnloom.engine.parts.list_values import ItemFault
from yarnloom.engine.parts.outcomes import drop_rest
from yarnloom.engine.parts.rerun_scope import has_ended
from yarnloom.engine.parts.work_queue import (
    CANCELLED,
    NOT_REACHED,
    STOPPED,
    Bar,
    Branches,
    Freed,
    Items,
    News,
)
from yarnloom.engine.rules.states import (
    PART_TABLE,
    Entry,
    PartState,
    SkipReason,
    StepEvent,
    StepState,
    StopReason,
    next_state,
)
from yarnloom.engine.state.grants import (
    Straight,
)
from yarnloom.engine.state.progress import list_read
from yarnloom.engine.state.transitions import move_step
from yarnloom.plan import ON_FAILURE, Kind, Node
from yarnloom.store import PartRow, StepRow

MADE_IN_A_TURN = 1_000


class Weave(Ending):
    """One run's parts, as they begin and end within a transaction."""

    # What happens to a run

    def begin(self) -> PartRow:
        """Begin the plan, unless the run has to wait for others; its root part."""
        root = add_part(self.transaction, self.run, self.plan.nodes[0], None)
        if self.run.entered == Entry.ENTERED:
            self.enter(root)
        return root

    def root(self) -> PartRow:
        """The root part, which a run has before its time only when it is needed."""
        found = self.transaction.unit.parts.one("run = ? AND parent IS NULL", self.run.number)
        return found or add_part(self.transaction, self.run, self.plan.nodes[0], None)

    def refuse(self, type_: str, message: str) -> None:
        """Fail a run that cannot begin; its root part."""
        self._fail_part(self.root(), ItemFault(message, type_))

    def enter(self, root: PartRow) -> None:
        """Begin what is in the plan."""
        self._open_inner(root)
        self._work_off()

    def step_ended(self, step: StepRow) -> None:
        """A step has ended: what follows from it."""
        self._step_ended(step)
        self._work_off()

    def go_on(self, each: PartRow) -> None:
        """Make more items of an each that was left for later."""
        if each.state != PartState.WAITING:
            self._fill_again([each])
        self._work_off()

    def cancel(self, why: StopReason = StopReason.CANCEL) -> None:
        """Cancel what has not begun, and tell what runs to stop.

        The second time what follows is stopped too.
        """
        withdrawn = granted_items.withdraw_of_run(self.transaction, self.run.number)
        relay_steps.call_back(self.transaction, self.run.number)
        if self.run.entered != Entry.ENTERED:
            root = self.root()
            drop_rest(self.transaction, root, CANCELLED)
            self._decide_if_over(root)
        for step in self.transaction.unit.steps.select(
            "run = ? AND ended_at IS NULL ORDER BY rank", self.run.number
        ):
            spared = self.plan.nodes[step.node].in_follow_up and self.run.cancels < 2
            if step.ended_at is None and not spared:
                self._stop_step(step, StepEvent.CANCEL, why)
        self._fill_again(withdrawn)
        self._work_off()

    def _fill_again(self, eaches: Iterable[PartRow]) -> None:
        """Make the next items of eaches that go on; the others end, if nothing of them runs."""
        for each in eaches:
            if each.outcome is not None:
                continue
            if (bar := self._bar(each)) is not None:
                drop_rest(self.transaction, each, bar)
            else:
                self._fill(each)
            self._decide_if_over(each)

    def items_ended(self, straight: Straight, ends: granted_items.Ends) -> None:
        """Items without rows have ended well."""
        each = granted_items.end(self.transaction, self.run, straight, ends)
        if each.outcome is None and self._bar(each) is None:
            self._fill(each)
        self._decide_if_over(each)
        self._work_off()

    def make_plain(self) -> None:
        """Give rows to every open item of the run, and create the next items with rows."""
        for each in granted_items.withdraw_of_run(self.transaction, self.run.number):
            self.fill_plainly(each)

    def fill_plainly(self, each: PartRow) -> None:
        """Make the next items of an each with rows."""
        if each.outcome is None and self._bar(each) is None:
            self._fill(each, plain=True)
        self._work_off()

    def is_barred(self, part: PartRow) -> bool:
        """Whether nothing more begins in a part."""
        return self._bar(part) is not None

    def ready_again(self, step: StepRow) -> None:
        """A step's attempt came to nothing: it runs again, unless nothing more begins there."""
        bar = self._bar(self.transaction.unit.parts.need(step.part))
        if bar is not None:
            cancelled = bar.state is StepState.CANCELLED
            self._stop_step(step, StepEvent.CANCEL if cancelled else StepEvent.SKIP, None)
        self._work_off()

    def fell_asleep(self, step: StepRow) -> None:
        """A step backs off: eaches around it may make more items meanwhile."""
        item = step.inside
        while item is not None:
            each = self.transaction.around(self.transaction.unit.parts.need(item))
            if each.outcome is None and self._bar(each) is None:
                self._fill(each)
            item = each.inside
        self._work_off()

    def end_by_hand(self, step: StepRow, fate: Fate) -> None:
        """A step ends as someone decided, that nobody runs."""
        self._meet_fate(step, fate)
        self._work_off()

    def go_on_with(self, node: Node, around: PartRow) -> None:
        """Something in a part that goes on was renewed: it begins as soon as there is room."""
        if self.plan.nodes[around.node].kind is Kind.EACH:
            self._fill(around)
        else:
            self._open(node, around)
        self._work_off()

    def follow_up_again(self, follow_up: PartRow) -> None:
        """Begin a follow-up that was renewed alone, in a run that has ended.

        What it follows is open again, up to the run, until it has ended: outcomes stand.
        """
        part: PartRow | None = follow_up
        while part is not None and part.parent is not None:
            around = self.transaction.around(part)
            around.following += 1
            around.state = next_state(PART_TABLE, around.state, StepEvent.REOPEN, "part")
            around.ended_at = None
            self.transaction.unit.parts.touch(around)
            part = around
        node = self.plan.nodes[follow_up.node]
        self._open_inner(begin_again(self.transaction, follow_up, node))
        self._work_off()

    def begin_round(self, root: PartRow) -> None:
        """Begin what was renewed in an ended run."""
        self._open_inner(begin_again(self.transaction, root, self.plan.nodes[0]))
        self._work_off()

    def read(self, each: PartRow, count: int) -> None:
        """The list of an each was looked through: its items may be made."""
        self._take_in(each, count)
        self.go_on(each)

    def fail_each(self, each: PartRow, fault: ItemFault) -> None:
        """The list of an each cannot be used."""
        self._fail_part(each, fault)
        self._work_off()

    def gathered(self, each: PartRow) -> None:
        """What an each gives was put together."""
        self._decide_if_over(each)
        self._work_off()

    def fail_step(self, step: StepRow, error: dict[str, Any]) -> None:
        """A step fails that nobody runs."""
        step.error = _dump(error)
        self._end_step(step, StepEvent.FAIL)
        self._work_off()

    # The agenda

    def _work_off(self) -> None:
        self.transaction.changes.runs.add(self.run.number)
        while self.agenda:
            match self.agenda.pop():
                case News() as news:
                    self._hear(news)
                case Branches(part, position):
                    self._open_branch(part, position)
                case Freed(part, branch):
                    self._open_freed(part, branch)
                case Items(part, size):
                    self._make_item(part, size)

    def _hear(self, news: News) -> None:
        """A part goes on, or is decided, or settles, with the child that ended."""
        part, node = news.part, self.plan.nodes[news.part.node]
        if part.outcome is None:
            bar, child, opened = self._bar(part), news.child, False
            if node.kind is Kind.SEQUENCE and not news.ended.gave:
                cut = news.ended.reason == SkipReason.STOPPED
                bar = bar or (STOPPED if cut else NOT_REACHED)
            elif (
                self.transaction.memory.relays.places
                and node.kind is Kind.SEQUENCE
                and news.settled
            ):
                child, opened = self._follow_relay(part, node, child, bar)
            if bar is not None:
                drop_rest(self.transaction, part, bar)
            elif news.settled and not opened:
                self._go_on_behind(part, node, child)
            self._decide_if_over(part)
        if part.outcome is not None and part.ended_at is None and not part.following:
            self._follow_up(part, ON_FAILURE)

    def _follow_relay(
        self, part: PartRow, node: Node, child: Node, bar: Bar | None
    ) -> tuple[Node, bool]:
        """Take in what a worker did behind a step of a sequence, or may do.

        Returns:
            The last step that is done; whether the one behind it was handed out.
        """
        if ended := relay_steps.take_ended(self.transaction, part, child.position + 1):
            relay_steps.keep(self.transaction, self.resolver, part, ended)
            child = self.plan.nodes[ended[-1][0].node]
        leg = self.transaction.memory.relays.places.get((part.id, child.position + 1))
        step = leg and relay_steps.open_as_handed(self.transaction, self.resolver, part, leg)
        if step and bar is CANCELLED:
            post_stop(self.transaction, step, StopReason.CANCEL, now=self.without_grace)
        return child, step is not None

    def _go_on_behind(self, part: PartRow, node: Node, child: Node) -> None:
        """Open what waited for a child of a part."""
        match node.kind:
            case Kind.SEQUENCE:
                self._open_next(part, node, child.position + 1)
            case Kind.PARALLEL:
                branches = [self.plan.nodes[index] for index in child.awaited_by]
                if part.closed is None:
                    free = [branch for branch in branches if self._is_free(part, branch)]
                    self.agenda += [Freed(part, branch) for branch in reversed(free)]
            case Kind.EACH:
                self._fill(part)

    def _is_free(self, part: PartRow, branch: Node) -> bool:
        """Whether everything that a branch reads has settled.

        How many of them have is remembered: it only rises, so each is looked at once. Once free it
        is one more than there are, so that a branch is free once.
        """
        known = self.transaction.memory.parts.passed
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
        step = self.transaction.unit.steps.one("part = ? AND node = ?", part.id, child.index)
        if step is None or not has_ended(step):
            return False
        rows = (self._row(part, index) for index in child.follow_ups.values())
        return all(row is None or has_ended(row) or _waits(row) for row in rows)

    def _row(self, part: PartRow, node: int) -> PartRow | None:
        return self.transaction.unit.parts.one(
            "parent = ? AND node = ? AND item = 0", part.id, node
        )

    # Beginning

    def _open(self, node: Node, around: PartRow) -> None:
        """Begin a part: nothing that it waits for is missing any more."""
        if node.kind is Kind.STEP:
            self._open_step(node, around)
            return
        part = add_part(self.transaction, self.run, node, around)
        if self.resolver.gap(node, around):
            self._skip_part(part, SkipReason.NOT_REACHED)
        else:
            self._open_inner(part)

    def _open_inner(self, part: PartRow) -> None:
        """Begin what is in a part, if its condition allows."""
        node = self.plan.nodes[part.node]
        try:
            allowed = is_allowed(self.resolver, node, part)
        except ItemFault as fault:
            self._fail_part(part, fault)
            return
        if not allowed:
            self._skip_part(part, SkipReason.ONLY_IF)
            return
        match node.kind:
            case Kind.SEQUENCE:
                self._open_next(part, node, 0)
                if self.run.renewed:
                    self._decide_if_over(part)
            case Kind.PARALLEL:
                self.agenda.append(Branches(part))
            case Kind.EACH:
                self._open_each(node, part)

    def _open_next(self, part: PartRow, node: Node, position: int) -> None:
        """Begin the next part of a sequence; what a mend kept is passed over."""
        for index in node.children[position:]:
            if self._open_unless_kept(self.plan.nodes[index], part):
                return

    def _open_unless_kept(self, child: Node, part: PartRow) -> bool:
        """Begin a child of a part, unless it has ended in an earlier round."""
        kept = self.run.renewed and self.resolver.child(part, child).state != StepState.WAITING
        if not kept:
            self._open(child, part)
        return not kept

    def _open_branch(self, part: PartRow, position: int) -> None:
        """Begin a branch; what follows from it comes before the next one."""
        children = self.plan.nodes[part.node].children
        if position + 1 < len(children):
            self.agenda.append(Branches(part, position + 1))
        branch = self.plan.nodes[children[position]]
        if part.rest_state is not None:
            return
        if not branch.waits_for or (self.run.renewed and self._is_free(part, branch)):
            self._open_unless_kept(branch, part)
            if self.run.renewed:
                self._decide_if_over(part)

    def _open_freed(self, part: PartRow, branch: Node) -> None:
        """Begin a branch that waited for others, unless nothing more begins beside it."""
        if part.rest_state is None:
            self._open_unless_kept(branch, part)
            if self.run.renewed:
                self._decide_if_over(part)

    def _open_step(self, node: Node, around: PartRow) -> None:
        prepared = prepare_step(self.resolver, node, around)
        step = add_step(self.transaction, self.run, node, around, prepared)
        if prepared.fate is not None:
            self._meet_fate(step, prepared.fate)
        elif prepared.error is not None:
            self._end_step(step, StepEvent.FAIL)
        elif prepared.skip is not None:
            self._end_step(step, StepEvent.SKIP)
        else:
            move_step(self.transaction, step, StepEvent.OPEN)

    def _meet_fate(self, step: StepRow, fate: Fate) -> None:
        """A step that nobody runs ends as someone decided by hand."""
        step.error = step.skip_reason = None
        match fate.kind:
            case "skip":
                step.skip_reason = SkipReason.BY_HAND
                self._end_step(step, StepEvent.SKIP)
            case "supply":
                step.output, step.supplied = fate.output, 1
                self._end_step(step, StepEvent.SUPPLY)
            case _:
                step.error = _dump({"type": "Cancelled", "message": fate.why})
                self._end_step(step, StepEvent.CANCEL)

    # Eaches

    def _open_each(self, node: Node, part: PartRow) -> None:
        assert node.each is not None
        try:
            text = text_of(self.resolver, node.each.over, part)
            if self.run.renewed and match_items(self.transaction, self.run, part, node, text):
                self._fill(part)
                self._decide_if_over(part)
                return
            count = read_source(self.transaction, part, node.each, text)
        except ItemFault as fault:
            self._fail_part(part, fault)
            return
        if count is None:
            self._skip_part(part, SkipReason.ONLY_IF)
            return
        self._take_in(part, count)
        self._fill(part)
        self._decide_if_over(part)

    def _take_in(self, each: PartRow, values: int) -> None:
        facts = self.plan.nodes[each.node].each
        assert facts is not None
        list_read(self.transaction, each, values, facts.batch)

    def _fill(self, part: PartRow, *, plain: bool = False) -> None:
        """See to it that as many items of an each are under way as may be.

        Args:
            part: the each.
            plain: whether they are to have rows from the start.
        """
        node = self.plan.nodes[part.node]
        assert node.each is not None
        limits = window(self.transaction, node.each)
        if not plain and granted_items.offer(
            self.transaction, self.run, part, limits, barred=self._bar(part) is not None
        ):
            return
        awake = part.begun - limits.passes_over * part.asleep
        if (
            (part.unmade or part.again)
            and awake <= limits.refill_at
            and part.id not in self.filling
        ):
            self.filling.add(part.id)
            self.agenda.append(Items(part, limits.size))

    def _make_item(self, part: PartRow, size: int) -> None:
        """Make the next item; what follows from it comes before the one behind it."""
        node = self.plan.nodes[part.node]
        assert node.each is not None
        under_way = part.begun + part.following
        if node.each.at_once is None:
            under_way -= part.asleep
        left = part.unmade + part.again
        if not left or part.rest_state is not None or under_way >= size:
            self.filling.discard(part.id)
            return
        if self.transaction.composing.made >= MADE_IN_A_TURN:
            # A list of which nearly all is skipped must not hold up everybody else.
            self.transaction.memory.timers.add(self.transaction.mono, FILL_DUE, str(part.id))
            return
        self.agenda.append(Items(part, size))
        do = self.plan.nodes[node.children[0]]
        if part.again and (item := next_that_waits(self.transaction, part)) is not None:
            part.again -= 1
            self.transaction.composing.made += 1
            self._open_inner(begin_again(self.transaction, item, do))
            return
        index = part.total - part.unmade
        value, name = item_value(self.transaction, part, node.each, index)
        part.unmade -= 1
        self.transaction.composing.made += 1
        self._open_inner(add_part(self.transaction, self.run, do, part, index, value, name))


def _waits(row: PartRow) -> bool:
    return row.state == PartState.WAITING


def _dump(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)
