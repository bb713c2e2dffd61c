"""Which items a question needs rows of: those of a page, of an address, or all of a run.

Items that are done have no rows of their own at first (`compact/segments`). Who reads a run asks
here what its question is about, and has these given rows before.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yarnloom.engine.parts.list_values import name_of
from yarnloom.engine.queries import export_pages, failure_kinds, run_graph, time_spent
from yarnloom.engine.queries.run_graph import Connection
from yarnloom.engine.rules.states import StepState
from yarnloom.errors import NotFound
from yarnloom.media_types import is_list_reference
from yarnloom.plan import Plan, item_name, split_address
from yarnloom.store import segment_records
from yarnloom.units import whole_number

Span = tuple[int, int | None]
"""Indexes of the first and the last item; None for all from the first on."""

ALL: Span = (0, None)


def needs(
    connection: Connection, plan: Plan, number: int, ask: Callable[..., Any], *args: Any
) -> list[Span]:
    """The items that have no rows and must have some before a question about a run is answered.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        ask: the question, of `run_graph`, `export_pages` and others.
        args: the arguments of the question, behind connection, plan and number.
    """
    if not segment_records.some_between(connection, number):
        return []
    known = _NEEDS.get(ask)
    spans = [ALL] if known is None else known(connection, plan, number, *args)
    return [span for span in spans if segment_records.some_between(connection, number, *span)]


def _nothing(*_: Any) -> list[Span]:
    return []


def _graph(
    connection: Connection, plan: Plan, number: int, address: str = "", at: int | None = None
) -> list[Span]:
    """The item in which a part lies; looking back also those that are shown since they ran then."""
    spans = _at(connection, plan, number, address)
    if at is not None:
        spans += _each(segment_records.under_way_at(connection, number, at, run_graph.ON_TOP))
    return spans


def _outliers(
    connection: Connection, plan: Plan, number: int, address: str, now: int, limit: int
) -> list[Span]:
    """The slowest items."""
    nodes = time_spent.nodes_of(plan, address)
    return _each(segment_records.slowest(connection, number, nodes, now, limit))


def _each(items: list[int]) -> list[Span]:
    return [(item, item) for item in items]


def _at(connection: Connection, plan: Plan, number: int, address: str = "") -> list[Span]:
    """The item in which an address lies, if it lies in one."""
    path = split_address(address.partition("#")[0]) if address.strip("/") else []
    outer = next((at for at, (_, key) in enumerate(path or []) if key is not None), None)
    if path is None or outer is None:
        return []
    try:
        place = run_graph.find(
            connection, plan, number, "/".join(label for label, _ in path[: outer + 1])
        )
    except NotFound:
        return []
    if place.row is None or place.node.each is None:
        return []
    key, facts = path[outer][1] or "", place.node.each
    if facts.name is None:
        index = whole_number(key)
        return [] if index is None else [(index, index)]
    source, name = run_graph.source_of(connection, place.row["id"]), item_name(key)
    if is_list_reference(source):
        return [ALL]
    return [(at, at) for at, value in enumerate(source) if name_of(value, facts.name) == name]


def _page(
    connection: Connection,
    plan: Plan,
    number: int,
    address: str,
    states: tuple[str, ...],
    first: int,
    limit: int,
    text: str | None = None,
) -> list[Span]:
    """The items of a page of an each."""
    if text is not None:
        return [ALL]
    if not states:
        return [(first, first + limit - 1)]
    if StepState.DONE not in states:
        return []
    place = run_graph.find(connection, plan, number, address)
    if place.row is None:
        return []
    last = segment_records.last_of(connection, number, place.row["id"], first, limit)
    return [] if last is None else [(first, last)]


_NEEDS: dict[Callable[..., Any], Callable[..., list[Span]]] = {
    failure_kinds.failures: _nothing,
    export_pages.head: _nothing,
    time_spent.spending: _nothing,
    time_spent.outliers: _outliers,
    run_graph.graph: _graph,
    run_graph.place_of: _at,
    run_graph.step: _at,
    run_graph.step_place: _at,
    run_graph.items: _page,
    export_pages.items: _page,
}
"""By question what tells its items; other questions need all."""
