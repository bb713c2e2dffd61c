"""Schedules: list, show, make, change, remove, start now; and when an expression comes true."""

from __future__ import annotations

import uuid
from typing import Annotated

from fastapi import Header, Path, Query
from fastapi.responses import Response

from yarnloom.engine.commands import (
    ChangeSchedule,
    ListSchedules,
    MakeSchedule,
    RemoveSchedule,
    StartSchedule,
)
from yarnloom.engine.use_cases.planned_times import next_times
from yarnloom.plan.schedule_settings import SETTINGS
from yarnloom.protocol.run_answers import CheckingAnswer, RunAnswer
from yarnloom.protocol.setting_answers import NextTimes, ScheduleAnswer, ScheduleList
from yarnloom.protocol.setting_bodies import (
    ChangeScheduleBody,
    MakeScheduleBody,
    ScheduleSettings,
    StartScheduleBody,
)
from yarnloom.recurrence import step_remark
from yarnloom.service.group_commit import system_clock
from yarnloom.service.http.api_router import api_router
from yarnloom.service.route_helpers import Asker, TheCore, answer, json_answer, problems
from yarnloom.service.routes.runs import CHECK_WAIT, answer_to_start
from yarnloom.values import JsonObject

router = api_router("schedules")

ScheduleName = Annotated[str, Path(max_length=100)]
Reason = Annotated[str, Query(max_length=2_000, description="Why, for the record")]


@router.get("/schedules", response_model=ScheduleList)
async def list_schedules(core: TheCore) -> Response:
    """Every schedule, with its next time and its last result."""
    return answer(ScheduleList, {"schedules": await core.submit(ListSchedules())})


@router.get("/next-times", response_model=NextTimes, responses=problems(422))
async def list_next_times(
    cron: Annotated[str, Query(max_length=200)] = "",
    zone: Annotated[str, Query(max_length=100)] = "UTC",
    every: Annotated[str, Query(max_length=100, description="An interval in place of cron")] = "",
    first: Annotated[str, Query(max_length=100, description="The first time of every")] = "",
    count: Annotated[int, Query(ge=1, le=100)] = 5,
) -> Response:
    """When a schedule would come next, before it is saved."""
    settings = {"cron": cron, "zone": zone, "every": every, "first": first}
    times = next_times(settings, system_clock().now, count)
    remark = step_remark(cron)
    return answer(NextTimes, {**settings, "times": times, "remarks": [remark] if remark else []})


@router.post("/schedules", status_code=201, response_model=ScheduleAnswer, responses=problems(422))
async def make_schedule(core: TheCore, who: Asker, body: MakeScheduleBody) -> Response:
    """Make a schedule by hand; looms declare theirs when they are published."""
    if core.looms.pending:
        await core.looms.ready()
    command = MakeSchedule(body.name, _changes(body), who, body.reason, body.paused)
    return answer(ScheduleAnswer, await core.submit(command), 201)


@router.get("/schedules/{name}", response_model=ScheduleAnswer, responses=problems(404))
async def show_schedule(core: TheCore, name: ScheduleName) -> Response:
    """One schedule."""
    (schedule,) = await core.submit(ListSchedules(name))
    return answer(ScheduleAnswer, schedule)


@router.patch("/schedules/{name}", response_model=ScheduleAnswer, responses=problems(404, 422))
async def change_schedule(
    core: TheCore, who: Asker, name: ScheduleName, body: ChangeScheduleBody
) -> Response:
    """Change what is given, at once; it wins over what a loom declares."""
    if core.looms.pending:
        await core.looms.ready()
    command = ChangeSchedule(name, _changes(body), who, body.reason, body.paused, body.as_declared)
    return answer(ScheduleAnswer, await core.submit(command))


@router.delete(
    "/schedules/{name}", status_code=204, response_class=Response, responses=problems(404, 409)
)
async def remove_schedule(
    core: TheCore, who: Asker, name: ScheduleName, reason: Reason = ""
) -> Response:
    """Remove a schedule that no loom declares; its runs stay."""
    await core.submit(RemoveSchedule(name, who, reason))
    return Response(status_code=204)


@router.post(
    "/schedules/{name}/start",
    status_code=201,
    response_model=RunAnswer,
    responses={
        200: {"model": RunAnswer},
        202: {"model": CheckingAnswer},
        **problems(404, 409, 422),
    },
)
async def start_schedule(
    core: TheCore,
    who: Asker,
    name: ScheduleName,
    body: StartScheduleBody | None = None,
    idempotency_key: Annotated[str | None, Header(max_length=200)] = None,
) -> Response:
    """Start what the schedule starts, now; also while it is paused."""
    body = body or StartScheduleBody()
    key = body.key or idempotency_key or uuid.uuid4().hex
    if core.looms.pending:
        await core.looms.ready()
    command = StartSchedule(name, key, who, body.reason)
    return json_answer(*answer_to_start(await core.starts.start(command, CHECK_WAIT)))


def _changes(body: ScheduleSettings) -> JsonObject:
    """What a body sets."""
    given = body.model_fields_set & SETTINGS.keys()
    return {name: value for name, value in body.model_dump().items() if name in given}
