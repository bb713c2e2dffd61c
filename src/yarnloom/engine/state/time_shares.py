"""How much of the time each part of a plan takes, as the newest done runs of its workflow did.

A run keeps what was known when it started. What follows one another outside of items shares the
time of the clock; what goes on beside one another, and what is in items, shares the work, so that
waiting for a worker counts nowhere twice.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.paces import Paces
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import RunRow, Unit, time_weights

if TYPE_CHECKING:
    from yarnloom.engine.state.plans import Plans
    from yarnloom.engine.state.transaction import Transaction
    from yarnloom.engine.state.workflows import Workflows

LEARN_EVERY = 1.0
"""Seconds of the steady clock between two runs of a workflow that are learnt from."""

NEWEST = 0.5
"""How much the newest run counts against those before."""

WORTH = 0.05
"""By how much a share must have changed for new weights; of the whole time five times that."""

LEAST = 0.002
"""The least share of a child, so that none stands still for long."""

REMEMBERED = 200
"""Of how many plans and weights the paces are kept at hand: kilobytes for each."""


UNKNOWN = Paces()


def paces(
    plan: Plan, seconds: float, times: time_weights.Times, works: time_weights.Times
) -> Paces:
    """Return what follows for a plan from seconds by address."""
    by_node = {
        node.index: times[address]
        for node in plan.nodes
        if node.parent is not None and (address := plan.address(node)) in times
    }
    works_by_node = {
        node.index: works[address]
        for node in plan.nodes
        if (address := plan.address(node)) in works
    }
    return Paces(seconds, by_node, shares(plan, times), works_by_node)


def paces_of(unit: Unit, plans: Plans, workflows: Workflows, run: RunRow) -> Paces:
    """What was known of a run when it started."""
    if run.weights is None:
        return UNKNOWN
    known = workflows.paces
    key = run.weights, run.plan
    if key not in known:
        while len(known) >= REMEMBERED:
            del known[next(iter(known))]
        known[key] = paces(
            plans.of(run),
            *time_weights.times_of(unit.execute, run.weights),
            time_weights.works_of(unit.execute, run.weights),
        )
    return known[key]


def shares(plan: Plan, times: time_weights.Times) -> dict[int, float]:
    """Return the shares that follow from seconds by address."""
    found: dict[int, float] = {}
    for node in plan.nodes:
        if node.kind is Kind.EACH or len(node.children) < 2:
            continue
        taken = [times.get(plan.address(plan.nodes[child])) for child in node.children]
        known = [seconds for seconds in taken if seconds is not None]
        if not sum(known):
            continue
        # One of which nothing is known counts like the mean of the others.
        mean = sum(known) / len(known)
        least = LEAST * mean * len(taken)
        parts = [max(least, mean if seconds is None else seconds) for seconds in taken]
        for child, seconds in zip(node.children, parts, strict=True):
            found[child] = seconds / sum(parts)
    return found


def learn(transaction: Transaction, run: RunRow) -> None:
    """Learn from a run that has ended, if it went straight from begin to end."""
    plan, memory = transaction.plans.of(run), transaction.memory
    straight = (
        run.state == RunState.DONE
        and run.round == 1
        and not run.paused_micros
        and not run.step_actions
    )
    if not straight or run.started_at is None or run.ended_at is None or len(plan.nodes) < 2:
        return
    if (
        transaction.time.mono
        < memory.workflows.learnt.get(run.workflow, float("-inf")) + LEARN_EVERY
    ):
        return
    memory.workflows.learnt[run.workflow] = transaction.time.mono
    seconds = (run.ended_at - run.started_at) / 1e6
    times = _Times(transaction, run, plan).by_address()
    works = _works(plan, transaction.counts.times.ran_in(run.number))
    newest = memory.workflows.weights.get(run.workflow)
    if newest is not None:
        before, known = time_weights.times_of(transaction.unit.execute, newest)
        seconds = _mixed(seconds, before)
        times = known | {
            address: _mixed(taken, known.get(address)) for address, taken in times.items()
        }
        known_works = time_weights.works_of(transaction.unit.execute, newest)
        works = known_works | {
            address: _mixed(taken, known_works.get(address)) for address, taken in works.items()
        }
        if not _differ(plan, known, times) and abs(seconds - before) <= 5 * WORTH * before:
            return
    kept = {address: round(taken, 6) for address, taken in times.items()}
    memory.workflows.weights[run.workflow] = time_weights.keep(
        transaction.unit, run.workflow, seconds, kept, works, transaction.time.now
    )


def _works(plan: Plan, ran: Mapping[int, tuple[int, int]]) -> time_weights.Times:
    """Seconds of an attempt by the address of its step, and of all attempts by that of an each."""
    works: time_weights.Times = {}
    for node in plan.nodes:
        if node.kind is Kind.STEP and node.index in ran:
            number, micros = ran[node.index]
            works[plan.address(node)] = round(micros / max(1, number) / 1e6, 6)
        elif node.kind is Kind.EACH:
            inside = sum(ran.get(index, (0, 0))[1] for index in plan.steps_in(node))
            works[plan.address(node)] = round(inside / 1e6, 6)
    return works


def _mixed(now: float, before: float | None) -> float:
    return now if before is None else NEWEST * now + (1 - NEWEST) * before


def _differ(plan: Plan, before: time_weights.Times, now: time_weights.Times) -> bool:
    old, new = shares(plan, before), shares(plan, now)
    return old.keys() != new.keys() or any(abs(new[one] - old[one]) > WORTH for one in new)


class _Times:
    """Seconds of the nodes of one run."""

    def __init__(self, transaction: Transaction, run: RunRow, plan: Plan) -> None:
        self.plan = plan
        self.parts = time_weights.parts_of(transaction.unit, run.number)
        self.steps = time_weights.steps_of(transaction.unit, run.number)
        has_eaches = any(node.kind is Kind.EACH for node in plan.nodes)
        self.in_items = (
            time_weights.steps_in_items(transaction.unit, run.number) if has_eaches else {}
        )
        self.counts = time_weights.item_counts(transaction.unit, run.number) if has_eaches else {}

    def by_address(self) -> time_weights.Times:
        found: time_weights.Times = {}
        for node in self.plan.nodes:
            around = None if node.parent is None else self.plan.nodes[node.parent]
            if around is None or node.in_follow_up or around.kind is Kind.EACH:
                continue
            seconds = self.clock(node) if around.kind is Kind.SEQUENCE else None
            seconds = self.work(node) if seconds is None else seconds
            if seconds is not None:
                found[self.plan.address(node)] = seconds
        return found

    def clock(self, node: Node) -> float | None:
        """From begin to end, outside of items."""
        step = self.steps.get(node.index)
        return step[0] if step else self.parts.get(node.index)

    def work(self, node: Node) -> float | None:
        """What its steps took in all."""
        if node.kind is Kind.STEP:
            step = self.steps.get(node.index)
            return step[1] if step else self.in_items.get(node.index)
        inner = [self.work(self.plan.nodes[child]) for child in node.children]
        known = [seconds for seconds in inner if seconds is not None]
        if not known:
            return None
        return sum(known) * (self.counts.get(node.index, 1.0) if node.kind is Kind.EACH else 1.0)
