"""How far everything is: a fraction from 0 to 1 in each row, kept up as what is in it moves.

A step's fraction is 1 when it is done or was passed over, else what it tracked or reported. A
part's is the mean of its children's: of a sequence or parallel weighed by their shares of the time
(`time_shares`), of an each by how many values of its list an item has. What was never reached, was
stopped or was cancelled before it did anything counts 0. A failure that is allowed counts 1.

Only what changed is passed on, from a row to those around it: nothing here looks at siblings, but
for a part that is begun again. A part is exactly 1 only once it is decided, and nothing in it moves
it then.
"""

from __future__ import annotations

from collections.abc import Sequence

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import PASSED_OVER, StepEvent, StepState
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.time_shares import paces_of, share_of
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import PartRow, Row, RunRow, StepRow, Unit
from yarnloom.store.runs import paused_runs
from yarnloom.values import decode

WHOLE = 1.0
_NOT_YET = 1.0 - 1e-9


def fraction_of(saved: Row | None) -> float:
    """How far a step is by its own account; 0 if it gives none."""
    said = (saved or {}).get("progress") or {}
    done, total = said.get("done"), said.get("total")
    if not isinstance(done, int | float) or not isinstance(total, int | float) or total <= 0:
        return 0.0
    return min(WHOLE, max(0.0, done / total))


class Progress:
    """Keeps up how far everything is.

    Args:
        unit: the store's unit of work.
        time: of the transaction.
        plans: of the runs.
        attempts: how far those that run were at most.
        workflows: how long their parts took before.
    """

    __slots__ = ("_attempts", "_plans", "_time", "_unit", "_workflows")

    def __init__(
        self, unit: Unit, time: RunTime, plans: Plans, attempts: OpenAttempts, workflows: Workflows
    ) -> None:
        self._unit, self._time, self._plans = unit, time, plans
        self._attempts, self._workflows = attempts, workflows

    def step_moved(self, step: StepRow, event: StepEvent | None = None) -> None:
        """A step's state changed, or with no event what it is to begin with."""
        if step.state == StepState.DONE or (
            step.state == StepState.SKIPPED and step.skip_reason in PASSED_OVER
        ):
            fraction = WHOLE
        elif event in (StepEvent.BEGIN, StepEvent.RENEW, None):
            # A new attempt goes on from what was saved, if anything was.
            fraction = 0.0 if step.saved is None else fraction_of(decode(step.saved))
        else:
            return
        self._set_step(step, fraction)

    def step_reported(self, step: StepRow, attempt: int, saved: Row) -> None:
        """An attempt said how far it is. What it says within one attempt never makes it less."""
        furthest = self._attempts.furthest
        furthest[attempt] = max(fraction_of(saved), furthest.get(attempt, 0.0))
        self._set_step(step, furthest[attempt])

    def _set_step(self, step: StepRow, fraction: float) -> None:
        change = fraction - step.fraction
        if change:
            step.fraction = fraction
            self._unit.steps.touch(step)
            run = self._unit.run(step.run)
            plan = self._plans.of(run)
            self._pass_on(
                run, plan, self._unit.parts.need(step.part), plan.nodes[step.node], change
            )

    def _pass_on(
        self, run: RunRow, plan: Plan, part: PartRow, child: Node, change: float, size: int = 1
    ) -> None:
        """A child of a part moved: so did the part, and those around it."""
        shares = paces_of(self._unit, self._plans, self._workflows, run).shares
        while change and part.fraction < WHOLE and not child.follows:
            node, before = plan.nodes[part.node], part.fraction
            if node.kind is Kind.EACH:
                share = size / max(1, part.covers)
            else:
                share = share_of(shares, node, child.index)
            part.fraction = min(_NOT_YET, max(0.0, before + share * change))
            part.moved_at = self._time.now
            self._unit.parts.touch(part)
            if part.parent is None:
                return
            child, change, around = node, part.fraction - before, self._unit.around(part)
            size = size_of_item(plan, part, around)
            part = around

    def items_done(self, run: RunRow, each: PartRow, do: Node, count: int) -> None:
        """So many items of an each are done, each of which is one value of its list."""
        each.covered += count
        self._pass_on(run, self._plans.of(run), each, do, WHOLE, count)

    def steps_done(self, run: RunRow, part: PartRow, nodes: Sequence[Node]) -> None:
        """Steps of a sequence are done that have no rows yet."""
        shares, children = (
            paces_of(self._unit, self._plans, self._workflows, run).shares,
            len(nodes),
        )
        plan = self._plans.of(run)
        whole = len(plan.nodes[part.node].children)
        mean = sum(shares.get(node.index) or 1 / whole for node in nodes) / children
        own = shares.get(nodes[0].index) or 1 / whole
        self._pass_on(run, plan, part, nodes[0], WHOLE * children * mean / own)

    def part_decided(self, run: RunRow, part: PartRow, *, whole: bool) -> None:
        """A part's outcome stands.

        Args:
            run: its run.
            part: the part.
            whole: whether it counts as if all of it were done.
        """
        if part.value is not None and part.begun_at is None:
            each = self._unit.around(part)
            each.idle -= 1
            self._unit.parts.touch(each)
        if whole and part.fraction < WHOLE:
            self._set_part(run, part, WHOLE)

    def _set_part(self, run: RunRow, part: PartRow, fraction: float) -> None:
        """A part becomes whole, or ceases to be."""
        plan, change = self._plans.of(run), fraction - part.fraction
        part.fraction, part.moved_at = fraction, self._time.now
        self._unit.parts.touch(part)
        if part.parent is None:
            return
        around = self._unit.around(part)
        size = size_of_item(plan, part, around)
        if part.value is not None:
            around.covered += size if fraction >= WHOLE else -size
        self._pass_on(run, plan, around, plan.nodes[part.node], change, size)

    def part_renewed(self, run: RunRow, part: PartRow) -> None:
        """A part is to run again: it is as far as what is in it and stays done."""
        if part.fraction < WHOLE:
            return  # what is in it has told it
        plan = self._plans.of(run)
        node = plan.nodes[part.node]
        if node.kind is Kind.EACH:
            fraction, part.covered = _in_items(self._unit, part, node)
        else:
            shares, fraction = (paces_of(self._unit, self._plans, self._workflows, run).shares, 0.0)
            for index, done in paused_runs.fractions_in(self._unit, part.id):
                if not plan.nodes[index].follows:
                    fraction += done * share_of(shares, node, index)
        self._set_part(run, part, min(_NOT_YET, fraction))

    def list_changed(self, run: RunRow, each: PartRow, values: int) -> None:
        """The list of an each was read again, and has other items: it is counted anew."""
        plan = self._plans.of(run)
        node = plan.nodes[each.node]
        before, each.covers = each.fraction, values
        fraction, each.covered = _in_items(self._unit, each, node)
        each.fraction = min(_NOT_YET, fraction)
        self._unit.parts.touch(each)
        if each.parent is not None:
            around = self._unit.around(each)
            self._pass_on(run, plan, around, node, each.fraction - before)


