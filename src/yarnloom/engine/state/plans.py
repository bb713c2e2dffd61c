"""The workflows and their plans, the contracts of steps, and the addresses of parts.

Decision: `docs/decisions/03-fair-turns.md`.
"""

from __future__ import annotations

import copy
from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.time_shares import Paces
from yarnloom.errors import InvalidInput, NotFound, Problem, nearest
from yarnloom.plan import PLAN_FORMAT, Kind, Node, Plan, address_in, item_key, read_plan
from yarnloom.plan.schemas import Fit, fit
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.runs.run_records import Queue
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject


class Misfit(StrEnum):
    """Why a worker can never run steps of a contract, as it is."""

    NO_TASK = "no_task"  # it has no task of that name
    OTHER_CODE = "other_code"  # the plan asks for its own code, and this is another
    OTHER_TYPES = "other_types"  # the task's types do not fit the plan
    LACKS = "lacks"  # something that the step needs is not there


@dataclass(slots=True)
class Offer:
    """What a worker can run, and how much of it at once.

    Attributes:
        tasks: the tasks it can run, each with its code hash.
        io_tasks: those of them whose attempts share a process, and have places of their own.
        plain_tasks: those of them that need only their input.
        types: for tasks, by name, their input and output schema, where the worker says them.
        graces: for tasks, by name, how long before a time-out they hear of it, at most.
        places: how many attempts of other tasks it runs at once.
        ahead: how many more of them it may have in hand, since they begin at once.
        io_places: how many attempts of `io_tasks`.
        has: what steps can ask for with `only_on`.
        pools: the only pools that it takes from; None for any, and for steps without one.
    """

    tasks: dict[str, str] = field(default_factory=dict)
    io_tasks: frozenset[str] = frozenset()
    plain_tasks: frozenset[str] = frozenset()
    types: dict[str, JsonObject] = field(default_factory=dict)
    graces: dict[str, float] = field(default_factory=dict)
    places: int = 0
    ahead: int = 0
    io_places: int = 0
    has: frozenset[str] = frozenset()
    pools: frozenset[str] | None = None


class Contracts:
    """What plans expect of tasks: by contract the facts that stand in the plan."""

    def __init__(self) -> None:
        self._facts: dict[str, JsonObject] = {}

    def learn(self, plan: Plan) -> None:
        """Take in what a plan expects."""
        for name, contract in plan.contracts.items():
            self._facts[contract] = plan.tasks[name]

    def misfit(self, offer: Offer, contract: str) -> Misfit | None:
        """Why a worker cannot run a contract: it has no such task, other code, or other types."""
        name = task_of(contract)
        code_hash = offer.tasks.get(name)
        if code_hash is None:
            return Misfit.NO_TASK
        wanted = self._facts.get(contract.partition("+")[0], {})
        types = offer.types.get(name)
        if wanted.get("code_hash", code_hash) != code_hash:
            return Misfit.OTHER_CODE
        # A worker that does not say its types is taken at its word.
        if wanted and types is not None and not _types_fit(wanted, types):
            return Misfit.OTHER_TYPES
        return None if needs_of(contract) <= offer.has else Misfit.LACKS


def _types_fit(wanted: JsonObject, own: JsonObject) -> bool:
    return (
        fit(wanted["input"], own["input"]) is not Fit.CANNOT
        and fit(own["output"], wanted["output"]) is not Fit.CANNOT
    )


def task_of(contract: str) -> str:
    """The full name of a contract's task."""
    return contract.partition("@")[0]


def needs_of(contract: str) -> frozenset[str]:
    """What a worker must have to run a contract."""
    return frozenset(filter(None, contract.partition("+")[2].split(",")))


@dataclass(frozen=True, slots=True)
class Listener:
    """A task that is started when runs of its loom begin, or end.

    Attributes:
        task: its full name.
        at: "begin" or "end".
        states: only of runs that ended so; empty for all.
        targets: only of runs of these workflows and tasks; empty for all.
    """

    task: str
    at: str
    states: frozenset[str]
    targets: frozenset[str]

    def hears_of(self, at: str, target: str, state: str) -> bool:
        """Whether the task starts when a run has begun, or ended."""
        return (
            self.at == at
            and (not self.states or state in self.states)
            and (not self.targets or target in self.targets)
        )


