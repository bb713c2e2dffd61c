"""Runs as the API shows them: their facts, and how far they are, in numbers and in words."""

from __future__ import annotations

import json
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass

from yarnloom.engine.queries.views import (
    Row,
    View,
    counts,
    step_progress,
    views_of,
)
from yarnloom.engine.rules.states import RunState, StepState
from yarnloom.engine.state.time_shares import UNKNOWN, Paces
from yarnloom.plan import Kind, Node, Plan
from yarnloom.secrets import mask
from yarnloom.store import running_parts
from yarnloom.units import (
    iso_time,
)
from yarnloom.values import VALUE_LIMIT

UNDER_WAY = (RunState.RUNNING, RunState.PAUSING, RunState.PAUSED, RunState.CANCELLING)
_ENDED_BADLY = (RunState.FAILED, RunState.CANCELLED)
_TO_COME = (RunState.SCHEDULED, RunState.QUEUED)

PlanOf = Callable[[int], Plan]
PacesOf = Callable[[Row], Paces]
Open = Mapping[int, Row]


@dataclass(frozen=True, slots=True)
class Look:
    """How runs are looked at.

    Attributes:
        now: in microseconds since 1970 UTC.
        plan_of: gives the plan with an id.
        paces_of: gives what is known of the pace of a run's plan, by the row of the run.
        plain: whether nothing may be told of what parts are called.
        closed_pools: pools in which nothing begins until somebody opens them.
    """

    now: int
    plan_of: PlanOf
    paces_of: PacesOf = lambda _: UNKNOWN
    plain: bool = False
    closed_pools: Container[str] = frozenset()


def under_way_of(execute: running_parts.Execute, rows: Sequence[Row]) -> Mapping[int, Open]:
    """By run what of it is under way outside of items, by node, as of the moment of its row.

    Args:
        execute: runs a statement, of the reader's connection or the writer's unit that gave them.
        rows: of runs.
    """
    wanted = [row["number"] for row in rows if row["state"] in UNDER_WAY]
    rows_by_run = running_parts.open_rows(execute, wanted) if wanted else {}
    badly = [row["number"] for row in rows if row["state"] in _ENDED_BADLY]
    return rows_by_run | (running_parts.open_rows(execute, badly, ended=True) if badly else {})


def run_views(rows: Sequence[Row], under_way: Mapping[int, Open], look: Look) -> list[View]:
    """Runs from their rows, each with the columns of its root part.

    Args:
        rows: as `reading.run` and `listing.runs` give them.
        under_way: as `under_way_of` gives it.
        look: when, and how closely.
    """
    return views_of(
        rows,
        lambda row: run_view(row, look, under_way.get(row["number"], {})),
        "number",
        "workflow",
    )


def run_view(row: Row, look: Look, under_way: Open) -> View:
    """A run, from its row and what of it is under way."""
    return {
        "number": row["number"],
        "workflow": row["workflow"],
        "task": row["task"],
        "version": row["version"],
        "state": str(row["state"]),
        "outcome": row["outcome"] and str(row["outcome"]),
        "stop_asked": row["stop"] and str(row["stop"]),
        "params": mask(json.loads(row["params"])),
        "output": row["output"] and json.loads(row["output"]),
        "output_left_out": row["state"] == "done" and (row["size"] or 0) > VALUE_LIMIT,
        "error": row["error"] and json.loads(row["error"]),
        "failures_allowed": row["failures_allowed"],
        "followups_failed": row["followups_failed"],
        "attempts": row["attempts"],
        "progress": progress_view(row, look, under_way),
        "counts": counts(row),
        "priority": row["priority"],
        "share": row["share"] or None,
        "tags": json.loads(row["tags"]),
        "key": row["start_key"],
        "started_by": row["started_by"],
        "round": row["round"],
        "created_at": iso_time(row["created_at"]),
        "start_at": iso_time(row["start_at"]),
        "start_by": iso_time(row["start_by"]),
        "planned_at": row["planned_at"],
        "schedule": row["schedule"],
        "after": row["after"],
        "deadline_at": iso_time(row["deadline_at"]),
        "paused_at": iso_time(row["paused_at"]),
        "entered": row["admission"] > 0,
        "started_at": iso_time(row["started_at"]),
        "ended_at": iso_time(row["ended_at"]),
    }