def size_of_item(plan: Plan, part: PartRow, around: PartRow) -> int:
    """How many values of an each's list an item has; of what is no item 1."""
    facts = plan.nodes[around.node].each
    if part.value is None or facts is None or not facts.batch:
        return 1
    return _size_at(part.item, facts.batch, around.covers)


def _size_at(index: int, batch: int, covers: int) -> int:
    left = covers - index * batch
    return min(batch, left) if left > 0 else batch  # one that is gone stands behind all


def is_passed_over(part: PartRow) -> bool:
    """Whether a part was skipped without anything being wrong."""
    return part.outcome == StepState.SKIPPED and part.skip_reason in PASSED_OVER


def list_read(unit: Unit, each: PartRow, values: int, batch: int | None) -> None:
    """The list of an each was read: so many values, each an item, or some together."""
    each.covers = values
    each.total = each.unmade = -(-values // (batch or 1))
    unit.parts.touch(each)


def _in_items(unit: Unit, each: PartRow, node: Node) -> tuple[float, int]:
    """How far the items of an each are together, and how many values are in those that are whole.

    It looks at all of them, as only a mend may.
    """
    assert node.each is not None
    fraction, covered, batch = 0.0, 0, node.each.batch or 1
    for index, done in paused_runs.fractions_of_items(unit, each.run, each.id):
        size = _size_at(index, batch, each.covers)
        fraction += done * size
        covered += size if done >= WHOLE else 0
    return fraction / max(1, each.covers), covered


def pace_begins(unit: Unit, time: RunTime, part: PartRow) -> None:
    """A part begins, or begins again: its pace counts from here."""
    part.since, part.fraction_then = time.now, part.fraction
    if part.value is not None:
        part.begun_at = None
        each = unit.around(part)
        each.idle += 1
        unit.parts.touch(each)


def item_began(unit: Unit, inside: int | None, at: int) -> None:
    """The first attempt in an item has begun: it does not only wait any more, nor those around."""
    while inside is not None:
        item = unit.parts.need(inside)
        if item.begun_at is not None:
            return
        if item.outcome is None:
            item.begun_at = at
            unit.parts.touch(item)
            each = unit.around(item)
            each.idle -= 1
            unit.parts.touch(each)
        inside = item.item_part


def was_paused(unit: Unit, run: RunRow, spent: int) -> None:
    """A run goes on after a pause of so many microseconds, which count for no pace."""
    run.paused_micros += spent
    unit.runs.touch(run)
    for part in unit.parts.select(
        "run = ? AND item_part IS NULL AND value IS NULL AND ended_at IS NULL", run.number
    ):
        part.since += spent
        if part.moved_at is not None:
            part.moved_at += spent
        unit.parts.touch(part)
