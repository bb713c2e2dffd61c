"""Which items a question needs rows of: those of a page, of an address, or all of a run.

Items that are done have no rows of their own at first (`folding`). Who reads a run asks here what
its question is about, and has these given rows before.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yarnloom.engine import exporting, failing, looking
from yarnloom.engine.items import item_of
from yarnloom.engine.looking import Connection
from yarnloom.engine.states import StepState
from yarnloom.errors import NotFound
from yarnloom.media import is_list_reference
from yarnloom.plan import Plan, item_name, split_address
from yarnloom.store import segments
from yarnloom.units import whole_number

Span = tuple[int, int | None]
"""Indexes of the first and the last item; None for all from the first on."""

ALL: Span = (0, None)


def needs(
    connection: Connection, plan: Plan, number: int, ask: Callable[..., Any], *args: Any
) -> Span | None:
    """The items that must have rows before a question about a run is answered; None for none.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        ask: the question, of `looking`, `exporting` and others.
        args: what it is asked with, behind connection, plan and number.
    """
    if not segments.some_between(connection, number):
        return None
    known = _NEEDS.get(ask)
    span = ALL if known is None else known(connection, plan, number, *args)
    return span if span and segments.some_between(connection, number, *span) else None


def _nothing(*_: Any) -> None:
    return None


def _graph(
    connection: Connection, plan: Plan, number: int, address: str = "", at: int | None = None
) -> Span | None:
    return _at(connection, plan, number, address) if at is None else ALL


def _at(connection: Connection, plan: Plan, number: int, address: str = "") -> Span | None:
    """The item in which an address lies, if it lies in one."""
    path = split_address(address.partition("#")[0]) if address.strip("/") else []
    outer = next((at for at, (_, key) in enumerate(path or []) if key is not None), None)
    if path is None or outer is None:
        return None
    labels = "/".join(label for label, _ in path[: outer + 1])
    try:
        place = looking.find(connection, plan, number, labels)
    except NotFound:
        return None
    key = path[outer][1] or ""
    if place.row is None or place.node.each is None:
        return None
    if place.node.each.name is None:
        index = whole_number(key)
        return None if index is None else (index, index)
    source, name = looking.source_of(connection, place.row["id"]), item_name(key)
    if is_list_reference(source):
        return ALL
    for index, value in enumerate(source):
        if item_of(value, place.node.each)[1] == name:
            return index, index
    return None


def _page(
    connection: Connection,
    plan: Plan,
    number: int,
    address: str,
    states: tuple[str, ...],
    first: int,
    limit: int,
    text: str | None = None,
) -> Span | None:
    """The items of a page of an each."""
    if text is not None:
        return ALL
    if not states:
        return first, first + limit - 1
    if StepState.DONE not in states:
        return None
    place = looking.find(connection, plan, number, address)
    if place.row is None:
        return None
    last = segments.last_of(connection, number, place.row["id"], first, limit)
    return None if last is None else (first, last)


_NEEDS: dict[Callable[..., Any], Callable[..., Span | None]] = {
    failing.failures: _nothing,
    exporting.head: _nothing,
    looking.graph: _graph,
    looking.place_of: _at,
    looking.step: _at,
    looking.step_place: _at,
    looking.items: _page,
    exporting.items: _page,
}
"""By question what tells its items; other questions need all."""
