"""Runs, steps and attempts as the API shows them: plain JSON objects, made from rows."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from yarnloom.engine.states import PartState, StepState
from yarnloom.plan import Constant, FromOutput, FromParam, Kind, Node, Plan

View = dict[str, Any]

_COUNTED = ("ready", "running", "backing_off", "resting", "paused")
_ENDED = ("done", "failed", "cancelled", "skipped")


def moment(micros: int | None) -> str | None:
    """A time as RFC 3339 text in UTC, to the microsecond."""
    if micros is None:
        return None
    seconds, rest = divmod(micros, 1_000_000)
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%dT%H:%M:%S}.{rest:06d}Z"


def run_view(row: Mapping[str, Any]) -> View:
    """A run, from its row and the counters of its root part."""
    return {
        "number": row["number"],
        "workflow": row["workflow"],
        "version": row["version"],
        "state": str(row["state"]),
        "stop_asked": row["stop"] and str(row["stop"]),
        "params": json.loads(row["params"]),
        "output": _loads(row["output"]),
        "error": _loads(row["error"]),
        "progress": progress(row),
        "priority": row["priority"],
        "share": row["share"] or None,
        "tags": json.loads(row["tags"]),
        "key": row["start_key"],
        "started_by": row["started_by"],
        "round": row["round"],
        "created_at": moment(row["created_at"]),
        "start_at": moment(row["start_at"]),
        "started_at": moment(row["started_at"]),
        "ended_at": moment(row["ended_at"]),
    }


def progress(row: Mapping[str, Any]) -> View:
    """How far a part is: its children by state."""
    total = row.get("total") or 0
    counts = {name: row.get(name) or 0 for name in (*_COUNTED, *_ENDED)}
    return {"total": total, "waiting": total - sum(counts.values()), **counts}


def plan_view(plan: Plan) -> View:
    """A plan as a tree of parts, without states."""
    return _node_view(plan, plan.nodes[0], None)


def graph_view(
    plan: Plan, parts: Sequence[Mapping[str, Any]], steps: Sequence[Mapping[str, Any]]
) -> View:
    """A run's parts as a tree, each with its state.

    Children that never began have no row; they share what became of the rest of their part.
    """
    rows = {row["node"]: row for row in (*parts, *steps)}
    return _node_view(plan, plan.nodes[0], rows)


def _node_view(plan: Plan, node: Node, rows: dict[int, Mapping[str, Any]] | None) -> View:
    view: View = {
        "kind": str(node.kind),
        "label": node.label,
        "address": plan.address(node) if node.parent is not None else "",
    }
    if node.kind is Kind.STEP:
        view["task"] = node.task
        view["inputs"] = {name: _source(plan, source) for name, source in node.inputs.items()}
    else:
        view["parts"] = [_node_view(plan, plan.nodes[child], rows) for child in node.children]
    if rows is not None:
        row = rows.get(node.index)
        view |= step_view(row) if row and node.kind is Kind.STEP else _part_state(row)
        if row is None:
            view |= _unborn(plan, node, rows)
    return view


def _source(plan: Plan, source: Constant | FromParam | FromOutput) -> View:
    match source:
        case Constant(value):
            return {"constant": value}
        case FromParam(path):
            return {"param": ".".join(path)}
        case FromOutput(node):
            return {"output": plan.address(plan.nodes[node])}


def _part_state(row: Mapping[str, Any] | None) -> View:
    if row is None:
        return {"state": str(PartState.WAITING)}
    return {
        "state": str(row["state"]),
        "progress": progress(row),
        "started_at": moment(row["started_at"]),
        "ended_at": moment(row["ended_at"]),
    }


def _unborn(plan: Plan, node: Node, rows: dict[int, Mapping[str, Any]]) -> View:
    """The state of a part without a row: that of what became of the rest around it."""
    while node.parent is not None:
        around = rows.get(node.parent)
        if around is not None:
            rest = around["rest_state"]
            if rest is None:
                break
            return {"state": str(rest), "skip_reason": around["rest_reason"]}
        node = plan.nodes[node.parent]
    return {"state": str(StepState.WAITING)}


def step_view(row: Mapping[str, Any]) -> View:
    """A step's state, times and error; without its input and output.

    The worker is the one that has it in hand, or had it when it ended.
    """
    held = row["open"] is not None or row["ended_at"] is not None
    return {
        "state": str(row["state"]),
        "stop_asked": row["stop"],
        "skip_reason": row["skip_reason"],
        "worker": row["worker_name"] if held else None,
        "attempts": row["attempts"],
        "tries": row["tries"],
        "losses": row["losses"],
        "error": _loads(row["error"]),
        "ready_at": moment(row["ready_at"]),
        "started_at": moment(row["started_at"]),
        "ended_at": moment(row["ended_at"]),
    }


def attempt_view(row: Mapping[str, Any]) -> View:
    """One attempt."""
    state = row["outcome"] or ("running" if row["begun_at"] else "handed out")
    return {
        "id": row["id"],
        "number": row["number"],
        "tries": row["try"],
        "state": str(state),
        "outcome": row["outcome"] and str(row["outcome"]),
        "error": _loads(row["error"]),
        "worker": row["worker_name"],
        "pid": row["pid"],
        "cpu_seconds": None if row["cpu"] is None else row["cpu"] / 1_000_000,
        "memory_bytes": row["memory"],
        "code_hash": row["code_hash"],
        "ready_at": moment(row["ready_at"]),
        "handed_at": moment(row["handed_at"]),
        "begun_at": moment(row["begun_at"]),
        "ended_at": moment(row["ended_at"]),
    }


def command_view(row: Mapping[str, Any]) -> View:
    """One entry of the command log."""
    return {
        "at": moment(row["at"]),
        "who": row["who"],
        "what": row["what"],
        "reason": row["reason"],
        "detail": json.loads(row["detail"]),
    }


def _loads(text: str | None) -> Any:
    return None if text is None else json.loads(text)
