"""Checking a loom without running anything: its plans, and every mistake in it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from yarnloom.errors import Problem, nearest
from yarnloom.plan import Kind, Part, Plan, PoolDeclaration, compile_plan, examine, unknown_pools
from yarnloom.plan.part_types import output_schema
from yarnloom.plan.schedule_settings import SETTINGS, problems_of_settings
from yarnloom.plan.schemas import Fit, describe, fit
from yarnloom.plan.validators import patterns_for_workers
from yarnloom.plan.value_problems import problems_of
from yarnloom.recurrence import step_remark
from yarnloom.sdk.failures import unknown_kinds
from yarnloom.sdk.task import DeclaredTask
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class LoomParts:
    """What a loom declares.

    Attributes:
        name: of the loom.
        tasks: by name.
        workflows: by name.
        schedules: settings by name.
        pools: by name.
        facts_of: returns the task of a function.
        problems: mistakes that were found while it was declared.
    """

    name: str
    tasks: Mapping[str, DeclaredTask]
    workflows: Mapping[str, DeclaredWorkflow]
    schedules: Mapping[str, JsonObject]
    pools: Mapping[str, PoolDeclaration]
    facts_of: Callable[[Callable[..., Any]], DeclaredTask | None]
    problems: Sequence[Problem]


@dataclass(frozen=True, slots=True)
class DeclaredWorkflow:
    """A workflow as it was declared; params and, where it is said, the output as JSON Schemas."""

    params: JsonObject
    plan: Part
    on_failure: Part | None
    on_end: Part | None
    options: JsonObject
    output: JsonObject | None = None


def examine_loom(loom: LoomParts) -> tuple[list[Plan], list[Problem]]:
    """Every workflow's plan, and every mistake in the whole loom, without running anything."""
    problems = list(loom.problems)
    for task in loom.tasks.values():
        problems += task.problems()
        for use in task.rules.pools:
            if use.pool not in loom.pools:
                declare = "; declare it: loom.pool(...)"
                hint = nearest(use.pool, loom.pools) if loom.pools else declare
                text = f"there is no pool {use.pool!r}{hint}"
                problems.append(Problem(f"{task.name}.pool", text))
    problems += _renamed_twice(loom)
    problems += _problems_of_names(loom)
    plans = []
    for name, declared in loom.workflows.items():
        document, found = compile_plan(
            loom.name,
            name,
            declared.params,
            declared.plan,
            loom.facts_of,
            on_failure=declared.on_failure,
            on_end=declared.on_end,
            options=declared.options,
        )
        plan, more = examine(document)
        if plan is not None:
            more += unknown_pools(plan, loom.pools)
            more += _problems_of_output(plan, declared)
        # One mistake, one message: what compiling saw, checking would see once more.
        seen = {problem.where for problem in found}
        problems += [*found, *(problem for problem in more if problem.where not in seen)]
        if plan is not None:
            plans.append(plan)
    known = {plan.workflow: plan for plan in plans}
    for name, settings in loom.schedules.items():
        problems += _problems_of_schedule(loom, name, settings, known)
    for task in loom.tasks.values():
        problems += _problems_of_told(loom, task)
    problems += (
        Problem(where, f"there is no error {name!r}; did you mean {close!r}?")
        for where, name, close in _unknown_kinds(loom, plans)
        if close
    )
    return plans, problems


def _problems_of_output(plan: Plan, declared: DeclaredWorkflow) -> list[Problem]:
    """What is wrong with the type of the output that a workflow declares."""
    given = output_schema(plan)
    if declared.output is None or fit(given, declared.output) is not Fit.CANNOT:
        return []
    message = f"its plan gives {describe(given)}; declared is {describe(declared.output)}"
    return [Problem(f"{plan.name}.output", message)]


def _problems_of_names(loom: LoomParts) -> list[Problem]:
    """Names that a workflow and a task have: what a start by name would mean is unclear."""
    message = "a workflow and a task have this name; rename one of them"
    return [Problem(name, message) for name in loom.workflows if name in loom.tasks]


def _unknown_kinds(loom: LoomParts, plans: Sequence[Plan]) -> Iterator[tuple[str, str, str]]:
    """Names in retry rules that no loaded error has: where, and what each looks like."""
    for task in loom.tasks.values():
        for found in unknown_kinds(task.rules.retry):
            yield (f"{task.name}.retry", *found)
    for plan in plans:
        for node in plan.nodes:
            own = loom.tasks.get(node.task.partition("/")[2]) if node.task else None
            if node.kind is not Kind.STEP or (own and own.rules.retry == node.rules.retry):
                continue
            for found in unknown_kinds(node.rules.retry):
                yield (f"{plan.name}/{plan.address(node)}.retry", *found)


