"""What is taken out of a run, page by page: the items of an each with outcomes, and every step.

Everything here reads one consistent state, given as a reader's connection. No list holds more than
a page.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from yarnloom.engine.queries import run_graph
from yarnloom.engine.queries.run_graph import Connection
from yarnloom.engine.queries.views import (
    View,
    attempt_view,
    command_view,
    effect_view,
    step_view,
    views_of,
)
from yarnloom.plan import Node, Plan, address_in, item_key
from yarnloom.secrets import mask
from yarnloom.store import file_queries, item_queries, run_queries, step_queries

PREFIX = "yarnloom."
OUTCOME = ("item", "name", "address", "state", "reason", "error", "begun_at", "ended_at", "output")
"""What is told of an item beside its value; as columns of a table each behind `PREFIX`."""


def items(
    connection: Connection,
    plan: Plan,
    number: int,
    address: str,
    states: tuple[str, ...],
    first: int,
    limit: int,
) -> View:
    """A page of an each's items: value, outcome and output of each, in order.

    Raises:
        NotFound: the address leads to no each.
    """
    page = run_graph.items(connection, plan, number, address, states, first, limit)
    place = run_graph.find(connection, plan, number, address)
    outputs: dict[int, str | None] = {}
    if page["items"] and place.row is not None:
        do = plan.nodes[place.node.children[0]]
        span = page["items"][0]["item"], page["items"][-1]["item"]
        last = do.children[-1] if do.children else do.index
        outputs = item_queries.outputs_between(connection, place.row["id"], do.index, last, *span)
    return {
        "items": [_exported(one, number, outputs.get(one["item"])) for one in page["items"]],
        "next": page["next"],
    }


def _exported(item: View, number: int, output: str | None) -> View:
    error = item.get("error") or {}
    text = ": ".join(filter(None, (error.get("type"), error.get("message"))))
    begun = item["state"] != "waiting" and item.get("started_at")
    return {
        "value": item["value"],
        "item": item["item"],
        "name": item["name"],
        "address": f"{number}/{item['address']}",
        "state": item["state"],
        "reason": item.get("skip_reason"),
        "error": text or None,
        "begun_at": begun or None,
        "ended_at": item.get("ended_at"),
        "output": None if output is None else json.loads(output),
    }


def head(connection: Connection, plan: Plan, number: int) -> View:
    """What there is once for a run: its plan, its parts, who gave which command, its ledger."""
    return {
        "plan": plan.document,
        "graph": run_graph.graph(connection, plan, number),
        "commands": views_of(run_queries.commands(connection, number), command_view, "at", "what"),
        "ledger": views_of(run_queries.effects(connection, number), effect_view, "what"),
        "files": file_queries.files_of(connection, number),
    }


def steps(connection: Connection, plan: Plan, number: int, after: int, limit: int) -> View:
    """A page of the steps that came up, with values and attempts, in the order of their ids."""
    rows = step_queries.steps_behind(connection, number, after, limit)
    if not rows:
        return {"steps": [], "next": None}
    parts = _Parts(connection, plan)
    attempts: dict[int, list[View]] = {}
    for row in step_queries.attempts_between(connection, number, rows[0]["id"], rows[-1]["id"]):
        attempts.setdefault(row["step"], []).append(attempt_view(row))
    found = [
        {
            "address": parts.address(plan.nodes[row["node"]], row["part"], number),
            "task": plan.nodes[row["node"]].task,
            **step_view(row),
            "input": mask(json.loads(row["input"])),
            "output": None if row["output"] is None else json.loads(row["output"]),
            "attempts": attempts.get(row["id"], []),
        }
        for row in rows
    ]
    return {"steps": found, "next": rows[-1]["id"] if len(rows) == limit else None}


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
            row = run_queries.part(self._connection, part)
            keys = dict(self._keys_of(row["parent"]))
            if row["value"] is not None:
                keys[row["node"]] = item_key(row["name"], row["item"])
            self._keys[part] = keys
        return self._keys[part]


def columns_of(values: Iterable[Any]) -> list[str]:
    """The columns for the values of items: the names of all fields, where they are objects."""
    return list(
        dict.fromkeys(name for value in values if isinstance(value, dict) for name in value)
    )


def cells_of(item: View, columns: list[str]) -> list[Any]:
    """An item as cells: its value's fields by column, what has no column together, its outcome."""
    value = item["value"]
    fields = value if isinstance(value, dict) else {}
    rest = {name: one for name, one in fields.items() if name not in columns}
    whole = rest or None if isinstance(value, dict) else value
    return [
        *(_cell(fields.get(name)) for name in columns),
        _cell(whole),
        *(_cell(item[name]) for name in OUTCOME),
    ]


def header_of(columns: list[str]) -> list[str]:
    """The names of these cells."""
    return [*columns, f"{PREFIX}value", *(f"{PREFIX}{name}" for name in OUTCOME)]


_FORMULAS = ("=", "+", "-", "@", "＝", "＋", "－", "＠")
_PASSED_OVER = " \t\r\n\v\f\0\xa0\ufeff\u200b\u200e\u200f"


def made_safe(cell: Any) -> Any:
    """Return a cell that no spreadsheet takes for a formula: an apostrophe before what could be."""
    # Spreadsheets pass over spaces, and over marks that nobody sees, before they look.
    if not isinstance(cell, str):
        return cell
    dangerous = cell.startswith(("\t", "\r")) or cell.lstrip(_PASSED_OVER).startswith(_FORMULAS)
    return f"'{cell}" if dangerous else cell


def _cell(value: Any) -> Any:
    """A value in a table: text as it is, null as nothing, else JSON."""
    if value is None or isinstance(value, str):
        return value or ""
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))
