"""How the parts of a run depend on each other: the rules of composition.

A part is *decided* when everything of its plan in it is: its outcome does not change any more, and
the part around it counts it. It is *settled*, and its state changes, when its follow-ups have ended
too: only then the next part of a sequence begins. What happens to a child is put on a work queue,
of which the newest is taken first, so that nothing depends on how long a plan is. Nothing here
looks at more rows than the part's depth, but for the moment in which a part is closed.

Decision: `docs/decisions/02-composition.md`.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from yarnloom.engine.composition.beginnings import Beginnings, EachItems
from yarnloom.engine.composition.endings import ComposedRun, CompositionNeeds, Endings
from yarnloom.engine.part_contents.fates import Fate
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.pending import (
    CANCELLED,
    NOT_CHOSEN,
    NOT_REACHED,
    STOPPED,
    BeginBranches,
    BeginFreed,
    Blocked,
    ChildChanged,
    CreateItems,
)
from yarnloom.engine.records.errors import StepError, error_text
from yarnloom.engine.rules.states import (
    PART_TABLE,
    Admission,
    PartState,
    SkipReason,
    StepEvent,
    StepState,
    StopReason,
    next_state,
)
from yarnloom.engine.state.given_items import Straight
from yarnloom.engine.without_rows import giving_items
from yarnloom.plan import ON_FAILURE, Kind, Node
from yarnloom.store import PartRow, RunRow, StepRow


class Composition:
    """One run's parts, as they begin and end within a transaction."""

    def __init__(
        self, needs: CompositionNeeds, run: RunRow, *, without_grace: bool = False
    ) -> None:
        plan = needs.plans.of(run)
        of = ComposedRun(
            needs, run, plan, needs.references.resolver(run, plan), without_grace=without_grace
        )
        self.of = of
        self.needs, self.run, self.plan = of.needs, of.run, of.plan
        self.resolver, self.queue = of.resolver, of.queue
        self.endings = Endings(of, self._begin_part, self._refill)
        self.eaches = EachItems(of, self.endings, self._begin_part)
        self.beginnings = Beginnings(of, self.endings, self.eaches.begin_each)

    def _begin_part(self, part: PartRow) -> None:
        self.beginnings.begin_inner(part)

    def _refill(self, eaches: Iterable[PartRow]) -> None:
        self.eaches.refill(eaches)

    def root(self) -> PartRow:
        """The root part, which a run has before its time only when it is needed."""
        found = self.needs.unit.parts.one("run = ? AND parent IS NULL", self.run.number)
        return found or self.needs.new_rows.add_part(self.run, self.plan.nodes[0], None)

    def refuse(self, type_: str, message: str) -> None:
        """Fail a run that cannot begin; its root part."""
        self.endings.fail_part(self.root(), ItemFault(message, type_))

    def enter(self, root: PartRow) -> None:
        """Begin what is in the plan."""
        self.beginnings.begin_inner(root)
        self._run_queue()

    def step_ended(self, step: StepRow) -> None:
        """A step has ended: what follows from it."""
        self.endings.step_ended(step)
        self._run_queue()

    def go_on(self, each: PartRow) -> None:
        """Make more items of an each that was left for later."""
        if each.state != PartState.WAITING:
            self.eaches.refill([each])
        self._run_queue()

    def cancel(self, why: StopReason = StopReason.CANCEL) -> None:
        """Cancel what has not begun, and tell what runs to stop.

        The second time what follows is stopped too.
        """
        withdrawn = self.needs.granted_items.withdraw_of_run(self.run.number)
        self.needs.relay_steps.call_back(self.run.number)
        if self.run.admission != Admission.ENTERED:
            root = self.root()
            self.needs.outcomes.drop_rest(root, CANCELLED)
            self.endings.decide_if_over(root)
        for step in self.needs.unit.steps.select(
            "run = ? AND ended_at IS NULL ORDER BY rank", self.run.number
        ):
            spared = self.plan.nodes[step.node].in_follow_up and self.run.cancels < 2
            if step.ended_at is None and not spared:
                self.endings.stop_step(step, StepEvent.CANCEL, why)
        self.eaches.refill(withdrawn)
        self._run_queue()

    def items_ended(self, straight: Straight, ends: giving_items.Ends) -> None:
        """Count items without rows that have ended well."""
        each = self.needs.granted_items.end(self.run, straight, ends)
        if each.outcome is None and self.endings.blocked(each) is None:
            self.eaches.fill(each)
        self.endings.decide_if_over(each)
        self._run_queue()

    def make_plain(self) -> None:
        """Give rows to every open item of the run, and create the next items with rows."""
        for each in self.needs.granted_items.withdraw_of_run(self.run.number):
            self.fill_plainly(each)

    def fill_plainly(self, each: PartRow) -> None:
        """Make the next items of an each with rows."""
        if each.outcome is None and self.endings.blocked(each) is None:
            self.eaches.fill(each, plain=True)
        self._run_queue()

    def is_barred(self, part: PartRow) -> bool:
        """Whether nothing more begins in a part."""
        return self.endings.blocked(part) is not None

    def ready_again(self, step: StepRow) -> None:
        """A step's attempt came to nothing: it runs again, unless nothing more begins there."""
        bar = self.endings.blocked(self.needs.unit.parts.need(step.part))
        if bar is not None:
            cancelled = bar.state is StepState.CANCELLED
            self.endings.stop_step(step, StepEvent.CANCEL if cancelled else StepEvent.SKIP, None)
        self._run_queue()

    def fell_asleep(self, step: StepRow) -> None:
        """A step backs off: eaches around it may make more items meanwhile."""
        item = step.item_part
        while item is not None:
            each = self.needs.unit.around(self.needs.unit.parts.need(item))
            if each.outcome is None and self.endings.blocked(each) is None:
                self.eaches.fill(each)
            item = each.item_part
        self._run_queue()

    def end_by_hand(self, step: StepRow, fate: Fate) -> None:
        """A step ends as someone decided, that nobody runs."""
        self.beginnings.meet_fate(step, fate)
        self._run_queue()

    def go_on_with(self, node: Node, around: PartRow) -> None:
        """Something in a part that goes on was renewed: it begins as soon as there is room."""
        if self.plan.nodes[around.node].kind is Kind.EACH:
            self.eaches.fill(around)
        else:
            self.beginnings.begin(node, around)
        self._run_queue()

    def follow_up_again(self, follow_up: PartRow) -> None:
        """Begin a follow-up that was renewed alone, in a run that has ended.

        What it follows is open again, up to the run, until it has ended: outcomes stand.
        """
        part: PartRow | None = follow_up
        while part is not None and part.parent is not None:
            around = self.needs.unit.around(part)
            around.following += 1
            around.state = next_state(PART_TABLE, around.state, StepEvent.REOPEN, "part")
            around.ended_at = None
            self.needs.unit.parts.touch(around)
            part = around
        node = self.plan.nodes[follow_up.node]
        self.beginnings.begin_inner(self.needs.new_rows.begin_again(follow_up, node))
        self._run_queue()

    def begin_round(self, root: PartRow) -> None:
        """Begin what was renewed in an ended run."""
        self.beginnings.begin_inner(self.needs.new_rows.begin_again(root, self.plan.nodes[0]))
        self._run_queue()

    def read(self, each: PartRow, count: int) -> None:
        """The list of an each was looked through: its items may be made."""
        self.eaches.take_in(each, count)
        self.go_on(each)

    def fail_each(self, each: PartRow, fault: ItemFault) -> None:
        """The list of an each cannot be used."""
        self.endings.fail_part(each, fault)
        self._run_queue()

    def gathered(self, each: PartRow) -> None:
        """What an each gives was put together."""
        self.endings.decide_if_over(each)
        self._run_queue()

    def fail_step(self, step: StepRow, error: StepError) -> None:
        """A step fails that nobody runs."""
        step.error = error_text(error)
        self.endings.end_step(step, StepEvent.FAIL)
        self._run_queue()

    def _run_queue(self) -> None:
        self.needs.changes.runs.add(self.run.number)
        while self.queue:
            match self.queue.pop():
                case ChildChanged() as news:
                    self._hear(news)
                case BeginBranches(part, position):
                    self.beginnings.begin_branch(part, position)
                case BeginFreed(part, branch):
                    self.beginnings.begin_freed(part, branch)
                case CreateItems(part, size):
                    self.eaches.make_item(part, size)

    def _hear(self, news: ChildChanged) -> None:
        """A part goes on, or is decided, or settles, with the child that ended."""
        part, node = news.part, self.plan.nodes[news.part.node]
        if part.outcome is None:
            bar, child, opened = self.endings.blocked(part), news.child, False
            if node.kind is Kind.SEQUENCE and not news.ended.gave:
                cut = news.ended.reason == SkipReason.STOPPED
                bar = bar or (STOPPED if cut else NOT_REACHED)
            elif node.kind is Kind.FALLBACK and news.ended.state != StepState.FAILED:
                bar = NOT_CHOSEN
            elif self.needs.relays.places and node.kind is Kind.SEQUENCE and news.settled:
                child, opened = self._follow_relay(part, node, child, bar)
            if bar is not None:
                self.needs.outcomes.drop_rest(part, bar)
            elif news.settled and not opened:
                self._go_on_behind(part, node, child)
            self.endings.decide_if_over(part)
        # Asked anew, not `else`: the child may just have decided the part.
        if part.outcome is not None and part.ended_at is None and not part.following:
            self.endings.begin_follow_ups(part, ON_FAILURE)

    def _follow_relay(
        self, part: PartRow, node: Node, child: Node, bar: Blocked | None
    ) -> tuple[Node, bool]:
        """Take in what a worker did behind a step of a sequence, or may do.

        Returns:
            The last step that is done; whether the one behind it was handed out.
        """
        if ended := self.needs.relay_steps.take_ended(part, child.position + 1):
            self.needs.relay_steps.keep(self.resolver, part, ended)
            child = self.plan.nodes[ended[-1][0].node]
        leg = self.needs.relays.places.get((part.id, child.position + 1))
        step = leg and self.needs.relay_steps.open_as_handed(self.resolver, part, leg)
        if step and bar is CANCELLED:
            self.needs.worker_orders.post_stop(step, StopReason.CANCEL, now=self.of.without_grace)
        return child, step is not None

    def _go_on_behind(self, part: PartRow, node: Node, child: Node) -> None:
        """Open what waited for a child of a part."""
        match node.kind:
            case Kind.SEQUENCE | Kind.FALLBACK:
                self.beginnings.begin_next(part, node, child.position + 1)
            case Kind.PARALLEL:
                branches = [self.plan.nodes[index] for index in child.awaited_by]
                if part.closed is None:
                    free = [branch for branch in branches if self.beginnings.is_free(part, branch)]
                    self.queue += [BeginFreed(part, branch) for branch in reversed(free)]
            case Kind.EACH:
                self.eaches.fill(part)


@dataclass(slots=True)
class Compositions:
    """Composes runs."""

    needs: CompositionNeeds

    def of(self, run: RunRow, *, without_grace: bool = False) -> Composition:
        """Return the parts of a run, as they begin and end."""
        return Composition(self.needs, run, without_grace=without_grace)
