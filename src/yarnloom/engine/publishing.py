"""Publishing: a loom's plans become the current versions of its workflows."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from yarnloom.engine.commands import Publish
from yarnloom.engine.pooling import declare, read_declarations, refuse_unknown_pools
from yarnloom.engine.turn import Turn
from yarnloom.errors import InvalidInput, NotFound, PlanError, Problem, nearest
from yarnloom.plan import PLAN_FORMAT, Kind, Plan, read_plan
from yarnloom.store import writing as store


def publish(turn: Turn, command: Publish) -> list[dict[str, Any]]:
    """Check every plan, then keep all of them.

    Returns:
        For each workflow its name, its version, and whether the version is a new one.

    Raises:
        InvalidInput: a plan has mistakes; nothing is published.
    """
    plans = _read(command.plans)
    declared = read_declarations(command.pools or [])
    refuse_unknown_pools(turn, plans, [name for pools in declared.values() for name in pools])
    answer = []
    for plan in plans:
        known = store.plan_id(turn.unit, plan.workflow, plan.version)
        kept = store.keep_plan(turn.unit, plan.workflow, plan.version, plan.document, turn.now)
        new = turn.memory.workflows.get(plan.workflow) != kept
        if new:
            store.make_current(turn.unit, plan.workflow, kept, turn.now, command.who)
            turn.memory.workflows[plan.workflow] = kept
        turn.plans[kept] = plan
        turn.memory.contracts.learn(plan)
        answer.append(
            {
                "workflow": plan.workflow,
                "version": plan.version,
                "new": known is None,
                "current_since_now": new,
            }
        )
    for facts in command.tasks:
        store.keep_task(turn.unit, facts["name"], facts, turn.now)
        store.keep_code(
            turn.unit, facts["name"], facts["code_hash"], facts.get("source", ""), turn.now
        )
    if command.pools is not None:
        for loom in sorted({plan.loom for plan in plans} | declared.keys()):
            declare(turn, loom, declared.get(loom, {}), command.who)
    versions = {entry["workflow"]: entry["version"] for entry in answer}
    store.log_command(turn.unit, turn.now, command.who, "publish", None, "", versions=versions)
    return answer


def _read(documents: list[dict[str, Any]]) -> list[Plan]:
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


def find_workflow(turn: Turn, name: str) -> tuple[str, int]:
    """Full name and plan of a workflow; its short name does while it is unique.

    Raises:
        NotFound: there is none of that name; the nearest is offered.
        InvalidInput: several looms have one.
    """
    known = turn.memory.workflows
    full = _find("workflow", name, known)
    return full, known[full]


def find_task(turn: Turn, name: str) -> tuple[str, int]:
    """Full name of a task, and the plan of a run of nothing else; raises as `find_workflow`."""
    full = _find("task", name, store.task_names(turn.unit))
    plan = read_plan(plan_of_task(full, store.task_facts(turn.unit, full)))
    kept = store.plan_id(turn.unit, plan.workflow, plan.version)
    if kept is None:
        kept = store.keep_plan(turn.unit, plan.workflow, plan.version, plan.document, turn.now)
    return full, kept


def plan_of_task(name: str, facts: dict[str, Any]) -> dict[str, Any]:
    """The plan of a single step, whose params are its inputs."""
    loom, _, short = name.partition("/")
    schema = facts["input"]
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
