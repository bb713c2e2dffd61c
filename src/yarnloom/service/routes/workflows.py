"""Workflows and tasks: what is published, and publishing."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Query
from fastapi.responses import Response

from yarnloom.engine.commands import ListWorkers, Publish
from yarnloom.engine.queries.part_records import plan_record
from yarnloom.engine.records.unreadable import readable
from yarnloom.engine.records.workers import WorkerRecord
from yarnloom.engine.state import hourly_counts
from yarnloom.errors import NotFound, nearest
from yarnloom.plan import read_plan
from yarnloom.protocol.overview_answers import OverTimeAnswer
from yarnloom.protocol.publish_bodies import PublishBody
from yarnloom.protocol.workflow_answers import (
    PublishedWorkflows,
    TaskList,
    TaskWithCode,
    WorkflowList,
    WorkflowWithPlan,
)
from yarnloom.service.http.api_router import api_router
from yarnloom.service.render.parts import plan_json
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.store import Record, Row
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject

router = api_router("looms", changes=("publish",))


@router.post("/workflows", response_model=PublishedWorkflows, responses=problems(422, 503))
async def publish(core: TheCore, who: Asker, body: PublishBody) -> Response:
    """Make a loom's plans current, and its pools known; all of it, or nothing."""
    tasks = [task.model_dump(exclude_unset=True) for task in body.tasks]
    command = Publish(body.plans, tasks, who, body.pools, body.schedules)
    return answer(PublishedWorkflows, {"workflows": await core.submit(command)})


@router.get("/workflows", response_model=WorkflowWithPlan | WorkflowList, responses=problems(404))
async def workflows(
    core: TheCore,
    name: Annotated[
        str | None, Query(max_length=201, description="Only this one, with its plan")
    ] = None,
) -> Response:
    """The current version of every workflow."""
    if name is not None and core.looms.pending:
        await core.looms.ready()
    rows = await core.read(workflow_records.workflows)
    if name is None:
        found = readable(rows, _workflow, "name", "version")
        return answer(WorkflowList, {"workflows": found})
    row = _named("workflow", name, rows)
    plan = plan_record(read_plan(json.loads(row["document"])))
    return answer(WorkflowWithPlan, {**_workflow(row), "plan": plan_json(plan)})


@router.get("/workflows/over-time", response_model=OverTimeAnswer, responses=problems(404))
async def over_time(
    core: TheCore,
    name: Annotated[str, Query(max_length=201)],
    days: Annotated[int, Query(ge=1, le=366, description="How many, today among them")] = 7,
) -> Response:
    """How a workflow's runs and steps went over the last days, in UTC: how many, how long."""
    if core.looms.pending:
        await core.looms.ready()
    found = _named("workflow", name, await core.read(workflow_records.workflows))
    plan = read_plan(json.loads(found["document"]))
    found_days = await core.read(hourly_counts.over_days, plan, core.now(), days)
    return answer(OverTimeAnswer, found_days)


@router.get("/tasks", response_model=TaskWithCode | TaskList, responses=problems(404))
async def tasks(
    core: TheCore,
    name: Annotated[
        str | None, Query(max_length=201, description="Only this one, with types and code")
    ] = None,
    code: Annotated[
        str | None, Query(max_length=100, description="With `name`: the code of this hash")
    ] = None,
) -> Response:
    """Every task that was published, and which workers have it."""
    if name is not None and core.looms.pending:
        await core.looms.ready()
    rows = await core.read(workflow_records.tasks)
    workers = await core.submit(ListWorkers())
    if name is None:
        found = readable(rows, lambda row: _task(row, workers), "name")
        return answer(TaskList, {"tasks": found})
    row = _named("task", name, rows)
    facts = json.loads(row["facts"])
    wanted = code or facts["code_hash"]
    kept = await core.read(workflow_records.code, row["name"], wanted)
    if kept is None:
        raise NotFound(f"no code {wanted} of task {row['name']} was ever published or brought")
    shown = {"shown_code": wanted, "source": kept["source"], "seen_at": kept["seen_at"]}
    return answer(TaskWithCode, {**_task(row, workers), **shown})


def _named(what: str, name: str, rows: list[Record]) -> Record:
    """The row of a full name, or of a short one that is unique."""
    names = {row["name"]: row for row in rows}
    short = [row for row in rows if row["name"].partition("/")[2] == name]
    found = names.get(name) or (short[0] if len(short) == 1 else None)
    if found is None:
        raise NotFound(f"there is no {what} {name!r}{nearest(name, names)}")
    return found


def _workflow(row: Row) -> JsonObject:
    document = json.loads(row["document"])
    return {
        "name": row["name"],
        "version": row["version"],
        "params": document["params"],
        "tasks": sorted(document["tasks"]),
        "published_at": row["published_at"],
        "published_by": row["published_by"],
        "last_run": row["last_run"],
    }


def _task(row: Row, workers: list[WorkerRecord]) -> JsonObject:
    facts = json.loads(row["facts"])
    have = [
        {"name": worker.name, "code_hash": worker.tasks[row["name"]]}
        for worker in workers
        if row["name"] in worker.tasks
    ]
    return {**facts, "workers": have, "published_at": row["published_at"]}