def progress_view(row: Row, look: Look, under_way: Open) -> View:
    """How far a run is."""
    told = _of_run(row)
    if row["state"] in UNDER_WAY and row["outcome"] is None:
        plan = look.plan_of(row["plan"])
        moves = _innermost(plan.nodes[0], plan, under_way)
        if moves is not None:
            told = _of_moving(*moves, plan, under_way, look)
    elif row["state"] in _ENDED_BADLY and under_way:
        plan = look.plan_of(row["plan"])
        moved = _innermost(plan.nodes[0], plan, under_way)
        if moved is not None and moved[0].kind in (Kind.STEP, Kind.EACH):
            told = _of_moving(*moved, plan, under_way, look)  # how far it was when it ended
    running = row["state"] == RunState.RUNNING and row["outcome"] is None
    return {
        "fraction": _cut(row["fraction"] or 0.0),
        "text": told.text,
        "address": "" if look.plain else told.address,
        "done": told.done,
        "total": told.total,
        "per_second": told.rate if running else None,
        "seconds_left": _seconds_left(row, look, under_way) if running else None,
    }


@dataclass(frozen=True, slots=True)
class _Told:
    """What is said of a part: in words, and its numbers."""

    text: str
    address: str = ""
    done: float | None = None
    total: float | None = None
    rate: float | None = None


def _of_run(row: Row) -> _Told:
    """What is said of a run of which nothing moves."""
    done, total = row["done"] or 0, row["total"] or 0
    if row["state"] in _TO_COME or not total:
        return _Told("not begun", "", done, total)
    follows = " done; what follows runs" if row["outcome"] and not row["ended_at"] else ""
    return _Told(f"{_of(done, total)} {_parts(total)}{follows}", "", done, total)


def _innermost(node: Node, plan: Plan, under_way: Open) -> tuple[Node, Row] | None:
    """The innermost part of which can be told how far it is: the first, of several that move.

    An each counts its items, so that nothing in them is looked at.
    """
    row = under_way.get(node.index)
    if row is None:
        return None
    if node.kind is Kind.STEP:
        said = step_progress(row)
        return (node, row) if said and said["done"] is not None else None
    if node.kind is not Kind.EACH:
        for child in node.children:
            if found := _innermost(plan.nodes[child], plan, under_way):
                return found
    return node, row


def _of_moving(node: Node, row: Row, plan: Plan, under_way: Open, look: Look) -> _Told:
    address = "" if node.parent is None else plan.address(node)
    if node.kind is Kind.STEP:
        return _of_step(node, row, address, look)
    if node.kind is Kind.EACH:
        return _of_each(node, row, address, look)
    done, total = row["done"], row["total"]
    text = f"{_of(done, total)} {_parts(total)}"
    open_steps = [plan.nodes[child] for child in node.children if child in under_way]
    if len(open_steps) == 1 and not look.plain:
        text += f", now {open_steps[0].label}"
    return _Told(text, address, done, total)


def _of_step(node: Node, row: Row, address: str, look: Look) -> _Told:
    said = step_progress(row) or {}
    done, total, unit = said["done"], said["total"], said["unit"]
    words = unit or ("" if look.plain or total is None else f"in {node.label}")
    text = " ".join(filter(None, [_of(done, total), words]))
    note = f", {said['note']}" if said["note"] else ""
    return _Told(text + note, address, done, total, said["rate"])


def _of_each(node: Node, row: Row, address: str, look: Look) -> _Told:
    name = "" if look.plain else f" {node.label}"
    if row["awaits"]:
        doing = "reading" if row["awaits"] == "read" else "putting together"
        return _Told(f"{doing} the list{name and f' of{name}'}", address)
    done, total = row["covered"], row["covers"]
    failed = f", {row['failed']:,} failed" if row["failed"] else ""
    seconds = (look.now - row["since"]) / 1e6
    gained = (row["fraction"] - row["fraction_then"]) * total
    rate = _short(gained / seconds) if seconds > 0 and gained > 0 else None
    return _Told(f"{_of(done, total)}{name}{failed}", address, done, total, rate)


def _seconds_left(row: Row, look: Look, under_way: Open) -> float | None:
    """Until the end: of what is under way at its own pace, of what is to come as it took before.

    Where that is not known, at the pace of all of this round so far, less the time since something
    moved. None where nothing can be told, also once it should have ended.
    """
    fraction, then = row["fraction"] or 0.0, row["fraction_then"] or 0.0
    if row["started_at"] is None or fraction >= 1:
        return None
    if _waits_for_closed_pool(look, look.plan_of(row["plan"]), under_way):
        return None  # nobody knows when it is opened
    begun = row["started_at"] + (row["paused_micros"] or 0)
    parts = _Left(look, look.plan_of(row["plan"]), look.paces_of(row), under_way)
    left = parts.of_run()
    moved_at = row["moved_at"] or begun
    if left is None and fraction > then and moved_at > begun:
        pace = (fraction - then) / (moved_at - begun)
        left = ((1 - fraction) / pace - (look.now - moved_at)) / 1e6
        left = max(left, parts.at_least())
    # It takes longer than it did before, or than it seemed to: nobody knows how long.
    return None if left is None or left <= 0 else _short(left)