def queue_of(run: RunRow) -> Queue:
    """The queue in which a run is counted for its workflow's `at_once`."""
    return run.workflow, run.queue


@dataclass(slots=True)
class Workflows:
    """What is known of all workflows.

    Attributes:
        plans: the current plan of every workflow.
        published: by loom a hash of its last publication: the same again is no command.
        under_way: by workflow and value of `per` how many runs have entered and not ended.
        held: the same of runs that wait until others have ended.
        listeners: by loom the tasks that start when runs begin, or end.
        weights: by workflow the newest row that says how long its nodes took.
        paces: what follows from such a row for a plan, by the ids of both.
        learnt: by workflow when that was last learnt, on the steady clock.
    """

    plans: dict[str, int] = field(default_factory=dict)
    published: dict[str, bytes] = field(default_factory=dict)
    under_way: Counter[Queue] = field(default_factory=Counter)
    held: Counter[Queue] = field(default_factory=Counter)
    listeners: dict[str, list[Listener]] = field(default_factory=dict)
    weights: dict[str, int] = field(default_factory=dict)
    paces: dict[tuple[int, int], Paces] = field(default_factory=dict)
    learnt: dict[str, float] = field(default_factory=dict)

    def find(self, name: str) -> tuple[str, int]:
        """Full name and plan of a workflow; its short name does while it is unique.

        Raises:
            NotFound: there is none of that name; the nearest is offered.
            InvalidInput: several looms have one.
        """
        names = matches(name, self.plans)
        if not names:
            raise unknown("workflow", name, self.plans)
        if len(names) > 1:
            raise ambiguous("workflow", name, names)
        return names[0], self.plans[names[0]]

    def is_full(self, run: RunRow, plan: Plan) -> bool:
        """Whether as many runs of a run's queue are under way as may be."""
        return plan.at_once is not None and self.under_way[queue_of(run)] >= plan.at_once

    def count_in(self, run: RunRow) -> None:
        """Count a new run, which is under way, or waits."""
        self.counted(run.admission)[queue_of(run)] += 1

    def count_out(self, run: RunRow) -> None:
        """Count a run no more: it has ended, or is put off."""
        counted, queue = self.counted(run.admission), queue_of(run)
        counted[queue] -= 1
        if not counted[queue]:
            del counted[queue]

    @property
    def is_busy(self) -> bool:
        """Whether any run is under way, or waits for others."""
        return any(self.under_way.values()) or any(self.held.values())

    def counted(self, admission: int) -> Counter[Queue]:
        """Return the counter of a run whose start time has come."""
        return self.under_way if admission else self.held


class Plans:
    """The plans that are kept, each read once.

    Args:
        unit: the store's unit of work.
        known: plans that were read, by id.
        contracts: learns what a plan expects of its tasks.
    """

    __slots__ = ("_contracts", "_known", "_unit")

    def __init__(self, unit: Unit, known: dict[int, Plan], contracts: Contracts) -> None:
        self._unit = unit
        self._known = known
        self._contracts = contracts

    def of(self, run: RunRow) -> Plan:
        """Return the plan that a run started with."""
        return self.by_id(run.plan)

    def by_id(self, plan_id: int) -> Plan:
        """Return a plan that is kept."""
        plan = self._known.get(plan_id)
        if plan is None:
            plan = read_plan(workflow_records.plan_document(self._unit, plan_id))
            self.keep(plan_id, plan)
        return plan

    def keep(self, plan_id: int, plan: Plan) -> None:
        """Keep a plan that was read, or has just been published."""
        self._known[plan_id] = plan
        self._contracts.learn(plan)

    def address(self, run: RunRow, node: Node, part: PartRow) -> str:
        """Return the address of a node that is in a part: `1042/harbours[brackwater]/fetch`."""
        keys: dict[int, str] = {}
        inside = part.id if part.value is not None else part.item_part
        while inside is not None:
            item = self._unit.parts.need(inside)
            keys[item.node] = item_key(item.name, item.item)
            inside = item.item_part
        return f"{run.number}/{address_in(self.of(run), node, keys)}"

    def part_address(self, run: RunRow, part: PartRow) -> str:
        """Return the address of a part."""
        return self.address(run, self.of(run).nodes[part.node], part).rstrip("/")


