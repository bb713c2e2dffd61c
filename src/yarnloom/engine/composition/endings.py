"""How parts end: what is decided, what settles, what follows, and when the run has ended.

A part is *decided* when everything of its plan in it is; it *settles*, and its state changes, when
its follow-ups have ended too. What comes of either is put on the work queue of `composition`.

Decision: `docs/decisions/02-composition.md`.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.inputs import References, Resolver
from yarnloom.engine.part_contents.item_matching import ItemMatching
from yarnloom.engine.part_contents.items import Items
from yarnloom.engine.part_contents.lists import ListJobs
from yarnloom.engine.part_contents.new_rows import NewRows
from yarnloom.engine.part_contents.outcomes import (
    Outcomes,
    allowed_failures,
    bar_of,
    failures_in,
    gather,
    next_follow_up,
    note_skip,
    outcome_of,
)
from yarnloom.engine.part_contents.pending import (
    CANCELLED,
    NOT_REACHED,
    STOPPED,
    Blocked,
    ChildChanged,
    WorkItem,
)
from yarnloom.engine.part_contents.renewals import Renewals, has_ended
from yarnloom.engine.records.errors import error_text
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    PART_TABLE,
    PartState,
    RunEvent,
    SkipReason,
    StepEvent,
    StepState,
    StopReason,
    next_state,
)
from yarnloom.engine.state.due_times import Timers
from yarnloom.engine.state.each_memory import Parts
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.progress import Progress, is_passed_over
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.transaction_notes import Changes, Composing, Ended
from yarnloom.engine.state.transitions import Moves, count_child
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.plan import FOLLOW_UPS, ON_END, ON_FAILURE, Kind, Node, OneFails, Plan
from yarnloom.store import PartRow, RunRow, StepRow, Unit
from yarnloom.values import size_of

_EVENT_FOR = {
    StepState.DONE: StepEvent.FINISH,
    StepState.FAILED: StepEvent.FAIL,
    StepState.CANCELLED: StepEvent.CANCEL,
    StepState.SKIPPED: StepEvent.SKIP,
}


@dataclass(slots=True)
class CompositionNeeds:
    """The parts of a transaction that the rules of composition use."""

    unit: Unit
    time: RunTime
    plans: Plans
    changes: Changes
    settings: EngineSettings
    composing: Composing
    progress: Progress
    moves: Moves
    grants: Grants
    relays: Relays
    timers: Timers
    parts: Parts
    granted_items: GrantedItems
    item_matching: ItemMatching
    items: Items
    list_jobs: ListJobs
    new_rows: NewRows
    outcomes: Outcomes
    references: References
    relay_steps: RelaySteps
    renewals: Renewals
    worker_orders: WorkerOrders


@dataclass(slots=True)
class ComposedRun:
    """One run within a transaction.

    Attributes:
        needs: the parts of the transaction.
        run: the run.
        plan: its plan.
        resolver: what its references mean.
        queue: what is still to be looked at, the newest last.
        without_grace: whether steps that stop have no time for it.
    """

    needs: CompositionNeeds
    run: RunRow
    plan: Plan
    resolver: Resolver
    queue: list[WorkItem] = field(default_factory=list)
    without_grace: bool = False


class Endings:
    """How the parts of one run end.

    Args:
        of: the run.
        begin_part: begins what is in a part: here, in a follow-up.
        refill: makes the next items of eaches that go on.
    """

    def __init__(
        self,
        of: ComposedRun,
        begin_part: Callable[[PartRow], None],
        refill: Callable[[Iterable[PartRow]], None],
    ) -> None:
        self.of = of
        self.needs, self.run, self.plan = of.needs, of.run, of.plan
        self.resolver, self.queue = of.resolver, of.queue
        self._begin_part = begin_part
        self._refill = refill

    def step_ended(self, step: StepRow) -> None:
        """Count a step that has ended in its part; begin its follow-up, if it has one."""
        node = self.plan.nodes[step.node]
        around = self.needs.unit.parts.need(step.part)
        ended = Ended(step.state, step.skip_reason, step.output, size_of(step.output))
        cause = None
        if step.state in (StepState.FAILED, StepState.CANCELLED):
            facts = {"step": self.needs.plans.address(self.run, node, around), "task": node.task}
            error = json.loads(step.error or "{}")
            cause = error_text({**facts, "attempts": step.attempts, **error})
        follow_up = (
            None if step.state == StepState.SKIPPED else self._next(node, ended, ON_FAILURE, around)
        )
        self._decided(around, node, ended, cause, settled=follow_up is None)
        if follow_up is not None:
            self._begin_follow_up(follow_up, around)

    def end_step(self, step: StepRow, event: StepEvent) -> None:
        """End a step without an attempt."""
        self.needs.moves.step(step, event)
        self.step_ended(step)

    def stop_step(self, step: StepRow, event: StepEvent, why: StopReason | None) -> None:
        """End a step that nobody runs; tell one that is run to stop, where a reason is given.

        What is skipped while it backs off fails, with its last error.
        """
        if step.open is None:
            if event is StepEvent.SKIP and step.state == StepState.BACKING_OFF:
                event = StepEvent.FAIL
            elif event is StepEvent.SKIP:
                step.skip_reason = SkipReason.STOPPED
            self.end_step(step, event)
        elif why is not None and (step.stop != why or self.of.without_grace):
            self.needs.worker_orders.post_stop(step, why, now=self.of.without_grace)

    def _decided(
        self, part: PartRow, child: Node, ended: Ended, cause: str | None, *, settled: bool
    ) -> None:
        """A child of a part was decided; the part's counters know it already."""
        self.needs.composing.children[part.id, child.index] = ended
        if ended.state == StepState.SKIPPED:
            note_skip(part, ended.reason)
        node = self.plan.nodes[part.node]
        if node.kind is Kind.EACH:
            part.size += max(ended.size, len("null")) + 1
        if not settled:
            part.following += 1
        self.needs.unit.parts.touch(part)
        by_itself = ended.state == StepState.CANCELLED and self.blocked(part) is None
        if ended.state == StepState.FAILED or by_itself:
            part.error = part.error or cause
            self._close_if_too_much(part, node)
        self.queue.append(ChildChanged(part, child, ended, settled))

    def _settled(self, part: PartRow, child: Node, ended: Ended) -> None:
        part.following -= 1
        self.needs.unit.parts.touch(part)
        self.queue.append(ChildChanged(part, child, ended, settled=True))

    def _close_if_too_much(self, part: PartRow, node: Node) -> None:
        """One too many has failed: nothing more begins in the part."""
        if node.kind not in (Kind.PARALLEL, Kind.EACH) or node.if_one_fails is OneFails.FINISH:
            return
        bar = self.blocked(part)
        failed = failures_in(part, stopped=bar is not None)
        if part.closed or failed <= allowed_failures(part, node):
            return
        if bar is CANCELLED:
            return  # all of it is told to stop already
        withdrawn = self.needs.granted_items.withdraw_of_run(self.run.number)
        self.needs.relay_steps.call_back(self.run.number)
        part.closed = node.if_one_fails
        self.needs.outcomes.drop_rest(part, STOPPED)
        why = StopReason.CANCEL if node.if_one_fails is OneFails.CANCEL else None
        for step in self.needs.unit.steps.select(
            "run = ? AND ended_at IS NULL AND rank > ? AND rank < ? ORDER BY rank",
            *(self.run.number, part.rank, part.rank + b"\xff" * 5),
        ):
            if step.ended_at is None and self.plan.belongs(self.plan.nodes[step.node], part.node):
                self.stop_step(step, StepEvent.SKIP, why)
        self._refill(withdrawn)

    def blocked(self, part: PartRow) -> Blocked | None:
        """Return why nothing more begins in a part; None if it goes on."""
        return bar_of(self.needs.unit, self.run, self.plan, part)

    def decide_if_over(self, part: PartRow) -> None:
        """Decide a part if everything in it has ended."""
        if part.outcome is not None or part.over != part.total or part.awaits is not None:
            return
        node = self.plan.nodes[part.node]
        stopped = bar_of(self.needs.unit, self.run, self.plan, part, outside=True) is not None
        outcome = outcome_of(part, node, stopped=stopped)
        if self.needs.list_jobs.must_gather(part, node, outcome):
            self.needs.list_jobs.ask_to_gather(self.run, part, node)
        else:
            self._decide(part, outcome)

    def _decide(self, part: PartRow, outcome: StepState) -> None:
        """A part's outcome stands; its follow-ups may still run."""
        node = self.plan.nodes[part.node]
        late = part.parent is None and self.run.stop == StopReason.DEADLINE
        if late and outcome is StepState.CANCELLED:
            outcome, part.fault = StepState.FAILED, self.run.error
            part.error = self.run.error
        part.outcome = outcome
        if outcome is StepState.FAILED and part.error is None:
            # A mend of some failures has run again what failed first; others are still there.
            error = self.resolver.first_failure(part)
            part.error = None if error is None else error_text(error)
        if outcome is not StepState.SKIPPED:
            part.skip_reason = None
        self.needs.unit.parts.touch(part)
        if node.kind is not Kind.SEQUENCE:  # nothing is remembered of one
            self.needs.parts.forget(part.id, node.children)
            self.needs.grants.forget(part.id)
        if outcome is StepState.DONE:
            part.output, part.size = gather(
                self.needs.unit, self.needs.settings, self.resolver, part, node
            )
            if node.kind in (Kind.EACH, Kind.FALLBACK) and part.failed + part.cancelled:
                self.run.failures_allowed += part.failed + part.cancelled
                self.needs.unit.runs.touch(self.run)
        else:
            part.size = 0
        if part.parent is not None and not node.follows:
            around = self.needs.unit.around(part)
            count_child(self.needs.unit, around.id, part.state, outcome)
            ended = Ended(outcome, part.skip_reason, part.output, part.size)
            self._decided(around, node, ended, part.error, settled=False)
        self._note_progress(part)
        if not part.following:
            self.begin_follow_ups(part, ON_FAILURE)

    def skip_part(self, part: PartRow, reason: SkipReason) -> None:
        """A part that began is skipped before anything in it has: no follow-up runs for it."""
        part.skip_reason = reason
        self.needs.outcomes.drop_rest(part, Blocked(StepState.SKIPPED, reason))
        part.outcome = StepState.SKIPPED
        node = self.plan.nodes[part.node]
        if part.parent is None:
            self._note_progress(part)
            self._settle(part)
            return
        around = self.needs.unit.around(part)
        if not node.follows:
            count_child(self.needs.unit, around.id, part.state, StepState.SKIPPED)
            self._decided(around, node, Ended(StepState.SKIPPED, reason), None, settled=False)
        self._note_progress(part)
        self._settle(part)

    def _note_progress(self, part: PartRow) -> None:
        """A part was decided, and is counted where it stands: it is as far as it gets."""
        whole = part.outcome == StepState.DONE or is_passed_over(part)
        self.needs.progress.part_decided(self.run, part, whole=whole or self._is_pardoned(part))

    def _is_pardoned(self, part: PartRow) -> bool:
        """Whether an item failed and is one of those that may."""
        if part.value is None or part.outcome not in (StepState.FAILED, StepState.CANCELLED):
            return False
        each = self.needs.unit.around(part)
        stopped = self.blocked(each) is not None
        if stopped and part.outcome == StepState.CANCELLED:
            return False
        most = allowed_failures(each, self.plan.nodes[each.node])
        return failures_in(each, stopped=stopped) <= most

    def fail_part(self, part: PartRow, fault: ItemFault) -> None:
        """A part fails of itself, before anything in it has begun."""
        error = {"type": fault.type, "message": str(fault)}
        address = self.needs.plans.part_address(self.run, part)
        part.fault = error_text(error)
        part.error = error_text({"step": address, "task": None, "attempts": 0, **error})
        self.needs.outcomes.drop_rest(part, NOT_REACHED)
        self._decide(part, StepState.FAILED)

    def _next(self, node: Node, ended: Ended, first: str, holder: PartRow) -> Node | None:
        """The follow-up that comes next, from one on; what has run for this end is passed over."""
        found = next_follow_up(self.run, self.plan, node, ended, first)
        if found is None or not self.run.renewed:
            return found
        row = self.needs.unit.parts.one("parent = ? AND node = ?", holder.id, found.index)
        if row is None or not has_ended(row):
            return found
        later = FOLLOW_UPS[FOLLOW_UPS.index(found.follows) + 1 :]
        return self._next(node, ended, later[0], holder) if later else None

    def begin_follow_ups(self, part: PartRow, first: str) -> None:
        """Begin the next follow-up of a part that is decided; without one it settles."""
        node = self.plan.nodes[part.node]
        ended = Ended(part.outcome or part.state, part.skip_reason, part.output, part.size)
        follow_up = self._next(node, ended, first, part)
        if follow_up is None:
            self._settle(part)
        else:
            part.following += 1
            self.needs.unit.parts.touch(part)
            self._begin_follow_up(follow_up, part)

    def _begin_follow_up(self, node: Node, holder: PartRow) -> None:
        self._begin_part(self.needs.new_rows.add_part(self.run, node, holder))

    def _follow_up_ended(self, follow_up: PartRow) -> None:
        """A follow-up has ended: the next one begins, or what it followed settles."""
        node = self.plan.nodes[follow_up.node]
        assert node.parent is not None
        if follow_up.state == PartState.FAILED:
            self.run.followups_failed += 1
            self.needs.unit.runs.touch(self.run)
        holder, followed = self.needs.unit.around(follow_up), self.plan.nodes[node.parent]
        if holder.node == followed.index:
            holder.following -= 1
            if node.follows == ON_FAILURE:
                self.begin_follow_ups(holder, ON_END)
            else:
                self._settle(holder)
            return
        ended = self.resolver.child(holder, followed)
        first = node.follows == ON_FAILURE
        after = self._next(followed, ended, ON_END, holder) if first else None
        if after is not None:
            self._begin_follow_up(after, holder)
        else:
            self._settled(holder, followed, ended)

    def _settle(self, part: PartRow) -> None:
        """A part has ended, and its follow-ups too."""
        node = self.plan.nodes[part.node]
        assert part.outcome is not None
        event = _EVENT_FOR[StepState(part.outcome)]
        part.state = next_state(PART_TABLE, part.state, event, f"part {node.label}")
        part.ended_at = self.needs.time.now
        self.needs.unit.parts.touch(part)
        if node.follows:
            self._follow_up_ended(part)
        elif part.parent is None:
            self._end_run(part)
        else:
            ended = Ended(part.state, part.skip_reason, part.output, part.size)
            self._settled(self.needs.unit.around(part), node, ended)

    def _end_run(self, root: PartRow) -> None:
        if root.state == PartState.FAILED:
            self.run.error = root.error
            self.needs.moves.run(self.run, RunEvent.FAIL)
        elif root.state == PartState.CANCELLED:
            self.needs.moves.run(self.run, RunEvent.STOP)
        else:
            # A cancel that came too late leaves `stop` behind, and no error.
            self.run.output, self.run.error = root.output, None
            self.needs.moves.run(self.run, RunEvent.FINISH)
