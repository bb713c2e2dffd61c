"""What runs that have ended tell of the time that the parts of their workflow take."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.time_shares import shares
from yarnloom.engine.state.workflows import Workflows
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import RunRow, Unit, time_weights

LEARN_EVERY = 1.0
"""Seconds of the steady clock between two runs of a workflow that are learnt from."""

NEWEST = 0.5
"""How much the newest run counts against those before."""

WORTH = 0.05
"""By how much a share must have changed for new weights; of the whole time five times that."""


@dataclass(slots=True)
class PaceLearning:
    """Learns from runs how long their parts take."""

    unit: Unit
    time: RunTime
    plans: Plans
    counts: Statistics
    workflows: Workflows

    def learn(self, run: RunRow) -> None:
        """Learn from a run that has ended, if it went straight from begin to end."""
        plan, workflows = self.plans.of(run), self.workflows
        straight = (
            run.state == RunState.DONE
            and run.round == 1
            and not run.paused_micros
            and not run.step_actions
        )
        if not straight or run.started_at is None or run.ended_at is None or len(plan.nodes) < 2:
            return
        if self.time.mono < workflows.learnt.get(run.workflow, float("-inf")) + LEARN_EVERY:
            return
        workflows.learnt[run.workflow] = self.time.mono
        seconds = (run.ended_at - run.started_at) / 1e6
        times = _Times(self.unit, run, plan).by_address()
        works = _works(plan, self.counts.times.ran_in(run.number))
        newest = workflows.weights.get(run.workflow)
        if newest is not None:
            before, known = time_weights.times_of(self.unit.execute, newest)
            seconds = _mixed(seconds, before)
            times = known | {
                address: _mixed(taken, known.get(address)) for address, taken in times.items()
            }
            known_works = time_weights.works_of(self.unit.execute, newest)
            works = known_works | {
                address: _mixed(taken, known_works.get(address)) for address, taken in works.items()
            }
            if not _differ(plan, known, times) and abs(seconds - before) <= 5 * WORTH * before:
                return
        kept = {address: round(taken, 6) for address, taken in times.items()}
        workflows.weights[run.workflow] = time_weights.keep(
            self.unit, run.workflow, seconds, kept, works, self.time.now
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

    def __init__(self, unit: Unit, run: RunRow, plan: Plan) -> None:
        self.plan = plan
        self.parts = time_weights.parts_of(unit, run.number)
        self.steps = time_weights.steps_of(unit, run.number)
        has_eaches = any(node.kind is Kind.EACH for node in plan.nodes)
        self.in_items = time_weights.steps_in_items(unit, run.number) if has_eaches else {}
        self.counts = time_weights.item_counts(unit, run.number) if has_eaches else {}

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
