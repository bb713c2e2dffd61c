"""Starting a run, once for each start key."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.commands import Started, StartRun
from yarnloom.engine.publishing import find_task, find_workflow
from yarnloom.engine.states import RunState
from yarnloom.engine.turn import Turn
from yarnloom.engine.views import run_view
from yarnloom.engine.weaving import Weave
from yarnloom.errors import InvalidInput, StartKeyTaken
from yarnloom.plan.schemas import problems_of, with_defaults
from yarnloom.store import PartRow, RunRow
from yarnloom.store import writing as store
from yarnloom.values import encode, fingerprint


def start_run(turn: Turn, command: StartRun) -> Started:
    """Make a run, and what it begins with ready.

    Raises:
        NotFound: there is no such workflow, or task.
        InvalidInput: the params do not fit; every problem is named.
        StartKeyTaken: the key belongs to a run with other params.
    """
    find = find_task if command.task else find_workflow
    workflow, plan_id = find(turn, command.workflow)
    # A task and a workflow may have one name; their keys are apart.
    scope = f"task {workflow}" if command.task else workflow
    if earlier := store.find_start(turn.unit, scope, command.key):
        return _same_start(turn, command, *earlier)
    plan = turn.plan_by_id(plan_id)
    if problems := problems_of(command.params, plan.params_schema):
        raise InvalidInput(
            f"the params do not fit {'task' if command.task else 'workflow'} {workflow!r}; "
            "nothing was started",
            problems=problems,
        )
    params = encode(with_defaults(command.params, plan.params_schema), "params")
    run = turn.unit.runs.add(
        RunRow(
            number=turn.unit.new_id("runs"),
            plan=plan_id,
            workflow=workflow,
            version=plan.version,
            params=params,
            share=command.share,
            tags=json.dumps(command.tags),
            start_key=command.key,
            started_by=command.who,
            created_at=turn.now,
            start_at=None,
            task=workflow if command.task else None,
            priority=command.priority,
            state=RunState.QUEUED,
        )
    )
    params_hash = fingerprint(command.params)
    store.keep_start(turn.unit, scope, command.key, run.number, params_hash, turn.now)
    store.log_command(turn.unit, turn.now, command.who, "start", run.number, "")
    root = Weave(turn, run).begin()
    turn.changed.add(run.number)
    return Started(present(turn, run, root), created=True)


def present(turn: Turn, run: RunRow, root: PartRow | None = None) -> dict[str, Any]:
    """The run as the API shows it, from inside the transaction.

    Args:
        root: its root part, where it is at hand.
    """
    root = root or turn.unit.parts.one("run = ? AND parent IS NULL", run.number)
    counters = {name: getattr(root, name) for name in root.__slots__} if root else {}
    facts = {name: getattr(run, name) for name in run.__slots__}
    decided = {"outcome": root and root.outcome, "size": root.size if root else 0}
    return run_view({**counters, **facts, **decided})


def _same_start(turn: Turn, command: StartRun, number: int, params_hash: str) -> Started:
    run = turn.run(number)
    if params_hash != fingerprint(command.params):
        raise StartKeyTaken(
            f"the start key {command.key!r} belongs to run {number}, which was started with other "
            "params. Use another key for another run.",
            run=number,
            first=json.loads(run.params),
            given=command.params,
        )
    return Started(present(turn, run), created=False)
