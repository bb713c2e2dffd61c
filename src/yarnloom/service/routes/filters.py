"""Filters of the list of runs: saved by name, and what a list shows with one."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Path, Query
from fastapi.responses import Response

from yarnloom.engine.commands import DropFilter, ListPools, RunsInPool, SaveFilter
from yarnloom.engine.use_cases import saved_filters
from yarnloom.protocol.bodies import RunsWanted
from yarnloom.protocol.fields import FilterName
from yarnloom.protocol.setting_answers import FilterList, SavedFilter
from yarnloom.run_filters import RUN_FILTERS
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.store.runs import link_records, run_lists, step_queries
from yarnloom.store.workers import workflow_records
from yarnloom.units import micros, seconds

router = api_router("runs", "/filters", changes=("operate",))

Name = Annotated[FilterName, Path()]


@router.get("", response_model=FilterList)
async def list_filters(core: TheCore) -> Response:
    """The saved filters of the list of runs, by name."""
    rows = await core.read(link_records.filters)
    return answer(FilterList, {"filters": [saved_filters.filter_record(row) for row in rows]})


@router.put("/{name:path}", response_model=SavedFilter, responses=problems(409, 422))
async def save(core: TheCore, who: Asker, name: Name, body: RunsWanted) -> Response:
    """Save a filter by name, in place of the one that had the name before."""
    return answer(SavedFilter, await core.submit(SaveFilter(name, body.given, who)))


@router.delete("/{name:path}", status_code=204, responses=problems(404))
async def drop(
    core: TheCore,
    who: Asker,
    name: Name,
    reason: Annotated[str, Query(max_length=2_000, description="Why, for the record")] = "",
) -> Response:
    """Drop a saved filter."""
    await core.submit(DropFilter(name, who, reason))
    return Response(status_code=204)


async def filter_of(core: Core, wanted: RunsWanted, name: str | None = None) -> run_lists.RunFilter:
    """Which runs are wanted; fields that are given count more than those of the saved filter.

    Raises:
        NotFound: no filter is saved by that name, or there is no such pool.
    """
    if name is not None:
        wanted = await _merged(core, wanted, name)
    values: dict[str, str | int | bool] = {}
    for field in RUN_FILTERS:
        value = getattr(wanted, field.name)
        if value is None or value is False or (field.name == "text" and not value):
            continue
        if field.kind == "span":
            begin = core.now() - round(seconds(value) * 1_000_000)
            values["since"] = max(begin, int(values.get("since", begin)))
        else:
            values[field.name] = micros(value) or 0 if field.kind == "time" else value
    if "pool" in values:
        name = str(values["pool"])
        await core.submit(ListPools(name))  # refuses one that is not there
        runs = await core.read(step_queries.runs_in_pool, name)
        values["pool"] = json.dumps(sorted(runs | await core.submit(RunsInPool(name))))
    if "workflow" in values:
        values["workflow"] = await full_name(core, str(values["workflow"]))
    return run_lists.RunFilter(tuple(map(str, wanted.states)), values)


async def _merged(core: Core, wanted: RunsWanted, name: str) -> RunsWanted:
    kept = {row["name"]: row for row in await core.read(link_records.filters)}
    if name not in kept:
        raise saved_filters.unknown(name, list(kept))
    return RunsWanted(**(saved_filters.filter_record(kept[name]).wanted | wanted.given))


async def full_name(core: Core, name: str) -> str:
    """The full name for a short one; a name that is not known stays as it is and finds nothing."""
    if "/" in name:
        return name
    known = await core.read(workflow_records.workflow_names)
    return next((full for full in known if full.partition("/")[2] == name), name)
