"""How much flows through each box inside an each: counters that follow the rows of steps.

A step in an item counts for the each around it, and for those around that. The counts come
from the rows that are written: the state before and after, so that no use case has to think of
it. Steps without a row are the exception: the code that ends the part around them calls `left`.

Decision: `docs/decisions/11-counts-inside-eaches.md`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from yarnloom.engine.rules.states import StepState
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import PartRow, StepRow, Unit
from yarnloom.store.runs import counter_records

if TYPE_CHECKING:
    from yarnloom.engine.state.plans import Plans

_OF_EACH = (
    *("total", "idle", "ready", "running", "backing_off", "resting", "paused"),
    *("done", "failed", "cancelled", "skipped"),
)


class Flow:
    """Changed counts inside eaches, until they are written.

    Args:
        unit: the transaction.
    """

    def __init__(self, unit: Unit) -> None:
        self._unit = unit
        self._counts: dict[tuple[int, int, str], int] = defaultdict(int)
        self._times: dict[tuple[int, int, int], tuple[int, int]] = {}
        unit.steps.watch(("state",))
        unit.parts.watch(_OF_EACH)

    def count(self, each: PartRow, node: int, state: str, number: int) -> None:
        """So many steps of an each's items came to be so; fewer, if negative."""
        for around in self._eaches(each):
            self._counts[around, node, state] += number

    def took(self, each: PartRow, node: int, *micros: int) -> None:
        """Attempts in items of an each took so long."""
        for around in self._eaches(each):
            for micro in micros:
                key = around, node, counter_records.bucket_of(micro)
                number, longest = self._times.get(key, (0, 0))
                self._times[key] = number + 1, micro if micro > longest else longest

    def step_took(self, step: StepRow, micros: int) -> None:
        """The same of a step; of one in no item nothing is counted."""
        if step.item_part is not None:
            self.took(self._each_around(step.item_part), step.node, micros)

    def _each_around(self, item: int) -> PartRow:
        parent = self._unit.parts.need(item).parent
        assert parent is not None
        return self._unit.parts.need(parent)

    def _eaches(self, each: PartRow) -> Iterator[int]:
        """An each and those around it, from inside out."""
        while True:
            yield each.id
            if each.item_part is None:
                return
            each = self._each_around(each.item_part)

    # Steps without rows

    def left(self, plans: Plans, part: PartRow, sign: int = 1) -> None:
        """What has not begun in a part will not, as its `rest_state` says; or may again."""
        plan = plans.of(self._unit.run(part.run))
        node = plan.nodes[part.node]
        if node.kind is Kind.EACH:
            self._leave(plan, part, node.children, part, sign * part.unmade)
        elif (item := part.id if part.value is not None else part.item_part) is not None:
            known = counter_records.children_with_rows(self._unit, part.id)
            rest = [child for child in node.children if child not in known]
            self._leave(plan, self._each_around(item), rest, part, sign)

    def _leave(
        self, plan: Plan, each: PartRow, nodes: Iterable[int], part: PartRow, number: int
    ) -> None:
        state = counter_records.LEFT[str(part.rest_state)]
        for index in nodes:
            for step in steps_in(plan, plan.nodes[index]):
                self.count(each, step.index, state, number)

    # Writing

    def write(self, plans: Plans) -> None:
        """Write what changed; everything else is written already."""
        self._unit.flush()
        for step, before, after in self._unit.steps.take_watched():
            self._step_written(step, before, after)
        for part, was, now in self._unit.parts.take_watched():
            self._part_written(plans, part, was, now)
        counter_records.add_counts(self._unit, self._counts)
        counter_records.add_times(self._unit, self._times)
        self.forget()

    def forget(self) -> None:
        """Nothing changed after all."""
        self._counts.clear()
        self._times.clear()

    def _step_written(self, step: StepRow, before: str | None, after: str) -> None:
        if step.item_part is None:
            return
        each = self._each_around(step.item_part)
        for state, change in ((before, -1), (after, 1)):
            if state is not None and state != StepState.WAITING:
                self.count(each, step.node, str(state), change)

    def _part_written(
        self, plans: Plans, part: PartRow, before: tuple[int, ...] | None, after: tuple[int, ...]
    ) -> None:
        if part.item_part is None or part.value is not None:
            return
        plan = plans.of(self._unit.run(part.run))
        if plan.nodes[part.node].kind is not Kind.EACH:
            return
        around = self._each_around(part.item_part)
        for at, name in enumerate(_OF_EACH):
            change = after[at] - (before[at] if before else 0)
            if change:
                self.count(around, part.node, name, change)


def steps_in(plan: Plan, node: Node) -> Iterator[Node]:
    """The steps in a part, but for those that eaches in it repeat."""
    if node.kind is Kind.STEP:
        yield node
    elif node.kind is not Kind.EACH:
        for child in node.children:
            yield from steps_in(plan, plan.nodes[child])
