"""Parts, steps and items as flat JSON: watchers of a large run get them several times a second.

`protocol/part_answers.py` has their models; each answer is held to them in the test run.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from yarnloom.engine.queries.part_records import attempt_record, step_standing
from yarnloom.engine.records.parts import (
    AttemptRecord,
    Decided,
    GraphRecord,
    InsideRecord,
    ItemPage,
    ItemRecord,
    PartRecord,
    PartStanding,
    PastProgress,
    PlanRecord,
    Standing,
    StepProgress,
    StepRecord,
    StepStanding,
    Took,
    Unbegun,
)
from yarnloom.engine.records.unreadable import Unreadable
from yarnloom.engine.rules.states import StepState
from yarnloom.plan import Kind, Node, Plan
from yarnloom.service.render.references import source_json
from yarnloom.service.render.runs import counts_json, plain_json
from yarnloom.store import Row
from yarnloom.units import iso_time
from yarnloom.values import JsonObject

_TIMES = frozenset(
    {"due_at", "deadline_at", "ready_at", "handed_at", "begun_at", "started_at", "ended_at"}
)
_OF_STEP = tuple(StepStanding.__slots__)
_OF_PART = tuple(PartStanding.__slots__)
_OF_ATTEMPT = tuple(AttemptRecord.__slots__)
_PROGRESS, _PAST = tuple(StepProgress.__slots__), tuple(PastProgress.__slots__)
_DECIDED = tuple(Decided.__slots__)


def plan_json(record: PlanRecord) -> JsonObject:
    """Return a plan as a tree of parts, without states."""
    return _part_json(record.plan, record.part)


def graph_json(record: GraphRecord) -> JsonObject:
    """Return a part of a run as a tree, each part with its state."""
    shown = _part_json(record.plan, record.part)
    return shown | ({"progress": plain_json(record.progress, _PAST)} if record.progress else {})


def steps_json(record: GraphRecord) -> JsonObject:
    """Return the steps of a tree that are in no item of an each, as a list."""
    return {"steps": [_part_json(record.plan, step) for step in steps_in(record.part)]}


def steps_in(part: PartRecord) -> Iterator[PartRecord]:
    """Yield the steps of a tree, those inside eaches left out."""
    if part.node.kind is Kind.STEP:
        yield part
    for child in (*part.parts, *part.follow_ups.values()):
        yield from steps_in(child)


def step_json(record: StepRecord) -> JsonObject:
    """Return a step with its values and attempts."""
    shown = {**_part_json(record.plan, record.part), "address": record.address}
    if record.standing is None:
        shown |= {"progress": None, "paused_by_hand": False, "supplied": False}
    else:
        shown |= standing_json(record.standing)
    decided = record.decided
    return shown | {
        "input": record.input,
        "output": record.output,
        "attempts": [attempt_json(attempt) for attempt in record.attempts],
        "folded": record.folded,
        "decided": None if decided is None else plain_json(decided, _DECIDED),
    }


def items_json(page: ItemPage) -> JsonObject:
    """Return a page of the items of an each."""
    return {"items": [_item_or_why(item) for item in page.items], "next": page.next}


def _item_or_why(item: ItemRecord | Unreadable) -> JsonObject:
    if isinstance(item, Unreadable):
        return {**item.kept, "unreadable": item.unreadable}
    return item_json(item)


def item_json(item: ItemRecord) -> JsonObject:
    """Return an item of an each."""
    facts = {"item": item.item, "name": item.name, "address": item.address, "value": item.value}
    return facts | standing_json(item.standing) | {"skip_reason": item.standing.skip_reason}


def attempt_json(attempt: AttemptRecord) -> JsonObject:
    """Return one attempt of a step."""
    return _fields(attempt, _OF_ATTEMPT)


def recorded_step_json(address: str, task: str, row: Row, attempts: list[JsonObject]) -> JsonObject:
    """Return the facts of a step in the record of a run, but for its values."""
    standing = standing_json(step_standing(row))
    return {"address": address, "task": task, **standing, "attempts": attempts}


def recorded_attempt_json(row: Row) -> JsonObject:
    """Return an attempt in the record of a run."""
    return attempt_json(attempt_record(row))


def _part_json(plan: Plan, part: PartRecord) -> JsonObject:
    node = part.node
    shown: JsonObject = {
        "kind": str(node.kind),
        "label": part.label,
        "address": part.address,
        **_node_json(plan, node),
    }
    if part.standing is not None:
        shown |= standing_json(part.standing)
    if part.begun is not None:
        shown["begun"] = part.begun
    if part.top is not None:
        shown["top"] = [item_json(item) for item in part.top]
    if part.inside is not None:
        shown |= _inside_json(part.inside)
    if part.do is not None:
        shown["do"] = _part_json(plan, part.do)
    elif node.kind is not Kind.STEP:
        shown["parts"] = [_part_json(plan, child) for child in part.parts]
    if node.follow_ups:
        follow_ups = part.follow_ups.items()
        shown["follow_ups"] = {name: _part_json(plan, child) for name, child in follow_ups}
    return shown


def _node_json(plan: Plan, node: Node) -> JsonObject:
    """Return what the plan says of a part, where it says anything."""
    # Only what the plan sets: a box with a line for each rule could not be read.
    shown: JsonObject = {}
    if node.only_if is not None:
        shown["only_if"] = source_json(plan, node.only_if)
    if node.waits_for:
        shown["waits_for"] = [plan.nodes[index].label for index in node.waits_for]
    if node.kind is Kind.STEP:
        sources = node.inputs.items()
        shown["task"] = node.task
        shown["inputs"] = {name: source_json(plan, source) for name, source in sources}
        uses = [
            replace(use, per=None if use.per is None else source_json(plan, use.per))
            for use in node.rules.pools
        ]
        if rules := replace(node.rules, pools=tuple(uses)).to_json():
            shown["rules"] = rules
    if node.kind in (Kind.PARALLEL, Kind.EACH):
        shown["if_one_fails"] = str(node.if_one_fails)
    if node.choice:
        shown["by"] = source_json(plan, node.choice.by)
    if node.each:
        shown["over"] = source_json(plan, node.each.over)
        shown["at_once"], shown["batch"] = node.each.at_once, node.each.batch
        percent = "%" if node.each.may_fail_percent else ""
        shown["may_fail"] = f"{node.each.may_fail:g}{percent}" if node.each.may_fail else None
    return shown


def standing_json(standing: Standing) -> JsonObject:
    """Return the state of a part or step, with its times and counts."""
    if isinstance(standing, Unbegun):
        reason = {"skip_reason": standing.skip_reason}
        return {"state": standing.state} | (reason if standing.state != StepState.WAITING else {})
    if isinstance(standing, PartStanding):
        return _fields(standing, _OF_PART) | {"counts": counts_json(standing.counts)}
    progress = standing.progress
    shown = {"progress": None if progress is None else plain_json(progress, _PROGRESS)}
    return _fields(standing, _OF_STEP) | shown


def _inside_json(inside: InsideRecord) -> JsonObject:
    shown = {"counts": counts_json(inside.counts)}
    return shown | ({"took": _took_json(inside.took)} if inside.is_step else {})


def _took_json(took: Took | None) -> JsonObject | None:
    if took is None:
        return None
    bars = [{"from": bar.from_, "to": bar.to, "number": bar.number} for bar in took.histogram]
    facts = {"median": took.median, "longest": took.longest, "ended": took.ended}
    return {**facts, "histogram": bars}


def _fields(record: object, names: tuple[str, ...]) -> JsonObject:
    """Return the fields of a record, times as text."""
    return {
        name: iso_time(value) if name in _TIMES else value
        for name in names
        for value in (getattr(record, name),)
    }
