"""Pools: list, show, make, change, remove."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query
from fastapi.responses import Response

from yarnloom.engine.commands import (
    ChangePool,
    ListPools,
    MakePool,
    PoolQueue,
    Recently,
    RemovePool,
)
from yarnloom.engine.records.settings import PoolWaiter
from yarnloom.protocol.setting_answers import PoolAnswer, PoolList, PoolUse
from yarnloom.protocol.setting_bodies import ChangePoolBody, MakePoolBody, PoolSettings
from yarnloom.service.http.api_router import api_router
from yarnloom.service.render.reasons import reason_json
from yarnloom.service.render.runs import plain_json
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.store.runs import step_queries
from yarnloom.values import JsonObject

router = api_router("pools", "/pools")

WAITS_SHOWN = 10
_OF_WAITER = tuple(PoolWaiter.__slots__)

PoolName = Annotated[str, Path(max_length=100)]
Reason = Annotated[str, Query(max_length=2_000, description="Why, for the record")]


@router.get("", response_model=PoolList)
async def list_pools(core: TheCore) -> Response:
    """Every pool: its limits and where they come from, and how it is used now."""
    return answer(PoolList, {"pools": await core.submit(ListPools())})


@router.post("", status_code=201, response_model=PoolAnswer, responses=problems(409, 422))
async def make_pool(core: TheCore, who: Asker, body: MakePoolBody) -> Response:
    """Make a pool by hand; looms declare theirs when they are published."""
    command = MakePool(body.name, _changes(body), who, body.reason)
    return answer(PoolAnswer, await core.submit(command), 201)


@router.get("/{name}", response_model=PoolAnswer, responses=problems(404))
async def show_pool(core: TheCore, name: PoolName) -> Response:
    """One pool."""
    (pool,) = await core.submit(ListPools(name))
    return answer(PoolAnswer, pool)


@router.get("/{name}/use", response_model=PoolUse, responses=problems(404))
async def pool_use(core: TheCore, name: PoolName) -> Response:
    """How full a pool was in each minute of the last hour, and which runs wait for it."""
    minutes = await core.submit(Recently(name))
    waits = await core.read(step_queries.waiting_in_pool, name, WAITS_SHOWN)
    waiting = await core.submit(PoolQueue(name))
    queue = [
        {**plain_json(waiter, _OF_WAITER), "reasons": [reason_json(why) for why in waiter.reasons]}
        for waiter in waiting.waiters
    ]
    by_priority = {str(priority): steps for priority, steps in waiting.by_priority.items()}
    facts = {"more": waiting.more, "by_priority": by_priority}
    return answer(PoolUse, {"minutes": minutes, "waits": waits, "queue": queue, **facts})


@router.patch("/{name}", response_model=PoolAnswer, responses=problems(404, 422))
async def change_pool(core: TheCore, who: Asker, name: PoolName, body: ChangePoolBody) -> Response:
    """Change what is given, at once; it wins over what looms declare."""
    command = ChangePool(name, _changes(body), who, body.reason, body.paused, body.as_declared)
    return answer(PoolAnswer, await core.submit(command))


@router.delete("/{name}", status_code=204, response_class=Response, responses=problems(404, 409))
async def remove_pool(core: TheCore, who: Asker, name: PoolName, reason: Reason = "") -> Response:
    """Remove a pool that no step names."""
    await core.submit(RemovePool(name, who, reason))
    return Response(status_code=204)


def _changes(body: PoolSettings) -> JsonObject:
    """What a body sets; null is a setting, too: no limit."""
    given = body.model_fields_set & {"limit", "rate", "note"}
    return {name: value for name, value in body.model_dump().items() if name in given}
