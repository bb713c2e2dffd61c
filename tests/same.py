"""Whether a run in the store is as the naive interpreter says."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from tests.naive import Naive
from tests.written import Spot
from yarnloom.engine.queries import item_pages, run_graph
from yarnloom.engine.queries.runs import Look, run_record
from yarnloom.media_types import is_list_reference
from yarnloom.plan import Plan, compile_plan, read_plan
from yarnloom.plan.workflow_parts import Part
from yarnloom.service.render.parts import graph_json, items_json
from yarnloom.store import Database
from yarnloom.store.runs import run_lists
from yarnloom.store.workers import workflow_records

from tests.plans import Maker  # isort: skip

States = dict[str, tuple[str, str | None]]
PARAMS: dict[str, Any] = {"value": 3, "list": [7, 8, 9], "yes": True, "no": False}
SCHEMA: dict[str, Any] = {"type": "object", "properties": {name: {} for name in PARAMS}}


def document_of(
    maker: Maker, name: str, plan: Part, on_failure: Part | None, on_end: Part | None
) -> dict[str, Any]:
    """The JSON form of a random plan."""
    document, problems = compile_plan(
        "random", name, SCHEMA, plan, maker.loom._facts, on_failure=on_failure, on_end=on_end
    )
    assert not problems
    return document


def look(database: Database, number: int, ask: Callable[..., Any], *args: Any) -> Any:
    """What one of the questions of `run_graph` answers."""

    def answer(connection: Any) -> Any:
        row = run_lists.run(connection, number)
        assert row is not None
        plan = _plans.setdefault(
            (id(database), row["plan"]),
            read_plan(workflow_records.plan_document(connection, row["plan"])),
        )
        return ask(connection, plan, number, *args)

    return database.read(answer)


_plans: dict[tuple[int, int], Plan] = {}


def expanded(database: Database, value: Any) -> Any:
    """A value with every list in place of the reference to it."""
    if is_list_reference(value):
        return [
            expanded(database, json.loads(line)) for line in database.files.lines(value["list"])
        ]
    if isinstance(value, dict):
        return {name: expanded(database, one) for name, one in value.items()}
    return [expanded(database, one) for one in value] if isinstance(value, list) else value


def states(database: Database, number: int) -> States:
    """State and skip reason of everything in a run, by address; follow-ups where they began."""
    _plans.clear()
    found: States = {}
    _gather(database, number, graph_json(look(database, number, run_graph.graph)), found)
    return found


def _gather(database: Database, number: int, view: dict[str, Any], found: States) -> None:
    if view.get("begun") is False:
        return
    found[view["address"]] = (view["state"], view.get("skip_reason"))
    for inner in (*view.get("parts", ()), *view.get("follow_ups", {}).values()):
        _gather(database, number, inner, found)
    if view["kind"] == "each":
        page = items_json(look(database, number, item_pages.items, view["address"], (), 0, 10_000))
        for item in page["items"]:
            graph = look(database, number, run_graph.graph, item["address"])
            _gather(database, number, graph_json(graph), found)


def _no_plan(plan: int) -> Plan:
    raise AssertionError(f"of a run that has ended nothing moves, and plan {plan} is not needed")


def same_end(database: Database, number: int, naive: Naive) -> None:
    """All states, skip reasons, the output and the first failure are the same."""
    row = database.read(lambda connection: run_lists.run(connection, number))
    assert row is not None
    run = run_record(row, Look(0, _no_plan), {})
    assert naive.root.settled
    expected = "done" if naive.root.state == "skipped" else naive.root.state
    assert run.state == expected
    if expected == "done":
        assert expanded(database, run.output) == naive.root.output
        assert run.error is None
    if expected == "failed":
        assert run.error is not None
        assert run.error["step"].partition("/")[2] in naive.root.causes
    wanted = {
        one.address: (one.state, one.reason if one.state == "skipped" else None)
        for one in _shown(naive.root)
    }
    assert states(database, number) == wanted


def _shown(spot: Spot) -> list[Spot]:
    """Every spot that the engine shows: follow-ups only where they began."""
    found = [spot]
    for one in spot.inner:
        found += _shown(one)
    for one in spot.follow.values():
        if one.state != "waiting":
            found += _shown(one)
    return found
