"""Publishing: a loom's plans become the current versions of its workflows."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass

from yarnloom.engine.commands import Publish, handles
from yarnloom.engine.dispatch.pool_settings import (
    PoolSettings,
    read_declarations,
    refuse_unknown_pools,
)
from yarnloom.engine.records.workflows import PublishedWorkflow
from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import Listener, Plans, Workflows
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.errors import InvalidInput, PlanError, Problem
from yarnloom.plan import Plan, read_plan, secret_inputs
from yarnloom.store import Unit
from yarnloom.store.runs import run_records as store
from yarnloom.store.runs import schedule_records
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject


@dataclass(slots=True)
class Publishing:
    """Publishes looms."""

    unit: Unit
    time: RunTime
    plans: Plans
    pools: Pools
    workflows: Workflows
    pool_settings: PoolSettings
    schedules: Schedules

    @handles(Publish)
    def publish(self, command: Publish) -> list[PublishedWorkflow]:
        """Check every plan, then keep all of them.

        Returns:
            For each workflow its name, its version, and whether the version is a new one.

        Raises:
            InvalidInput: a plan has mistakes; nothing is published.
        """
        plans = _read(command.plans)
        declared = read_declarations(command.pools or [])
        refuse_unknown_pools(
            self.pools, plans, [name for pools in declared.values() for name in pools]
        )
        _refuse_bad_listeners(command.tasks)
        _refuse_double_names(plans, command.tasks)
        schedules = self.schedules.read_schedules(command.schedules or [], plans)
        answer = []
        for plan in plans:
            known = workflow_records.plan_id(self.unit, plan.workflow, plan.version)
            kept = workflow_records.keep_plan(
                self.unit, plan.workflow, plan.version, plan.document, self.time.now
            )
            new = self.workflows.plans.get(plan.workflow) != kept
            if new:
                workflow_records.make_current(
                    self.unit, plan.workflow, kept, self.time.now, command.who
                )
                self.workflows.plans[plan.workflow] = kept
            self.plans.keep(kept, plan)
            answer.append(
                PublishedWorkflow(plan.workflow, plan.version, known is None, current_since_now=new)
            )
        secret = _secret_inputs(plans)
        for facts in command.tasks:
            names = sorted(secret.get(facts["name"], ()))
            kept_facts = {**facts, "secret_inputs": names} if names else facts
            workflow_records.keep_task(self.unit, facts["name"], kept_facts, self.time.now)
            workflow_records.keep_code(
                self.unit, facts["name"], facts["code_hash"], facts.get("source", ""), self.time.now
            )
        of_tasks = {facts["name"].partition("/")[0] for facts in command.tasks}
        of_schedules = {str(one.get("loom")) for one in command.schedules or ()}
        looms = sorted({plan.loom for plan in plans} | declared.keys() | of_tasks | of_schedules)
        if command.pools is not None:
            for loom in looms:
                self.pool_settings.declare(loom, declared.get(loom, {}), command.who)
        self._listen(command.tasks, of_tasks)
        if command.schedules is not None:
            for loom in looms:
                self.schedules.declare_schedules(loom, schedules.get(loom, {}), command.who)
        versions = {entry.workflow: entry.version for entry in answer}
        # A worker with `--reload` publishes after each change of a file, mostly the same again.
        published, digest = self.workflows.published, _digest(command)
        if any(published.get(loom) != digest for loom in looms):
            published.update(dict.fromkeys(looms, digest))
            store.log_command(
                self.unit, self.time.now, command.who, "publish", None, "", versions=versions
            )
        return answer

    def _listen(self, tasks: list[JsonObject], looms: set[str]) -> None:
        """From now on these tasks of the looms are told of runs, and no others."""
        for loom in sorted(looms):
            told = [
                (facts["name"], on["at"], on["states"], on["targets"])
                for facts in tasks
                if (on := facts.get("on_run")) and facts["name"].startswith(f"{loom}/")
            ]
            if told or loom in self.workflows.listeners:
                schedule_records.keep_listeners(self.unit, loom, told)
                self.workflows.listeners[loom] = [
                    Listener(task, at, frozenset(states), frozenset(targets))
                    for task, at, states, targets in told
                ]


def _digest(command: Publish) -> bytes:
    """A hash of the publication, with the hash of each task's source."""
    tasks = [
        {key: value for key, value in task.items() if key != "source"} for task in command.tasks
    ]
    everything = [command.plans, tasks, command.pools, command.schedules]
    return hashlib.sha256(json.dumps(everything, sort_keys=True).encode()).digest()


def _secret_inputs(plans: list[Plan]) -> dict[str, set[str]]:
    """By task the inputs that some plan feeds with a secret: alone started it is one, too."""
    found: dict[str, set[str]] = {}
    for plan in plans:
        for task, names in secret_inputs(plan).items():
            found.setdefault(task, set()).update(names)
    return found


def _read(documents: list[JsonObject]) -> list[Plan]:
    plans: list[Plan] = []
    problems: list[Problem] = []
    for document in documents:
        try:
            plans.append(read_plan(document))
        except PlanError as error:
            problems += error.problems
    if problems:
        raise InvalidInput(
            f"nothing was published: the plans have {len(problems)} mistakes", problems=problems
        )
    return plans


def _refuse_double_names(plans: list[Plan], tasks: list[JsonObject]) -> None:
    """Refuse names that a workflow and a task have: a start by name would be unclear."""
    double = {plan.workflow for plan in plans} & {facts["name"] for facts in tasks}
    if double:
        raise InvalidInput(
            f"nothing was published: {', '.join(sorted(double))} names a workflow and a task; "
            "rename one of them"
        )


def _refuse_bad_listeners(tasks: list[JsonObject]) -> None:
    problems = [
        Problem(f"/tasks/{place}", "a task that is told of runs takes one input, the run")
        for place, facts in enumerate(tasks)
        if facts.get("on_run") and len(facts["input"].get("properties", {})) != 1
    ]
    if problems:
        raise InvalidInput("nothing was published: a task is not right", problems=problems)
