"""Parts, steps and attempts as the API shows them: plain JSON objects, made from rows."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.queries.each_boxes import Inside
from yarnloom.engine.rules.states import PartState, SkipReason, StepState
from yarnloom.plan import (
    NOT_GIVEN,
    ON_FAILURE,
    Constant,
    FromFailure,
    FromFailures,
    FromItem,
    FromOutput,
    FromParam,
    FromPlannedAt,
    Kind,
    Node,
    Plan,
    Source,
    address_in,
    item_key,
)
from yarnloom.secrets import mask
from yarnloom.units import iso_time

View = dict[str, Any]
Row = Mapping[str, Any]

_COUNTED = ("ready", "running", "backing_off", "resting", "paused")
_ENDED = ("done", "failed", "cancelled", "skipped")


def counts(row: Row) -> View:
    """The children of a part by state. Items in which nothing has begun wait."""
    total = row.get("total") or 0
    found = {name: row.get(name) or 0 for name in (*_COUNTED, *_ENDED)}
    found["running"] -= row.get("idle") or 0
    return {"total": total, "waiting": total - sum(found.values()), **found}


def plan_view(plan: Plan) -> View:
    """A plan as a tree of parts, without states."""
    return Tree(plan).view(plan.nodes[0])


def views_of(rows: Iterable[Row], view: Callable[[Row], View], *keep: str) -> list[View]:
    """Return the view of every row; one that cannot be shown is marked, and the others are whole.

    Args:
        rows: of one kind.
        view: makes a view of a row.
        keep: the columns by which a row is known, shown also of one that cannot be.
    """
    found = []
    for row in rows:
        try:
            found.append(view(row))
        except Exception as error:
            text = f"this record cannot be shown: {type(error).__name__}: {error}"[:300]
            found.append({**{name: row[name] for name in keep}, "unreadable": text})
    return found


def _is_not_needed(name: str, view: View) -> bool:
    """Whether a follow-up that has not begun never will: nothing failed, or all has ended."""
    ended_well = name == ON_FAILURE and view.get("state") in (StepState.DONE, StepState.SKIPPED)
    return ended_well or (view["kind"] != Kind.STEP and bool(view.get("ended_at")))


def _skip(view: View) -> None:
    """Show a part that will never begin, and all in it, as skipped."""
    if view.get("state") == StepState.WAITING:
        view |= {"state": str(StepState.SKIPPED), "skip_reason": str(SkipReason.NOT_REACHED)}
    for child in view.get("parts", ()):
        _skip(child)


@dataclass(slots=True)
class Tree:
    """Parts of a plan as a tree; of a run each with its state.

    Attributes:
        plan: the plan.
        rows: by node the rows of parts and steps that have begun, of one scope: all that stand in
            no item of an each, or in the same one. None for a plan without a run.
        keys: by node the keys of the items that the scope stands in.
        tops: by part row the items of an each that are shown with it: failed and slow ones.
        held: whether the run is paused: what goes on in it is shown so.
        insides: the counts inside eaches, by part row.
        inside: the counts inside the each that repeats this tree.
    """

    plan: Plan
    rows: Mapping[int, Row] | None = None
    keys: Mapping[int, str] = field(default_factory=dict)
    tops: Mapping[int, Sequence[Row]] = field(default_factory=dict)
    held: bool = False
    insides: Mapping[int, Inside] = field(default_factory=dict)
    inside: Inside | None = None

    def view(self, node: Node) -> View:
        """A part with its children; of an each the repeated part, with its counts."""
        view: View = {
            "kind": str(node.kind),
            "label": node.label or self.keys.get(node.index, ""),
            "address": address_in(self.plan, node, self.keys),
            **self._facts(node),
        }
        if self.rows is not None:
            row = self.rows.get(node.index)
            view |= self._unborn(node) if row is None else self._state(node, row)
            begun = row is not None and row["state"] != PartState.WAITING
            view |= {"begun": begun} if node.follows else {}
        if self.inside is not None:
            view |= self.inside.of(node, held=self.held)
        if node.kind is Kind.EACH:
            row = (self.rows or {}).get(node.index)
            inside = self.inside if row is None else self.insides.get(row["id"])
            repeated = Tree(self.plan, inside=inside, held=self.held)
            view["do"] = repeated.view(self.plan.nodes[node.children[0]])
        elif node.kind is not Kind.STEP:
            view["parts"] = [self.view(self.plan.nodes[child]) for child in node.children]
        if node.follow_ups:
            view["follow_ups"] = {
                name: self.view(self.plan.nodes[index]) for name, index in node.follow_ups.items()
            }
            for name, follow_up in view["follow_ups"].items():
                if follow_up.get("begun") is False and _is_not_needed(name, view):
                    _skip(follow_up)
        return view

    def _facts(self, node: Node) -> View:
        """What the plan says of a part, where it says anything."""
        view: View = {}
        if node.only_if is not None:
            view["only_if"] = source_view(self.plan, node.only_if)
        if node.waits_for:
            view["waits_for"] = [self.plan.nodes[one].label for one in node.waits_for]
        if node.kind is Kind.STEP:
            view["task"] = node.task
            view["inputs"] = {
                name: source_view(self.plan, source) for name, source in node.inputs.items()
            }
            if rules := node.rules.to_json():
                per = node.rules.per
                view["rules"] = rules | ({"per": source_view(self.plan, per)} if per else {})
        if node.kind in (Kind.PARALLEL, Kind.EACH):
            view["if_one_fails"] = str(node.if_one_fails)
        if node.each:
            view["over"] = source_view(self.plan, node.each.over)
            view["at_once"], view["batch"] = node.each.at_once, node.each.batch
            percent = "%" if node.each.may_fail_percent else ""
            view["may_fail"] = f"{node.each.may_fail:g}{percent}" if node.each.may_fail else None
        return view

    def _state(self, node: Node, row: Row) -> View:
        if node.kind is Kind.STEP:
            return step_view(row)
        view = part_view(row, held=self.held)
        if node.kind is Kind.EACH:
            address = address_in(self.plan, node, self.keys)
            tops = self.tops.get(row["id"], ())
            view["top"] = [item_view(address, item, held=self.held) for item in tops]
        return view

    def _unborn(self, node: Node) -> View:
        """The state of a part without a row: that of what became of the rest around it."""
        if node.follows:
            return {"state": str(StepState.WAITING)}
        assert self.rows is not None
        while node.parent is not None and not node.follows:
            around = self.rows.get(node.parent)
            if around is not None:
                rest = around["rest_state"]
                if rest is None:
                    break
                return {"state": str(rest), "skip_reason": around["rest_reason"]}
            node = self.plan.nodes[node.parent]
        return {"state": str(StepState.WAITING)}


def source_view(plan: Plan, source: Source) -> View:
    """A reference, resolved: outputs by address."""
    match source:
        case Constant(value):
            return {"constant": value}
        case FromParam(path):
            return {"param": ".".join(path)}
        case FromItem(node, path):
            return {"item": ".".join(path) or True, "of": plan.address(plan.nodes[node])}
        case FromFailures(node):
            return {"failures": plan.address(plan.nodes[node])}
        case FromFailure():
            return {"failure": True}
        case FromPlannedAt():
            return {"planned_at": True}
        case FromOutput(node, default, only_done):
            view: View = {"output": plan.address(plan.nodes[node])}
            view |= {} if default is NOT_GIVEN else {"default": default}
            return {**view, "only": "done"} if only_done else view


def part_view(row: Row, *, held: bool = False) -> View:
    """A part's state, its children by state, and what failed first in it.

    Args:
        row: the part's.
        held: whether its run is paused, so that nothing in it executes.
    """
    state = row["state"]
    if row["value"] is not None and state == PartState.RUNNING and row["begun_at"] is None:
        state = PartState.WAITING
    if held and state == PartState.RUNNING:
        state = PartState.PAUSED
    return {
        "state": str(state),
        "outcome": row["outcome"] and str(row["outcome"]),
        "skip_reason": row["skip_reason"] if row["state"] == PartState.SKIPPED else None,
        "closed": row["closed"],
        "error": _loads(row["error"]),
        "fraction": row["fraction"],
        "counts": counts(row),
        "started_at": iso_time(row["started_at"]),
        "ended_at": iso_time(row["ended_at"]),
    }


def item_view(each: str, row: Row, *, held: bool = False) -> View:
    """An item of an each, from its part's row."""
    key = item_key(row["name"], row["item"])
    return {
        "item": row["item"],
        "name": row["name"] if row["name"] is not None else str(row["item"]),
        "address": f"{each}[{key}]",
        "value": mask(json.loads(row["value"])),
        **part_view(row, held=held),
    }


