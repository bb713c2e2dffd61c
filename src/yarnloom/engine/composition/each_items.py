"""Items of eaches: the list is read when the each begins; as items end, others are made."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from yarnloom.engine.composition.endings import ComposedRun, Endings
from yarnloom.engine.parts.inputs import text_of
from yarnloom.engine.parts.item_matching import next_that_waits
from yarnloom.engine.parts.items import FILL_DUE
from yarnloom.engine.parts.list_values import ItemFault
from yarnloom.engine.parts.work_queue import CreateItems
from yarnloom.engine.rules.states import SkipReason
from yarnloom.engine.state.progress import list_read
from yarnloom.plan import Node
from yarnloom.store import PartRow

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
