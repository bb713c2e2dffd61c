"""Finding workflows and tasks by their full name, or by their short one while it is unique."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import Workflows
from yarnloom.errors import InvalidInput, NotFound, Problem, nearest
from yarnloom.plan import PLAN_FORMAT, Kind, read_plan
from yarnloom.store import Unit
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject


@dataclass(slots=True)
class FullNames:
    """Finds workflows and tasks by their names."""

    unit: Unit
    time: RunTime
    workflows: Workflows

    def find_workflow(self, name: str) -> tuple[str, int]:
        """Full name and plan of a workflow; its short name does while it is unique.

        Raises:
            NotFound: there is none of that name; the nearest is offered.
            InvalidInput: several looms have one.
        """
        known = self.workflows.plans
        full = _find("workflow", name, known)
        return full, known[full]

    def find_task(self, name: str) -> tuple[str, int]:
        """Full name of a task, and the plan of a run of nothing else; raises as `find_workflow`."""
        full = _find("task", name, workflow_records.task_names(self.unit))
        plan = read_plan(plan_of_task(full, workflow_records.task_facts(self.unit, full)))
        kept = workflow_records.plan_id(self.unit, plan.workflow, plan.version)
        if kept is None:
            kept = workflow_records.keep_plan(
                self.unit, plan.workflow, plan.version, plan.document, self.time.now
            )
        return full, kept


def plan_of_task(name: str, facts: JsonObject) -> JsonObject:
    """The plan of a single step, whose params are its inputs."""
    loom, _, short = name.partition("/")
    schema = facts["input"]
    if secret := facts.get("secret_inputs"):
        marked = {name: {**schema["properties"][name], "writeOnly": True} for name in secret}
        schema = {**schema, "properties": {**schema["properties"], **marked}}
    pinned = {"code_hash": facts["code_hash"]} if facts.get("pin_code") else {}
    inputs = {one: {"param": one} for one in schema.get("properties", {})}
    rules = dict(facts.get("rules", {}))
    if "per" in rules:
        rules["per"] = {"param": rules["per"]}
    step = {"kind": Kind.STEP, "label": short, "task": name, "inputs": inputs, **rules}
    return {
        "format": PLAN_FORMAT,
        "loom": loom,
        "workflow": short,
        "params": schema,
        "tasks": {name: {"input": schema, "output": facts["output"], **pinned}},
        "plan": {"kind": Kind.SEQUENCE, "parts": [step]},
    }


def _find(what: str, name: str, known: Collection[str]) -> str:
    if name in known:
        return name
    matches = [full for full in known if full.partition("/")[2] == name]
    if len(matches) == 1:
        return matches[0]
    if matches:
        raise InvalidInput(
            f"several looms have a {what} {name!r}; say which: {', '.join(sorted(matches))}",
            problems=[Problem(f"/{what}", "ambiguous")],
        )
    names = list(known) if "/" in name else [full.partition("/")[2] for full in known]
    hint = nearest(name, names)
    if not known:
        hint = "; none is published yet: `yarnloom publish MODULE:LOOM`"
    raise NotFound(f"there is no {what} {name!r}{hint}")