def step_view(row: Row) -> View:
    """A step's state, times and error; without its input and output.

    The worker is the one that has it in hand, or had it when it ended.
    """
    held = row["open"] is not None or row["ended_at"] is not None
    return {
        "state": str(row["state"]),
        "stop_asked": row["stop"],
        "skip_reason": row["skip_reason"],
        "paused_by_hand": row["held"] is not None,
        "supplied": bool(row["supplied"]),
        "progress": step_progress(row),
        "fraction": row["fraction"],
        "worker": row["worker_name"] if held else None,
        "attempts": row["attempts"],
        "tries": row["tries"],
        "losses": row["losses"],
        "error": _loads(row["error"]),
        "pool": row["pool"] or None,
        "priority": row["priority"],
        "due_at": iso_time(row["due_at"]),
        "deadline_at": iso_time(row["deadline_at"]),
        "ready_at": iso_time(row["ready_at"]),
        "started_at": iso_time(row["started_at"]),
        "ended_at": iso_time(row["ended_at"]),
    }


def step_progress(row: Row) -> View | None:
    """How far a step is by its own account; None if it gives none.

    Rate is in items a second; the time left is in seconds, both as of the last word while it runs.
    """
    saved = _loads(row["saved"]) or {}
    progress, counts = saved.get("progress"), saved.get("counts")
    if progress is None and counts is None:
        return None
    progress = progress or {}
    done, total, rate = progress.get("done"), progress.get("total"), progress.get("rate")
    left = None
    if row["state"] == StepState.RUNNING and rate and total is not None and done is not None:
        left = max(0.0, (total - done) / rate)
    return {
        "done": done,
        "total": total,
        "unit": progress.get("unit") or "",
        "note": progress.get("note") or "",
        "rate": rate,
        "seconds_left": left,
        "added": (counts or {}).get("added", 0),
        "skipped": (counts or {}).get("skipped", 0),
    }