def _problems_of_schedule(
    loom: LoomParts, name: str, settings: JsonObject, plans: dict[str, Plan]
) -> list[Problem]:
    own = {key: value for key, value in settings.items() if key in SETTINGS}
    found = problems_of_settings(own)
    workflow = settings["workflow"]
    plan = plans.get(f"{loom.name}/{workflow}")
    if workflow not in loom.workflows:
        hint = nearest(workflow, loom.workflows)
        found.append(Problem("/workflow", f"this loom has no workflow {workflow!r}{hint}"))
    elif plan is not None and not found:
        wrong = problems_of(settings["params"], plan.params_schema)
        found += (Problem(f"/params{one.where}", one.message) for one in wrong)
    return [Problem(name + one.where.replace("/", "."), one.message) for one in found]


def _problems_of_told(loom: LoomParts, task: DeclaredTask) -> list[Problem]:
    known = [*loom.workflows, *loom.tasks]
    return [
        Problem(f"{task.name}.{where}", f"this loom has no workflow or task {one!r}{hint}")
        for where, one in (("workflows", one) for one in (task.told or {}).get("targets", ()))
        if one not in known and (hint := nearest(one, known)) is not None
    ]


def remarks_on(loom: LoomParts, plans: Sequence[Plan]) -> list[Problem]:
    """Return what is no mistake, and yet worth knowing before anything runs."""
    found = []
    for plan in plans:
        for pattern in patterns_for_workers(plan.params_schema):
            text = (
                f"the pattern {pattern!r:.60} of its params is checked by the worker only: a "
                "run with params that do not match starts, and its first step is refused"
            )
            found.append(Problem(f"{plan.name}.params", text))
    found += _too_heavy(loom, plans)
    for name, settings in loom.schedules.items():
        if remark := step_remark(settings["cron"]):
            found.append(Problem(f"{name}.cron", remark))
    # Rules that need ctx to have an effect.
    for task in loom.tasks.values():
        if task.rules.quiet_for is not None and not task.hears:
            found.append(
                Problem(
                    f"{task.name}.quiet_for",
                    "the task takes no ctx, so it can say nothing of its progress, and will "
                    "always seem stuck after that time; use timeout=, or let it take ctx",
                )
            )
        if task.grace is not None and not task.hears and not task.is_async:
            text = (
                "grace has no effect: the task takes no ctx, so it cannot hear of a stop, and "
                "is interrupted at once"
            )
            found.append(Problem(f"{task.name}.grace", text))
    for where, name, close in _unknown_kinds(loom, plans):
        if not close:
            text = (
                f"no error {name!r} is loaded; where the task imports it only when it runs, "
                "nobody can tell here whether the name is right"
            )
            found.append(Problem(where, text))
    return found


def _too_heavy(loom: LoomParts, plans: Sequence[Plan]) -> Iterator[Problem]:
    """Yield a remark on each weight that is above the limit or rate of its pool."""
    uses = [(task.name, use) for task in loom.tasks.values() for use in task.rules.pools]
    for plan in plans:
        for node in plan.steps():
            uses += [(f"{plan.name}/{plan.address(node)}", use) for use in node.rules.pools]
    for where, use in uses:
        pool = loom.pools.get(use.pool)
        if pool is None:
            continue
        rate = pool.rate.count if pool.rate else None
        for what, most in (("limit", pool.limit), ("rate", rate)):
            # 0 halts the pool on purpose, and is no mistake of the weight.
            if most is not None and 0 < most < use.weight:
                text = (
                    f"its weight of {use.weight} is above the {what} of pool {use.pool!r}, which "
                    f"is {most}: it waits until somebody raises that"
                )
                yield Problem(f"{where}.pools.{use.pool}", text)


def _renamed_twice(loom: LoomParts) -> list[Problem]:
    """Earlier names of tasks that are taken by another."""
    taken = {task.full_name: task.name for task in loom.tasks.values()}
    found = []
    for task in loom.tasks.values():
        for earlier in task.was:
            if earlier in taken:
                short = earlier.partition("/")[2]
                found.append(
                    Problem(task.name, f"was={short!r} is a name of task {taken[earlier]} too")
                )
            taken.setdefault(earlier, task.name)
    return found
