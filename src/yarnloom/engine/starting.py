"""Starting a run, once for each start key."""

from __future__ import annotations

import json
from typing import Any

from yarnloom.engine.admitting import count_in, is_busy, make_room
from yarnloom.engine.commands import RerunRun, Started, StartRun
from yarnloom.engine.data_commands import Unchecked
from yarnloom.engine.filing import (
    checked_rows,
    rows_of,
    rows_to_check,
    unknown_files,
    use_named,
)
from yarnloom.engine.pooling import refuse_unknown_pools
from yarnloom.engine.publishing import find_task, find_workflow
from yarnloom.engine.states import RunState
from yarnloom.engine.turn import RUN_DEADLINE_DUE, Turn
from yarnloom.engine.viewing import present
from yarnloom.engine.weaving import Weave
from yarnloom.errors import InvalidInput, StartKeyTaken
from yarnloom.plan import Constant, FromParam, Plan
from yarnloom.plan.marked import as_given, has_files, seal, with_lists
from yarnloom.plan.schemas import problems_of, with_defaults
from yarnloom.secrets import mask
from yarnloom.store import RunRow
from yarnloom.store import writing as store
from yarnloom.values import decode, encode, fingerprint


def start_run(turn: Turn, command: StartRun) -> Started | Unchecked:
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
    plan = turn.plan_by_id(plan_id)
    schema = plan.params_schema
    files = has_files(schema)
    given = as_given(command.params, schema) if files else command.params
    marked = seal(given, schema, turn.vault.mark)
    if earlier := store.find_start(turn.unit, scope, command.key):
        return _same_start(turn, command, marked, *earlier)
    problems = problems_of(command.params, schema)
    if files and not problems:
        problems = unknown_files(turn, command.params, schema)
    if problems:
        raise InvalidInput(
            f"the params do not fit {'task' if command.task else 'workflow'} {workflow!r}; "
            "nothing was started",
            problems=problems,
        )
    refuse_unknown_pools(turn, [plan])
    filled = with_defaults(command.params, schema)
    if files:
        if unchecked := rows_to_check(turn, filled, schema):
            return Unchecked(tuple(unchecked))
        filled = with_lists(filled, schema, lambda one, marked: _list_for(turn, one, marked))
    params = encode(seal(filled, schema, turn.vault.seal), "params")
    busy = is_busy(turn, plan)
    deadline = None if plan.deadline is None else turn.now + round(plan.deadline * 1_000_000)
    run = turn.unit.runs.add(
        RunRow(
            number=turn.unit.new_id("runs"),
            plan=plan_id,
            workflow=workflow,
            version=plan.version,
            params=params,
            share=command.share or _share_of(plan, decode(params)),
            tags=json.dumps(command.tags),
            start_key=command.key,
            started_by=command.who,
            created_at=turn.now,
            start_at=None,
            task=workflow if command.task else None,
            deadline_at=deadline,
            priority=command.priority,
            state=RunState.QUEUED,
            entered=int(not busy),
        )
    )
    store.keep_start(turn.unit, scope, command.key, run.number, fingerprint(marked), turn.now)
    store.log_command(turn.unit, turn.now, command.who, "start", run.number, "")
    if deadline is not None:
        turn.remind(RUN_DEADLINE_DUE, deadline)
    count_in(turn, run)
    root = Weave(turn, run).begin()
    if busy:
        make_room(turn, run, plan)
    use_named(turn, run.number, params)
    turn.changed.add(run.number)
    return Started(present(turn, run, root), created=True)


def _list_for(turn: Turn, value: dict[str, Any], marked: dict[str, Any]) -> dict[str, Any]:
    found = checked_rows(turn, rows_of("", value, marked))
    assert found is not None, "what is not checked was told before"
    return found


def rerun(turn: Turn, command: RerunRun) -> Started | Unchecked:
    """Start the workflow of a run, as it is now, with the run's params and some changed.

    Raises:
        NotFound: there is no such run, or its workflow is not published any more.
        InvalidInput: the params do not fit; every problem is named.
    """
    run = turn.run(command.run)
    params = turn.vault.open(json.loads(run.params))
    started = start_run(
        turn,
        StartRun(
            workflow=run.task or run.workflow,
            params={**params, **command.changes},
            key=command.key,
            who=command.who,
            priority=run.priority,
            share=run.share,
            tags=tuple(json.loads(run.tags)),
            task=run.task is not None,
        ),
    )
    if isinstance(started, Started) and started.created:
        log = store.log_command
        log(turn.unit, turn.now, command.who, "rerun", run.number, command.reason)
    return started


def _share_of(plan: Plan, params: dict[str, Any]) -> str:
    """Whom fair turns of a run are counted for, as its workflow says; empty for itself."""
    value: Any = None
    match plan.share:
        case Constant(value):
            pass
        case FromParam(path):
            value = params
            for key in path:
                value = value.get(key) if isinstance(value, dict) else None
    return "" if value is None else str(value)[:200]


def _same_start(
    turn: Turn, command: StartRun, marked: Any, number: int, params_hash: str
) -> Started:
    run = turn.run(number)
    if params_hash != fingerprint(marked):
        raise StartKeyTaken(
            f"the start key {command.key!r} belongs to run {number}, which was started with other "
            "params. Use another key for another run.",
            run=number,
            first=mask(json.loads(run.params)),
            given=mask(marked),
        )
    return Started(present(turn, run), created=False)
