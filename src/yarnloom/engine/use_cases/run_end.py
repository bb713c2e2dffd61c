"""The end of a run: the next one begins, follow-ups start, times are learnt."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yarnloom.engine.commands import StartRun
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.plans import Listener, Plans, Workflows
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.time_shares import shares
from yarnloom.engine.state.transaction_notes import Afterwards
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.engine.use_cases.start import Starting
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import earlier_times, schedule_records
from yarnloom.store.workers import workflow_records
from yarnloom.units import iso_time
from yarnloom.values import DEPTH_LIMIT, JsonObject, JsonValue, depth_problem, dump

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
            before, known = earlier_times.times_of(self.unit.execute, newest)
            seconds = _mixed(seconds, before)
            times = known | {
                address: _mixed(taken, known.get(address)) for address, taken in times.items()
            }
            known_works = earlier_times.works_of(self.unit.execute, newest)
            works = known_works | {
                address: _mixed(taken, known_works.get(address)) for address, taken in works.items()
            }
            if not _differ(plan, known, times) and abs(seconds - before) <= 5 * WORTH * before:
                return
        kept = {address: round(taken, 6) for address, taken in times.items()}
        workflows.weights[run.workflow] = earlier_times.keep(
            self.unit, run.workflow, seconds, kept, works, self.time.now
        )


def _works(plan: Plan, ran: Mapping[int, tuple[int, int]]) -> earlier_times.Times:
    """Seconds of an attempt by the address of its step, and of all attempts by that of an each."""
    works: earlier_times.Times = {}
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


def _differ(plan: Plan, before: earlier_times.Times, now: earlier_times.Times) -> bool:
    old, new = shares(plan, before), shares(plan, now)
    return old.keys() != new.keys() or any(abs(new[one] - old[one]) > WORTH for one in new)


class _Times:
    """Seconds of the nodes of one run."""

    def __init__(self, unit: Unit, run: RunRow, plan: Plan) -> None:
        self.plan = plan
        self.parts = earlier_times.parts_of(unit, run.number)
        self.steps = earlier_times.steps_of(unit, run.number)
        has_eaches = any(node.kind is Kind.EACH for node in plan.nodes)
        self.in_items = earlier_times.steps_in_items(unit, run.number) if has_eaches else {}
        self.counts = earlier_times.item_counts(unit, run.number) if has_eaches else {}

    def by_address(self) -> earlier_times.Times:
        found: earlier_times.Times = {}
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


TOLD = (
    "number",
    "workflow",
    "task",
    "version",
    "state",
    "round",
    "error",
    "failures_allowed",
    "followups_failed",
    "tags",
    "share",
    "key",
    "started_by",
    "schedule",
    "planned_at",
)
"""Facts of an ended run that tasks get: none that can be large."""

TOLD_TIMES = ("created_at", "started_at", "ended_at")

TOLD_IF_SMALL = ("params", "output")
SMALL = 64 * 1024
"""Bytes of each of these that are told. Besides, they stand deeper than in their own run."""


@dataclass(slots=True)
class RunEnds:
    """Lets others follow the end of a run."""

    unit: Unit
    time: RunTime
    plans: Plans
    afterwards: Afterwards
    workflows: Workflows
    pace_learning: PaceLearning
    schedules: Schedules
    starting: Starting

    def follow(self) -> None:
        """See to what follows from the runs that have ended in this transaction."""
        while self.afterwards.schedules:
            self.schedules.run_ended(self.afterwards.schedules.pop())
        while self.afterwards.ended_runs:
            run = self.afterwards.ended_runs.pop(0)
            self.pace_learning.learn(run)
            if run.after is None:
                self._tell(run, "end")
        while self.afterwards.begun_runs:
            run = self.afterwards.begun_runs.pop(0)
            if run.after is None:
                self._tell(run, "begin")

    def _tell(self, run: RunRow, at: str) -> None:
        """Start the tasks that are told of a run that has begun, or ended."""
        loom = run.workflow.partition("/")[0]
        for listener in self.workflows.listeners.get(loom, ()):
            if not listener.hears_of(at, run.workflow, run.state):
                continue
            record = record_of(self.unit, self.time, self.plans, run)
            facts: JsonObject = {name: getattr(record, name) for name in TOLD}
            facts |= {name: iso_time(getattr(record, name)) for name in TOLD_TIMES}
            values = {name: getattr(record, name) for name in TOLD_IF_SMALL}
            small = {name: _is_small(value) for name, value in values.items()}
            facts |= {name: value if small[name] else None for name, value in values.items()}
            left_out = [name for name in TOLD_IF_SMALL if not small[name]]
            facts["left_out"] = [*left_out, *(["output"] if record.output_left_out else [])]
            (name,) = workflow_records.task_facts(self.unit, listener.task)["input"]["properties"]
            self.starting.start_or_fail(
                StartRun(
                    target=listener.task,
                    params={name: facts},
                    key=f"{at}/{run.number}/{run.round}",
                    who="service",
                    priority=run.priority,
                    share=run.share,
                    after=run.number,
                )
            )


def listeners_of(unit: Unit) -> dict[str, list[Listener]]:
    """By loom the tasks that are told of runs."""
    found: dict[str, list[Listener]] = {}
    for loom, (task, at, states, targets) in schedule_records.listeners(unit):
        listener = Listener(task, at, frozenset(states), frozenset(targets))
        found.setdefault(loom, []).append(listener)
    return found


def _is_small(value: JsonValue) -> bool:
    """Whether a value can be told as it is."""
    return depth_problem(value, DEPTH_LIMIT - 2) is None and len(dump(value)) <= SMALL