def _waits_for_closed_pool(look: Look, plan: Plan, under_way: Open) -> bool:
    """Whether something under way needs a pool in which nothing begins."""

    def needs(node: Node) -> bool:
        if node.kind is Kind.STEP:
            return bool(node.rules.pool) and node.rules.pool in look.closed_pools
        return any(needs(plan.nodes[child]) for child in node.children)

    nodes = [plan.nodes[index] for index in under_way]
    steps = [
        node
        for node in nodes
        if node.kind is Kind.STEP and under_way[node.index]["state"] != StepState.RUNNING
    ]
    return any(map(needs, [*steps, *(node for node in nodes if node.kind is Kind.EACH)]))


@dataclass(frozen=True, slots=True)
class _Left:
    """How many seconds parts have left, outside of items."""

    look: Look
    plan: Plan
    paces: Paces
    under_way: Open

    def of_run(self) -> float | None:
        if self.paces.seconds is None or 0 not in self.under_way:
            return self.paces.seconds
        return self.of(self.plan.nodes[0])

    def of(self, node: Node) -> float | None:
        """Of a part that is under way; None if that cannot be told."""
        match node.kind:
            case Kind.STEP:
                return self._of_step(node)
            case Kind.EACH:
                return self._of_each(node)
            case Kind.SEQUENCE:
                return self._of_sequence(node)
            case Kind.PARALLEL:
                return self._of_parallel(node)

    def at_least(self) -> float:
        """As long as what goes on at a pace of its own, whatever comes behind it."""
        nodes = [self.plan.nodes[index] for index in self.under_way]
        leaves = [node for node in nodes if node.kind in (Kind.STEP, Kind.EACH)]
        return max((self.of(leave) or 0.0 for leave in leaves), default=0.0)

    def _spent(self, since: int | None) -> float:
        return 0.0 if since is None else max(0.0, (self.look.now - since) / 1e6)

    def _of_step(self, node: Node) -> float | None:
        row = self.under_way[node.index]
        said, spent = step_progress(row), self._spent(row["started_at"])
        if said and said["seconds_left"] is not None:
            return float(said["seconds_left"])
        expected = self.paces.times.get(node.index)
        return None if expected is None else max(0.0, expected - spent)

    def _of_each(self, node: Node) -> float | None:
        row = self.under_way[node.index]
        moved_at, gained = row["moved_at"] or row["since"], row["fraction"] - row["fraction_then"]
        if gained > 0 and moved_at > row["since"]:
            pace = gained / (moved_at - row["since"])
            left = (1 - row["fraction"]) / pace / 1e6 - self._spent(moved_at)
            return float(max(0.0, left))
        expected = self.paces.times.get(node.index)
        return None if expected is None else max(0.0, expected - self._spent(row["since"]))

    def _of_sequence(self, node: Node) -> float | None:
        found: float | None = None
        for child in node.children:
            if child in self.under_way:
                found = self.of(self.plan.nodes[child])
            elif found is not None:
                to_come = self.paces.times.get(child)
                found = None if to_come is None else found + to_come
        return found

    def _of_parallel(self, node: Node) -> float | None:
        """As long as its longest branch, or if they wait for places as all that is to be done."""
        branches = [self.plan.nodes[child] for child in node.children if child in self.under_way]
        left = [self.of(branch) for branch in branches]
        known = [seconds for seconds in left if seconds is not None]
        whole = self.paces.times.get(node.index)
        if whole is None or len(known) < len(left) or not known:
            return None
        reached = self.under_way[node.index]["fraction"]
        for branch in branches:
            if branch.kind is Kind.STEP:
                reached += self._share(branch) * self._silently(branch)
        return float(max(*known, whole * max(0.0, 1 - reached)))

    def _share(self, node: Node) -> float:
        assert node.parent is not None
        siblings = self.plan.nodes[node.parent].children
        return self.paces.shares.get(node.index) or 1 / len(siblings)

    def _silently(self, node: Node) -> float:
        """How far a step is that says nothing of itself, by how long it took before."""
        row, expected = self.under_way[node.index], self.paces.times.get(node.index)
        if row["saved"] is not None or not expected:
            return 0.0
        return min(1.0, self._spent(row["started_at"]) / expected)


def _cut(fraction: float) -> float:
    """Six digits, never more than it is."""
    return int(fraction * 1_000_000) / 1_000_000


def _short(value: float) -> float:
    """Three digits, or whole."""
    return float(f"{value:.3g}") if value < 1_000 else float(round(value))


def _of(done: float | None, total: float | None) -> str:
    if done is None:
        return ""
    return _number(done) if total is None else f"{_number(done)} of {_number(total)}"


def _number(value: float) -> str:
    return f"{value:,.0f}" if value == int(value) or value >= 100 else f"{value:,.1f}"


def _parts(count: float) -> str:
    return "part" if count == 1 else "parts"
