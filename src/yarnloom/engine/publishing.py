"""Publishing: a loom's plans become the current versions of its workflows."""

from __future__ import annotations

from typing import Any

from yarnloom.engine.commands import Publish
from yarnloom.engine.turn import Turn
from yarnloom.errors import InvalidInput, NotFound, PlanError, Problem, nearest
from yarnloom.plan import Plan, read_plan
from yarnloom.store import writing as store


def publish(turn: Turn, command: Publish) -> list[dict[str, Any]]:
    """Check every plan, then keep all of them.

    Returns:
        For each workflow its name, its version, and whether the version is a new one.

    Raises:
        InvalidInput: a plan has mistakes; nothing is published.
    """
    plans = _read(command.plans)
    answer = []
    for plan in plans:
        known = store.plan_id(turn.unit, plan.workflow, plan.version)
        kept = store.keep_plan(turn.unit, plan.workflow, plan.version, plan.document, turn.now)
        new = turn.memory.workflows.get(plan.workflow) != kept
        if new:
            store.make_current(turn.unit, plan.workflow, kept, turn.now, command.who)
            turn.memory.workflows[plan.workflow] = kept
        turn.plans[kept] = plan
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
    if name in known:
        return name, known[name]
    matches = [full for full in known if full.partition("/")[2] == name]
    if len(matches) == 1:
        return matches[0], known[matches[0]]
    if matches:
        raise InvalidInput(
            f"several looms have a workflow {name!r}; say which: {', '.join(sorted(matches))}",
            problems=[Problem("/workflow", "ambiguous")],
        )
    names = list(known) if "/" in name else [full.partition("/")[2] for full in known]
    hint = nearest(name, names)
    if not known:
        hint = "; none is published yet: `yarnloom publish MODULE:LOOM`"
    raise NotFound(f"there is no workflow {name!r}{hint}")