def matches(name: str, known: Collection[str]) -> list[str]:
    """Return the full names that a name may stand for."""
    if name in known:
        return [name]
    return sorted(full for full in known if full.partition("/")[2] == name)


def only_match(name: str, known: Collection[str]) -> str | None:
    """Return the only full name for a name; None where there is none, or several."""
    names = matches(name, known)
    return names[0] if len(names) == 1 else None


def ambiguous(what: str, name: str, several: list[str]) -> InvalidInput:
    """Return the error for a short name that several looms have."""
    return InvalidInput(
        f"several looms have a {what} {name!r}; say which: {', '.join(several)}",
        problems=[Problem("/target", "ambiguous")],
    )


def unknown(what: str, name: str, known: Collection[str]) -> NotFound:
    """Return the error for a name that nothing has."""
    if not known:
        return NotFound(
            f"there is no {what} {name!r}; none is published yet",
            hint="publish a loom: `yarnloom publish MODULE:LOOM`",
        )
    names = known if "/" in name else [full.partition("/")[2] for full in known]
    return NotFound(f"there is no {what} {name!r}{nearest(name, names)}")


class StartTarget(NamedTuple):
    """A workflow or task that is started.

    Attributes:
        name: its full name.
        plan: id of its plan; of a task that of a run of nothing else.
        is_task: whether it is a task.
    """

    name: str
    plan: int
    is_task: bool

    @property
    def scope(self) -> str:
        """Within what its start keys are unique."""
        # Over time a task and a workflow may have had one name; their keys are apart.
        return f"task {self.name}" if self.is_task else self.name

    @property
    def kind(self) -> str:
        """What it is, for people."""
        return "task" if self.is_task else "workflow"


@dataclass(slots=True)
class StartTargets:
    """Finds what a start names."""

    unit: Unit
    time: RunTime
    workflows: Workflows

    def find(self, name: str) -> StartTarget:
        """Return a workflow if exactly one has the name, else a task.

        Raises:
            NotFound: there is none of that name; the nearest is offered.
            InvalidInput: several looms have one.
        """
        plans = self.workflows.plans
        if (workflow := only_match(name, plans)) is not None:
            return StartTarget(workflow, plans[workflow], is_task=False)
        tasks = workflow_records.task_names(self.unit)
        if (task := only_match(name, tasks)) is not None:
            return StartTarget(task, self._plan_of(task), is_task=True)
        if several := matches(name, plans):
            raise ambiguous("workflow", name, several)
        if several := matches(name, tasks):
            raise ambiguous("task", name, several)
        raise unknown("workflow or task", name, [*plans, *tasks])

    def _plan_of(self, full: str) -> int:
        """Return the plan of a run of nothing but a task."""
        plan = read_plan(plan_of_task(full, workflow_records.task_facts(self.unit, full)))
        kept = workflow_records.plan_id(self.unit, plan.workflow, plan.version)
        if kept is None:
            kept = workflow_records.keep_plan(
                self.unit, plan.workflow, plan.version, plan.document, self.time.now
            )
        return kept


def plan_of_task(name: str, facts: JsonObject) -> JsonObject:
    """The plan of a single step, whose params are its inputs."""
    loom, _, short = name.partition("/")
    schema = facts["input"]
    if secret := facts.get("secret_inputs"):
        marked = {name: {**schema["properties"][name], "writeOnly": True} for name in secret}
        schema = {**schema, "properties": {**schema["properties"], **marked}}
    pinned = {"code_hash": facts["code_hash"]} if facts.get("pin_code") else {}
    inputs = {one: {"param": one} for one in schema.get("properties", {})}
    rules = copy.deepcopy(facts.get("rules", {}))
    for use in (rules, *rules.get("pools", ())):
        if "per" in use:
            use["per"] = {"param": use["per"]}
    step = {"kind": Kind.STEP, "label": short, "task": name, "inputs": inputs, **rules}
    return {
        "format": PLAN_FORMAT,
        "loom": loom,
        "workflow": short,
        "params": schema,
        "tasks": {name: {"input": schema, "output": facts["output"], **pinned}},
        "plan": {"kind": Kind.SEQUENCE, "parts": [step]},
    }
