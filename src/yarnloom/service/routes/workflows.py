"""Workflows and tasks: what is published, and publishing."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import Query
from fastapi.responses import Response

from yarnloom.engine.commands import (
    ListWorkers,
    Publish,
)
from yarnloom.engine.queries.views import (
    Row,
    plan_view,
    views_of,
)
from yarnloom.engine.state import hourly_counts
from yarnloom.errors import NotFound, nearest
from yarnloom.plan import read_plan
from yarnloom.protocol.overview_answers import (
    OverTimeAnswer,
)
from yarnloom.protocol.publish_bodies import (
    PublishBody,
)
from yarnloom.service.api_router import api_router
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.store import workflow_queries
from yarnloom.units import (
    iso_time,
)

router = api_router("looms")


@router.post("/workflows", responses=problems(422, 503))
async def publish(core: TheCore, who: Asker, body: PublishBody) -> Response:
    """Make a loom's plans current, and its pools known; all of it, or nothing."""
    tasks = [task.model_dump(exclude_unset=True) for task in body.tasks]
    command = Publish(body.plans, tasks, who, body.pools, body.schedules)
    return answer({"workflows": await core.submit(command)})


@router.get("/workflows", responses=problems(404))
async def workflows(
    core: TheCore,
    name: Annotated[
        str | None, Query(max_length=201, description="Only this one, with its plan")
    ] = None,
) -> Response:
    """The current version of every workflow."""
    rows = await core.read(workflow_queries.workflows)
    if name is None:
        return answer({"workflows": views_of(rows, _workflow, "name", "version")})
    found = _named("workflow", name, rows)
    plan = read_plan(json.loads(found["document"]))
    return answer({**_workflow(found), "plan": plan_view(plan)})


@router.get("/workflows/over-time", response_model=OverTimeAnswer, responses=problems(404))
async def over_time(
    core: TheCore,
    name: Annotated[str, Query(max_length=201)],
    days: Annotated[int, Query(ge=1, le=366, description="How many, today among them")] = 7,
) -> Response:
    """How a workflow's runs and steps went over the last days, in UTC: how many, how long."""
    found = _named("workflow", name, await core.read(workflow_queries.workflows))
    plan = read_plan(json.loads(found["document"]))
    return answer(await core.read(hourly_counts.over_days, plan, core.now(), days))


@router.get("/tasks", responses=problems(404))
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
    rows = await core.read(workflow_queries.tasks)
    workers = await core.submit(ListWorkers())
    if name is None:
        return answer({"tasks": views_of(rows, lambda row: _task(row, workers), "name")})
    row = _named("task", name, rows)
    facts = json.loads(row["facts"])
    wanted = code or facts["code_hash"]
    kept = await core.read(workflow_queries.code, row["name"], wanted)
    if kept is None:
        raise NotFound(f"no code {wanted} of task {row['name']} was ever published or brought")
    types = {"input": facts["input"], "output": facts["output"]}
    shown = {"shown_code": wanted, "source": kept["source"], "seen_at": iso_time(kept["seen_at"])}
    return answer({**_task(row, workers), **types, **shown})


def _named(what: str, name: str, rows: list[dict[str, Any]]) -> dict[str, Any]:
    """The row of a full name, or of a short one that is unique."""
    names = {row["name"]: row for row in rows}
    short = [row for row in rows if row["name"].partition("/")[2] == name]
    found = names.get(name) or (short[0] if len(short) == 1 else None)
    if found is None:
        raise NotFound(f"there is no {what} {name!r}{nearest(name, names)}")
    return found


def _workflow(row: Row) -> dict[str, Any]:
    document = json.loads(row["document"])
    return {
        "name": row["name"],
        "version": row["version"],
        "params": document["params"],
        "tasks": sorted(document["tasks"]),
        "published_at": iso_time(row["published_at"]),
        "published_by": row["published_by"],
        "last_run": row["last_run"],
    }


def _task(row: Row, workers: list[dict[str, Any]]) -> dict[str, Any]:
    facts = json.loads(row["facts"])
    have = [
        {"name": worker["name"], "code_hash": worker["tasks"][row["name"]]}
        for worker in workers
        if row["name"] in worker["tasks"]
    ]
    return {**facts, "workers": have, "published_at": iso_time(row["published_at"])}
