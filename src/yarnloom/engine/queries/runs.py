"""Records of runs: their facts, and how far they are, in numbers and in words."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from yarnloom.engine.queries.part_records import counts_of, step_progress
from yarnloom.engine.records.runs import RunProgress, RunRecord
from yarnloom.engine.records.unreadable import Unreadable, readable
from yarnloom.engine.rules.progress import between
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.plans import Plans
from yarnloom.plan import Kind, Node, Plan
from yarnloom.secrets import mask
from yarnloom.store import PartRow, Row, RunRow, Unit
from yarnloom.store.runs import step_queries
from yarnloom.values import VALUE_LIMIT

UNDER_WAY = (RunState.RUNNING, RunState.PAUSING, RunState.PAUSED, RunState.CANCELLING)
_ENDED_BADLY = (RunState.FAILED, RunState.CANCELLED)
_TO_COME = (RunState.SCHEDULED, RunState.QUEUED)

PlanOf = Callable[[int], Plan]
Open = Mapping[int, Row]


@dataclass(frozen=True, slots=True)
class Look:
    """How runs are looked at.

    Attributes:
        now: in microseconds since 1970 UTC.
        plan_of: gives the plan with an id.
        plain: whether nothing may be told of what parts are called.
    """

    now: int
    plan_of: PlanOf
    plain: bool = False


def under_way_of(execute: step_queries.Execute, rows: Sequence[Row]) -> Mapping[int, Open]:
    """By run what of it is under way outside of items, by node, as of the moment of its row.

    Args:
        execute: runs a statement, of the reader's connection or the writer's unit that gave them.
        rows: of runs.
    """
    wanted = [row["number"] for row in rows if row["state"] in UNDER_WAY]
    rows_by_run = step_queries.open_rows(execute, wanted) if wanted else {}
    badly = [row["number"] for row in rows if row["state"] in _ENDED_BADLY]
    return rows_by_run | (step_queries.open_rows(execute, badly, ended=True) if badly else {})


def run_records(
    rows: Sequence[Row], under_way: Mapping[int, Open], look: Look
) -> list[RunRecord | Unreadable]:
    """Return runs from their rows, each with the columns of its root part.

    Args:
        rows: as `run_queries.run` and `run_lists.runs` give them.
        under_way: as `under_way_of` gives it.
        look: when, and how closely.
    """
    return readable(
        rows,
        lambda row: run_record(row, look, under_way.get(row["number"], {})),
        "number",
        "workflow",
    )


def run_record(row: Row, look: Look, under_way: Open) -> RunRecord:
    """Return a run, from its row and what of it is under way."""
    return RunRecord(
        number=row["number"],
        workflow=row["workflow"],
        task=row["task"],
        version=row["version"],
        state=row["state"],
        outcome=row["outcome"] or None,
        stop_asked=row["stop"] or None,
        params=mask(json.loads(row["params"])),
        output=row["output"] and json.loads(row["output"]),
        output_left_out=row["state"] == "done" and (row["size"] or 0) > VALUE_LIMIT,
        error=row["error"] and json.loads(row["error"]),
        failures_allowed=row["failures_allowed"],
        followups_failed=row["followups_failed"],
        attempts=row["attempts"],
        progress=progress_of(row, look, under_way),
        counts=counts_of(row),
        priority=row["priority"],
        share=row["share"] or None,
        tags=json.loads(row["tags"]),
        key=row["start_key"],
        started_by=row["started_by"],
        round=row["round"],
        created_at=row["created_at"],
        start_at=row["start_at"],
        start_by=row["start_by"],
        planned_at=row["planned_at"],
        schedule=row["schedule"],
        after=row["after"],
        deadline_at=row["deadline_at"],
        entered=row["admission"] > 0,
        paused_at=row["paused_at"],
        started_at=row["started_at"],
        ended_at=row["ended_at"],
    )


def progress_of(row: Row, look: Look, under_way: Open) -> RunProgress:
    """Return how far a run is."""
    # Of one under way the innermost part that moves speaks; of one cut short the part it was in.
    said = _of_run(row)
    if row["state"] in UNDER_WAY and row["outcome"] is None:
        plan = look.plan_of(row["plan"])
        moves = _innermost(plan.nodes[0], plan, under_way)
        if moves is not None:
            said = _of_moving(*moves, plan, under_way, look)
    elif row["state"] in _ENDED_BADLY and under_way:
        plan = look.plan_of(row["plan"])
        moved = _innermost(plan.nodes[0], plan, under_way)
        if moved is not None and moved[0].kind in (Kind.STEP, Kind.EACH):
            said = _of_moving(*moved, plan, under_way, look)  # how far it was when it ended
    running = row["state"] == RunState.RUNNING and row["outcome"] is None
    fraction, left = _sampled(row, look.now)
    return RunProgress(
        fraction=None if fraction is None else cut(fraction),
        text=said.text,
        address="" if look.plain else said.address,
        done=said.done,
        total=said.total,
        per_second=said.rate if running else None,
        seconds_left=short(left) if running and left is not None else None,
        at_least=bool(row["at_least"]) if running and left is not None else False,
    )


def _sampled(row: Row, now: int) -> tuple[float | None, float | None]:
    """How far a run is, and how many seconds it has left."""
    if row["state"] == RunState.DONE or row["outcome"] == RunState.DONE:
        return 1.0, None
    if row["sampled_at"] is None:
        return None, None
    sample = (row["progress"], row["left_micros"], row["sampled_at"])
    return between(*sample, row["ended_at"] or now)


@dataclass(frozen=True, slots=True)
class _Said:
    """A part in words, and its numbers."""

    text: str
    address: str = ""
    done: float | None = None
    total: float | None = None
    rate: float | None = None


def _of_run(row: Row) -> _Said:
    """What is said of a run of which nothing moves."""
    done, total = row["done"] or 0, row["total"] or 0
    if row["state"] in _TO_COME or not total:
        return _Said("not begun", "", done, total)
    follows = " done; what follows runs" if row["outcome"] and not row["ended_at"] else ""
    return _Said(f"{_of(done, total)} {_parts(total)}{follows}", "", done, total)


def _innermost(node: Node, plan: Plan, under_way: Open) -> tuple[Node, Row] | None:
    """The innermost part of which can be told how far it is: the first, of several that move.

    An each counts its items, so that nothing in them is looked at.
    """
    row = under_way.get(node.index)
    if row is None:
        return None
    if node.kind is Kind.STEP:
        said = step_progress(row)
        return (node, row) if said and said.done is not None else None
    if node.kind is not Kind.EACH:
        for child in node.children:
            if found := _innermost(plan.nodes[child], plan, under_way):
                return found
    return node, row


def _of_moving(node: Node, row: Row, plan: Plan, under_way: Open, look: Look) -> _Said:
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
    return _Said(text, address, done, total)


def _of_step(node: Node, row: Row, address: str, look: Look) -> _Said:
    said = step_progress(row)
    assert said is not None
    done, total = said.done, said.total
    words = said.unit or ("" if look.plain or total is None else f"in {node.label}")
    text = " ".join(filter(None, [_of(done, total), words]))
    note = f", {said.note}" if said.note else ""
    return _Said(text + note, address, done, total, said.rate)


def _of_each(node: Node, row: Row, address: str, look: Look) -> _Said:
    name = "" if look.plain else f" {node.label}"
    if row["awaits"]:
        doing = "reading" if row["awaits"] == "read" else "putting together"
        return _Said(f"{doing} the list{name and f' of{name}'}", address)
    done, total = row["covered"], row["covers"]
    failed = f", {row['failed']:,} failed" if row["failed"] else ""
    seconds = (look.now - row["since"]) / 1e6
    gained = (row["fraction"] - row["fraction_then"]) * total
    rate = short(gained / seconds) if seconds > 0 and gained > 0 else None
    return _Said(f"{_of(done, total)}{name}{failed}", address, done, total, rate)


def cut(fraction: float) -> float:
    """Six digits, never more than it is."""
    return int(fraction * 1_000_000) / 1_000_000


def short(value: float) -> float:
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


_OF_ROOT = ("outcome", "size")


def record_of(
    unit: Unit, time: RunTime, plans: Plans, run: RunRow, root: PartRow | None = None
) -> RunRecord:
    """Return the record of a run.

    Args:
        run: the run.
        root: its root part, where it is at hand.
    """
    root = root or unit.parts.one("run = ? AND parent IS NULL", run.number)
    counters = {name: getattr(root, name) for name in root.__slots__} if root else {}
    facts = {name: getattr(run, name) for name in run.__slots__}
    of_root = {name: getattr(root, name, None) for name in _OF_ROOT}
    if run.state not in (RunState.SCHEDULED, RunState.QUEUED, RunState.DONE):
        unit.flush()  # what is under way is asked of the store
    row = {"total": None, "done": None, **counters, **facts, **of_root}
    look = Look(time.now, plans.by_id)
    under_way = under_way_of(unit.execute, [row])
    return run_record(row, look, under_way.get(run.number, {}))
