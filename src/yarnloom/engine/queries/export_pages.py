"""What is taken out of a run, page by page: the items of an each with outcomes, and every step.

Everything here reads one consistent state, given as a reader's connection. No list holds more than
a page.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from json.encoder import encode_basestring
from typing import Any

from yarnloom.engine.queries import either_form, item_pages, run_graph
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
from yarnloom.secrets import has_sealed, mask
from yarnloom.store import file_queries, run_queries, step_queries
from yarnloom.units import iso_time

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
    outputs: dict[int, str | None] = {}
    page = item_pages.items(connection, plan, number, address, states, first, limit, None, outputs)
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
    """A page of the steps that came up, with values and attempts, each as JSON text, by id."""
    page = either_form.steps_behind(connection, plan, number, after, limit)
    if not page:
        return {"steps": [], "next": None}
    plain = [row for _, row in page if not isinstance(row, either_form.Unread)]
    parts = _Parts(connection, plan)
    attempts: dict[int, list[View]] = {}
    if plain:
        span = plain[0]["id"], plain[-1]["id"]
        for tried in step_queries.attempts_between(connection, number, *span):
            attempts.setdefault(tried["step"], []).append(attempt_view(tried))
    texts = StepTexts(number)
    found = []
    for key, row in page:
        if isinstance(row, either_form.Unread):
            found.append(texts.text(row))
        else:
            node = plan.nodes[row["node"]]
            address = parts.address(node, row["part"], number)
            found.append(_step_text(address, node, row, attempts.get(key, [])))
    return {"steps": found, "next": page[-1][0] if len(page) == limit else None}


def _step_text(address: str, node: Node, row: View, attempts: list[View]) -> str:
    """Write a step with values and attempts."""
    return _text(
        {
            "address": address,
            "task": node.task,
            **step_view(row),
            "input": mask(json.loads(row["input"])),
            "output": None if row["output"] is None else json.loads(row["output"]),
            "attempts": attempts,
        }
    )


def _text(view: View) -> str:
    return json.dumps(view, ensure_ascii=False, separators=(",", ":"))


def _number(value: float | None) -> str:
    return "null" if value is None else repr(value)


class StepTexts:
    """Writes steps of batches as JSON text: one as the views do, the others as that one.

    Args:
        run: the run's number.
    """

    # What differs, as numbers and texts that nothing else has.
    _READY, _BEGUN, _ENDED = (at * 10**15 for at in (31, 32, 33))
    _ID, _PID, _CPU, _MEMORY = (7_000_000_000_000_001 + at for at in range(4))
    _INPUT, _OUTPUT, _ADDRESS = "\x01input", "\x01output", "\x01address"

    def __init__(self, run: int) -> None:
        self._run = run
        self._shapes: dict[tuple[Any, ...], tuple[list[str], list[str]]] = {}

    def text(self, unread: either_form.Unread) -> str:
        """Return the step of an item as JSON text."""
        index, batch, (behind, began, took, pid, cpu, memory, output) = unread.place
        alike = (batch.each, batch.worker, batch.code_hash, batch.pool, batch.round)
        if alike not in self._shapes:
            self._shapes[alike] = self._shape_of(unread)
        literals, names = self._shapes[alike]
        given, address = unread.of.input_and_address(index)
        begun_at = batch.handed_at + began
        own = {
            "id": str(batch.attempt + behind),
            "pid": _number(pid),
            "cpu": _number(None if cpu is None else cpu / 1_000_000),
            "memory": _number(memory),
            "ready": f'"{iso_time(batch.handed_at)}"',
            "begun": f'"{iso_time(begun_at)}"',
            "ended": f'"{iso_time(begun_at + took)}"',
            "input": _text(mask(json.loads(given))) if has_sealed(given) else given,
            "output": str(output) if type(output) is int else _text(output),
            "address": encode_basestring(f"{self._run}/{address}"),
        }
        pieces = [literals[0]]
        for name, literal in zip(names, literals[1:], strict=True):
            pieces += (own[name], literal)
        return "".join(pieces)

    def _shape_of(self, unread: either_form.Unread) -> tuple[list[str], list[str]]:
        """The text of a step of a batch in pieces, and the name of what comes between them."""
        item = unread.expand()
        times = {"begun_at": self._BEGUN, "ended_at": self._ENDED}
        times |= {"ready_at": self._READY, "handed_at": self._READY}
        facts = {"id": self._ID, "pid": self._PID, "cpu": self._CPU, "memory": self._MEMORY}
        attempt = attempt_view({**item.attempt, **facts, **times})
        values = {"input": json.dumps(self._INPUT), "output": json.dumps(self._OUTPUT)}
        step = {**item.step, **values, **times, "started_at": self._BEGUN}
        text = _step_text(self._ADDRESS, unread.of.node, step, [attempt])
        marks = {
            str(self._ID): "id",
            str(self._PID): "pid",
            json.dumps(self._CPU / 1_000_000): "cpu",
            str(self._MEMORY): "memory",
            json.dumps(iso_time(self._READY)): "ready",
            json.dumps(iso_time(self._BEGUN)): "begun",
            json.dumps(iso_time(self._ENDED)): "ended",
            json.dumps(self._INPUT): "input",
            json.dumps(self._OUTPUT): "output",
            json.dumps(self._ADDRESS): "address",
        }
        pieces = re.split(f"({'|'.join(map(re.escape, marks))})", text)
        return pieces[::2], [marks[one] for one in pieces[1::2]]


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
