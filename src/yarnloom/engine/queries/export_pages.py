"""Pages of a run to be exported: the items of an each with outcomes, and every step.

Everything here reads one consistent state, given as a reader's connection. No list holds more than
a page.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import NamedTuple

from yarnloom.engine.part_contents.inputs import value_along
from yarnloom.engine.queries import either_form, item_pages, run_graph
from yarnloom.engine.queries.log_records import command_record, effect_record
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.parts import (
    ExportedItem,
    ExportPage,
    ItemRecord,
    PartStanding,
    RunHead,
)
from yarnloom.engine.records.unreadable import Unreadable, readable
from yarnloom.engine.rules.states import PartState
from yarnloom.plan import FromParam, Node, Plan, address_in, item_key
from yarnloom.store import Connection, Row
from yarnloom.store.files import file_records
from yarnloom.store.runs import run_lists, step_queries


def items(
    connection: Connection,
    plan: Plan,
    number: int,
    address: str,
    states: tuple[str, ...],
    first: int,
    limit: int,
) -> ExportPage:
    """Return a page of an each's items: value, outcome and output of each, in order.

    Raises:
        NotFound: the address leads to no each.
    """
    outputs: dict[int, str | None] = {}
    page = item_pages.items(connection, plan, number, address, states, first, limit, None, outputs)
    exported = [
        _unreadable(item, number)
        if isinstance(item, Unreadable)
        else _exported(item, number, outputs.get(item.item))
        for item in page.items
    ]
    return ExportPage(exported, page.next)


def _exported(item: ItemRecord, number: int, output: str | None) -> ExportedItem:
    standing = item.standing
    part = standing if isinstance(standing, PartStanding) else None
    error = StepError() if part is None or part.error is None else part.error
    text = ": ".join(filter(None, (error.get("type"), error.get("message"))))
    begun = part is not None and part.state != PartState.WAITING
    return ExportedItem(
        value=item.value,
        line=None,
        item=item.item,
        name=item.name,
        address=f"{number}/{item.address}",
        state=standing.state,
        reason=standing.skip_reason,
        error=text or None,
        begun_at=part.started_at if part is not None and begun else None,
        ended_at=None if part is None else part.ended_at,
        output=None if output is None else json.loads(output),
    )


def _unreadable(item: Unreadable, number: int) -> ExportedItem:
    """Return an item that cannot be shown: with its name, and why."""
    index, name = int(str(item.kept["item"])), str(item.kept["name"])
    address, why = f"{number}/[{index}]", item.unreadable
    return ExportedItem(None, None, index, name, address, "unreadable", None, why, None, None, None)


def lines(connection: Connection, plan: Plan, number: int, address: str) -> Row | None:
    """Return what says on which lines of its source the items of an each begin.

    That is the value of the param that it goes through; None if it is no rows of a file.
    """
    node = run_graph.find(connection, plan, number, address).node
    if node.each is None or node.each.batch or not isinstance(node.each.over, FromParam):
        return None
    row = run_lists.run(connection, number)
    value = value_along(json.loads(row["params"]), node.each.over.path) if row else None
    known = isinstance(value, dict) and ("first_line" in value or "lines" in value)
    return value if known else None


def head(connection: Connection, plan: Plan, number: int) -> RunHead:
    """Return what there is once for a run: its plan, parts, commands, ledger and files."""
    return RunHead(
        plan=plan.document,
        graph=run_graph.graph(connection, plan, number),
        commands=readable(run_lists.commands(connection, number), command_record, "at", "what"),
        ledger=readable(run_lists.effects(connection, number), effect_record, "what"),
        files=file_records.files_of(connection, number),
    )


class RecordedStep(NamedTuple):
    """A step with its values and attempts, for the record of a run.

    Attributes:
        address: with the run's number.
        task: its task.
        row: its row, with input and output as JSON texts.
        attempts: rows of its attempts.
    """

    address: str
    task: str
    row: Row
    attempts: Sequence[Row]


def steps(
    connection: Connection, plan: Plan, number: int, after: int, limit: int
) -> tuple[list[RecordedStep | either_form.Unread], int | None]:
    """Return a page of the steps that came up, by id, and where the next page begins."""
    page = either_form.steps_behind(connection, plan, number, after, limit)
    if not page:
        return [], None
    with_rows = [row for _, row in page if not isinstance(row, either_form.Unread)]
    parts = _Parts(connection, plan)
    attempts: dict[int, list[Row]] = {}
    if with_rows:
        span = with_rows[0]["id"], with_rows[-1]["id"]
        for tried in step_queries.attempts_between(connection, number, *span):
            attempts.setdefault(tried["step"], []).append(tried)
    found: list[RecordedStep | either_form.Unread] = []
    for key, row in page:
        if isinstance(row, either_form.Unread):
            found.append(row)
        else:
            node = plan.nodes[row["node"]]
            address = parts.address(node, row["part"], number)
            found.append(RecordedStep(address, node.task, row, attempts.get(key, [])))
    return found, page[-1][0] if len(page) == limit else None


class _Parts:
    """Addresses of what stands in parts; each part is looked up once a page."""

    def __init__(self, connection: Connection, plan: Plan) -> None:
        self._connection = connection
        self._plan = plan
        self._keys: dict[int | None, dict[int, str]] = {None: {}}

    def address(self, node: Node, part: int, number: int) -> str:
        """The address of a node in a part."""
        return f"{number}/{address_in(self._plan, node, self._keys_of(part))}"

    def _keys_of(self, part: int | None) -> dict[int, str]:
        if part not in self._keys:
            assert part is not None
            row = run_lists.part(self._connection, part)
            keys = dict(self._keys_of(row["parent"]))
            if row["value"] is not None:
                keys[row["node"]] = item_key(row["name"], row["item"])
            self._keys[part] = keys
        return self._keys[part]
