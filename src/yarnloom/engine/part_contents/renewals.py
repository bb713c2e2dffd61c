"""What is to run again, and its rows made to wait for it.

A row that is to run again keeps its id, its attempts and its end time, and is `waiting`: nobody
counts it, until what comes before it has ended and it begins like any other.

What failed, was cancelled, not reached or stopped is renewed, and what is done if its inputs were
edited or if it reads something that is renewed, directly or through others. All else is kept.

Decision: `docs/decisions/05-pause-and-mend.md`.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from yarnloom.engine.part_contents.lists import ListJobs
from yarnloom.engine.rules.states import (
    PART_TABLE,
    PartState,
    SkipReason,
    StepEvent,
    StepState,
    next_state,
)
from yarnloom.engine.state.each_memory import Parts
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.transaction_notes import Composing
from yarnloom.engine.state.transitions import Moves, count_child
from yarnloom.plan import FromFailures, FromOutput, Kind, Node, Plan
from yarnloom.store import PartRow, RunRow, StepRow, Unit
from yarnloom.store.runs import batch_records, effect_records, paused_runs

CUT_SHORT = frozenset({SkipReason.NOT_REACHED, SkipReason.STOPPED})
_ENDED = ("done", "failed", "cancelled", "skipped")


class Some:
    """Some steps of a run.

    Args:
        steps: by id the rank of each.
    """

    def __init__(self, steps: Mapping[int, bytes]) -> None:
        self._ids = frozenset(steps)
        self._ranks = sorted(steps.values())

    def __contains__(self, step: StepRow) -> bool:
        return step.id in self._ids

    def is_in(self, part: PartRow) -> bool:
        """Whether a part contains one of them."""
        at = bisect_left(self._ranks, part.rank)
        return at < len(self._ranks) and self._ranks[at].startswith(part.rank)


class Renewal:
    """Renews parts of a run that have ended.

    Args:
        needs: the parts of the transaction.
        run: the run.
        only: steps that are renewed alone, with what was not reached because of them; None renews
            everything that did not end well.
        edited: done steps that run again since their inputs were edited.
    """

    def __init__(
        self, needs: Renewals, run: RunRow, only: Some | None = None, edited: Some | None = None
    ) -> None:
        self.edited = edited or Some({})
        self.needs = needs
        self.run = run
        self.plan: Plan = needs.plans.of(run)
        self.only = only
        self.tasks: set[str] = set()
        self._reads: dict[int, frozenset[int]] = {}

    def part(self, row: PartRow, tainted: set[int]) -> bool:
        """Renew what is to run again in a part that has ended; whether there is anything.

        Args:
            row: the part.
            tainted: the nodes around it that are renewed; those in it are added.
        """
        node = self.plan.nodes[row.node]
        if row.skip_reason in (SkipReason.BY_HAND, SkipReason.GONE) and _skipped(row):
            return False
        if self._is_another_failure(row):
            return False
        own = bool(_sources_of(node) & tainted)
        if _skipped(row) and row.skip_reason == SkipReason.ONLY_IF and not own and _empty(row):
            return False
        allowed = _failures_allowed(row, node)
        cut = _skipped(row) and row.skip_reason in CUT_SHORT
        renewed = own or cut or row.fault is not None or self._rest_is_renewed(row)
        if node.kind is Kind.EACH:
            renewed |= self._items(row, node, tainted)
        elif node.kind is Kind.FALLBACK:
            renewed |= self._fallback(row, node, tainted)
        else:
            renewed |= self.children(row, tainted)
        if renewed:
            self.run.failures_allowed -= allowed
            self._reset(row, node)
            tainted.add(node.index)
        return renewed

    def in_live(self, step: StepRow, part: PartRow, top: PartRow | None) -> None:
        """Renew the one step in a part that goes on, and what was not reached because of it there.

        Args:
            step: the step.
            part: the part that goes on.
            top: the part in it that the step stands in and that has ended; None if it stands in
                `part` itself.
        """
        node, tainted = self.plan.nodes[part.node], set[int]()
        child = self.plan.nodes[top.node if top else step.node]
        if top is None:
            self._child(part, child, tainted)
        else:
            self.part(top, tainted)
        if node.kind is Kind.EACH:
            part.items_to_rerun += 1
            part.size = self._size_of_items(part, node)
            self.needs.list_jobs.forget_gathered(part)
        else:
            for index in node.children:
                sibling = self.plan.nodes[index]
                if sibling is not child and self.reads_of(sibling) & tainted:
                    self._child(part, sibling, tainted)
        part.skip_reason = SkipReason.ONLY_IF if part.skipped else None
        part.error = part.error if part.failed + part.cancelled else None
        self.needs.unit.parts.touch(part)
        self.needs.parts.forget(part.id, node.children)
        self.needs.grants.forget(part.id)

    def _is_another_failure(self, row: PartRow) -> bool:
        bad = row.state in (PartState.FAILED, PartState.CANCELLED)
        return bad and self.only is not None and not self.only.is_in(row)

    def children(self, row: PartRow, tainted: set[int]) -> bool:
        """Renew children of a sequence or parallel; whether any is."""
        node = self.plan.nodes[row.node]
        inner, renewed = set(tainted), False
        left = [self.plan.nodes[index] for index in node.children]
        while True:
            # Branches may read later ones, so it is gone through until nothing changes.
            kept = [child for child in left if not self._child(row, child, inner)]
            if len(kept) == len(left):
                break
            left, renewed = kept, True
        tainted |= inner
        return renewed

    def _fallback(self, row: PartRow, node: Node, tainted: set[int]) -> bool:
        """Renew a part that has another in its place; whether anything in either is.

        Like a failure that an each allows, one that the other made good runs again. The other then
        waits anew.
        """
        first, instead = (self.plan.nodes[index] for index in node.children)
        if not self._child(row, first, tainted):
            return self._child(row, instead, tainted)
        other = self.needs.unit.parts.one("parent = ? AND node = ?", row.id, instead.index)
        if other is not None and other.state != PartState.WAITING:
            self.wholly(other)
        return True

    def _child(self, row: PartRow, child: Node, tainted: set[int]) -> bool:
        if child.kind is Kind.STEP:
            step = self.needs.unit.steps.one("part = ? AND node = ?", row.id, child.index)
            if step is None or not self._is_renewed(step, child, tainted):
                return False
            self.step(step)
            self._forget_follow_ups(child, row)
            tainted.add(child.index)
            return True
        part = self.needs.unit.parts.one(
            "parent = ? AND node = ? AND item = 0", row.id, child.index
        )
        return part is not None and has_ended(part) and self.part(part, tainted)

    def _is_renewed(self, step: StepRow, node: Node, tainted: set[int]) -> bool:
        if step.ended_at is None or step.state == StepState.WAITING:
            return False
        if step in self.edited or (self.only is not None and step in self.only):
            return True
        if step.state == StepState.SKIPPED and step.skip_reason in CUT_SHORT:
            return True
        if step.supplied or step.skip_reason == SkipReason.BY_HAND:
            return False
        if step.state in (StepState.FAILED, StepState.CANCELLED):
            return self.only is None
        return bool(_sources_of(node) & tainted)

    def step(self, step: StepRow) -> None:
        """Make a step wait to run again."""
        node = self.plan.nodes[step.node]
        self.tasks.add(step.contract)
        if step.state == StepState.DONE:
            step.saved = None  # it reads something else now; what did not end well goes on
        before, ended_at = step.state, step.ended_at
        self.needs.moves.step(step, StepEvent.RENEW)
        self.needs.composing.children.pop((step.part, node.index), None)
        assert before != StepState.WAITING
        step.ended_at = ended_at
        step.retry_from_attempt, step.tries, step.losses = step.attempts, 0, 0
        step.paused_micros = step.supplied = 0
        step.skip_reason = step.output = step.started_at = step.deadline_at = None
        step.held = step.held_at = None
        self.needs.unit.steps.touch(step)

    def wholly(self, row: PartRow) -> None:
        """Renew a part with everything in it that has a row."""
        node = self.plan.nodes[row.node]
        self.run.failures_allowed -= _failures_allowed(row, node)
        for step in self.needs.unit.steps.select("part = ? AND state <> 'waiting'", row.id):
            self.step(step)
        for part in self.needs.unit.parts.select("parent = ? AND state <> 'waiting'", row.id):
            self.wholly(part)
            if part.value is not None:
                row.items_to_rerun += 1
        if row.state != PartState.WAITING:
            self._reset(row, node)

    # Items

    def _items(self, row: PartRow, node: Node, tainted: set[int]) -> bool:
        """Renew items of an each: those that did not end well, or all if they read what is."""
        do = self.plan.nodes[node.children[0]]
        look_at_done = (
            bool(self.reads_of(do) & tainted) or self._allows_failures(do) or self.edited.is_in(row)
        )
        states = _ENDED if look_at_done else _ENDED[1:]
        marks = ", ".join("?" * len(states))
        renewed = False
        for item in self.needs.unit.parts.select(
            f"parent = ? AND value IS NOT NULL AND coalesce(outcome, state) IN ({marks})"
            " ORDER BY item",
            *(row.id, *states),
        ):
            if has_ended(item) and self.part(item, set(tainted)):
                row.items_to_rerun += 1
                renewed = True
        return renewed

    def _allows_failures(self, node: Node) -> bool:
        """Whether something in a part can have failed although the part is done."""
        return any(
            child.kind is Kind.FALLBACK
            or (child.each is not None and child.each.may_fail > 0)
            or self._allows_failures(child)
            for child in (self.plan.nodes[index] for index in node.children)
        )

    def eaches_in_question(self) -> list[int]:
        """The eaches with items in batches of which a mend may change those that are done."""
        unit, number = self.needs.unit, self.run.number
        batched = batch_records.eaches_of(unit, number)
        if not batched:
            return []
        bad = paused_runs.nodes_to_mend(unit, number) | effect_records.edited_nodes(unit, number)
        nodes = self.plan.nodes
        while more := {node.index for node in nodes if _follows_from(node, bad)} - bad:
            bad |= more
        of_each = {each: nodes[unit.parts.need(each).node] for each in batched}
        return [
            each for each, node in of_each.items() if node.in_follow_up or self.reads_of(node) & bad
        ]

    def reads_of(self, node: Node) -> frozenset[int]:
        """All nodes that are read in a part."""
        if node.index not in self._reads:
            found = set(_sources_of(node))
            for index in node.children:
                found |= self.reads_of(self.plan.nodes[index])
            self._reads[node.index] = frozenset(found)
        return self._reads[node.index]

    # Rows

    def _rest_is_renewed(self, row: PartRow) -> bool:
        if row.rest_state is None:
            return False
        return row.rest_state == StepState.CANCELLED or row.rest_reason in CUT_SHORT

    def _reset(self, row: PartRow, node: Node) -> None:
        """Make a part wait to run again; its renewed children are not counted any more."""
        if row.rest_state is not None:
            self.needs.counts.eaches.left(self.needs.plans, row, -1)
            never_began = row.unmade if node.kind is Kind.EACH else self._without_row(row, node)
            counted = getattr(row, row.rest_state) - never_began
            setattr(row, row.rest_state, counted)
        before = row.outcome or row.state
        if node.follows and before == PartState.FAILED:
            self.run.followups_failed -= 1
        row.state = next_state(PART_TABLE, row.state, StepEvent.RENEW, node.label)
        if row.parent is not None and not node.follows:
            count_child(self.needs.unit, row.parent, before, row.state)
            self.needs.composing.children.pop((row.parent, node.index), None)
        row.outcome = row.closed = row.fault = row.error = row.output = None
        row.rest_state = row.rest_reason = None
        row.skip_reason = SkipReason.ONLY_IF if row.skipped else None
        if node.kind is Kind.EACH:
            row.size = self._size_of_items(row, node)
            self.needs.list_jobs.forget_gathered(row)
        self.needs.unit.parts.touch(row)
        self.needs.progress.part_renewed(self.run, row)
        self.needs.parts.forget(row.id, node.children)
        self.needs.grants.forget(row.id)
        self._forget_follow_ups(node, row)

    def _size_of_items(self, row: PartRow, node: Node) -> int:
        is_read = self.plan.nodes[node.children[0]].wanted
        return paused_runs.size_of_items(self.needs.unit, self.run.number, row.id, is_read=is_read)

    def _without_row(self, row: PartRow, node: Node) -> int:
        """How many children of a sequence or parallel never began."""
        known = {one.node for one in self.needs.unit.steps.select("part = ?", row.id)}
        known |= {one.node for one in self.needs.unit.parts.select("parent = ?", row.id)}
        return sum(index not in known for index in node.children)

    def _forget_follow_ups(self, node: Node, holder: PartRow) -> None:
        """What follows begins anew."""
        for index in node.follow_ups.values():
            row = self.needs.unit.parts.one("parent = ? AND node = ?", holder.id, index)
            if row is not None and row.state != PartState.WAITING:
                self.wholly(row)


def _follows_from(node: Node, bad: set[int]) -> bool:
    """Whether a part runs again where some do: it reads one, or contains one."""
    return bool(_sources_of(node) & bad) or not bad.isdisjoint(node.children)


def _sources_of(node: Node) -> set[int]:
    """The nodes that a node reads itself."""
    return set(_targets(node))


def _targets(node: Node) -> Iterator[int]:
    for source in node.sources():
        if isinstance(source, FromOutput | FromFailures):
            yield source.node


def _failures_allowed(row: PartRow, node: Node) -> int:
    """How many failures in an each or fallback its run counts as allowed."""
    done = node.kind in (Kind.EACH, Kind.FALLBACK) and row.outcome == PartState.DONE
    return row.failed + row.cancelled if done else 0


def _skipped(row: PartRow) -> bool:
    return row.state == PartState.SKIPPED


def _empty(row: PartRow) -> bool:
    """Whether nothing in a part has begun."""
    return row.rest_state is not None and row.rest_reason == SkipReason.ONLY_IF


def has_ended(row: PartRow | StepRow) -> bool:
    """Whether a row has ended, and does not wait to run again."""
    return row.ended_at is not None and row.state != StepState.WAITING


def items_by_name(unit: Unit, each: PartRow) -> dict[str, tuple[int, str]]:
    """By name, or else by index, the id and value of an each's items."""
    return {
        str(item) if name is None else name: (key, value)
        for key, item, name, value in paused_runs.items_made(unit, each.id)
    }


@dataclass(slots=True)
class Renewals:
    """Makes parts run again."""

    unit: Unit
    plans: Plans
    counts: Statistics
    composing: Composing
    progress: Progress
    moves: Moves
    grants: Grants
    parts: Parts
    list_jobs: ListJobs

    def of(self, run: RunRow, only: Some | None = None, edited: Some | None = None) -> Renewal:
        """Return what renews parts of a run."""
        return Renewal(self, run, only, edited)