def attempt_view(row: Row) -> View:
    """One attempt."""
    state = row["outcome"] or ("running" if row["begun_at"] else "handed out")
    return {
        "id": row["id"],
        "number": row["number"],
        "tries": row["try"],
        "round": row["round"],
        "state": str(state),
        "outcome": row["outcome"] and str(row["outcome"]),
        "error": _loads(row["error"]),
        "worker": row["worker_name"],
        "abandoned": bool(row["abandoned"]),
        "pid": row["pid"],
        "cpu_seconds": None if row["cpu"] is None else row["cpu"] / 1_000_000,
        "memory_bytes": row["memory"],
        "code_hash": row["code_hash"],
        "ready_at": iso_time(row["ready_at"]),
        "handed_at": iso_time(row["handed_at"]),
        "begun_at": iso_time(row["begun_at"]),
        "ended_at": iso_time(row["ended_at"]),
    }


def link_view(row: Row) -> View:
    """A link, without what it takes to use it."""
    return {
        "id": row["id"],
        "run": row["run"],
        "details": bool(row["details"]),
        "made_at": iso_time(row["made_at"]),
        "made_by": row["made_by"],
        "expires_at": iso_time(row["expires_at"]),
        "revoked_at": iso_time(row["revoked_at"]),
        "revoked_by": row["revoked_by"],
    }


def command_view(row: Row) -> View:
    """One entry of the command log."""
    return {
        "at": iso_time(row["at"]),
        "who": row["who"],
        "what": row["what"],
        "reason": row["reason"],
        "detail": mask(json.loads(row["detail"])),
    }


def effect_view(row: Row) -> View:
    """One entry of the ledger. One that an ended attempt began is unsure."""
    unsure = row["state"] == "begun" and row["outcome"] is not None
    return {
        "what": row["what"],
        "address": row["scope"],
        "state": "unsure" if unsure else row["state"].replace("_", " "),
        "attempt": row["number"],
        "token": row["token"],
        "value": mask(_loads(row["value"])),
        "begun_at": iso_time(row["begun_at"]),
        "done_at": iso_time(row["done_at"]),
        "by": row["by"],
        "is_used": bool(row["is_used"]),
        "used_at": None if row["used_at"] is None else iso_time(row["used_at"]),
    }


def _loads(text: str | None) -> Any:
    return None if text is None else json.loads(text)
