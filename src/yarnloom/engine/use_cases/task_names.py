"""Finding tasks by their full name, or by their short one while it is unique."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import find_name
from yarnloom.plan import PLAN_FORMAT, Kind, read_plan
from yarnloom.store import Unit
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject


@dataclass(slots=True)
class TaskNames:
    """Finds tasks by their names."""

    unit: Unit
    time: RunTime

    def find_task(self, name: str) -> tuple[str, int]:
        """Return the full name of a task, and the plan of a run of nothing else.

        Raises as `Workflows.find` does.
        """
        full = find_name("task", name, workflow_records.task_names(self.unit))
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
