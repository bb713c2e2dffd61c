"""Records of parts, items, steps and attempts, made from their rows."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from yarnloom.engine.queries.each_boxes import Inside
from yarnloom.engine.records.parts import (
    AttemptRecord,
    ItemRecord,
    PartRecord,
    PartStanding,
    PlanRecord,
    Standing,
    StepProgress,
    StepStanding,
    Unbegun,
)
from yarnloom.engine.records.runs import Counts
from yarnloom.engine.rules.states import Outcome, PartState, SkipReason, StepState
from yarnloom.plan import ON_FAILURE, Kind, Node, Plan, address_in, item_key
from yarnloom.secrets import mask
from yarnloom.store import Row
from yarnloom.values import JsonValue

_COUNTED = ("ready", "running", "backing_off", "resting", "paused")
_ENDED = ("done", "failed", "cancelled", "skipped")


def counts_of(row: Row) -> Counts:
    """Return the children of a part by state. Items in which no step has begun wait."""
    total = row.get("total") or 0
    by_state = {name: row.get(name) or 0 for name in (*_COUNTED, *_ENDED)}
    by_state["running"] -= row.get("idle") or 0
    return Counts(total=total, waiting=total - sum(by_state.values()), **by_state)


def plan_record(plan: Plan) -> PlanRecord:
    """Return a plan as a tree of parts, without states."""
    return PlanRecord(plan, Tree(plan).part(plan.nodes[0]))


def _is_not_needed(name: str, part: PartRecord) -> bool:
    """Whether a follow-up that has not begun never will: no step failed, or all has ended."""
    ended_well = name == ON_FAILURE and part.state in (StepState.DONE, StepState.SKIPPED)
    standing = part.standing
    return ended_well or (isinstance(standing, PartStanding) and bool(standing.ended_at))


def _skipped(part: PartRecord) -> PartRecord:
    """Return a part that will never begin, and all in it, as skipped."""
    standing = part.standing
    if standing is not None and standing.state == StepState.WAITING:
        reason = SkipReason.NOT_REACHED
        if isinstance(standing, StepStanding):
            standing = replace(standing, state=StepState.SKIPPED, skip_reason=reason)
        elif isinstance(standing, PartStanding):
            standing = replace(standing, state=PartState.SKIPPED, skip_reason=reason)
        else:
            standing = Unbegun(StepState.SKIPPED, reason)
    return replace(part, standing=standing, parts=[_skipped(child) for child in part.parts])


@dataclass(slots=True)
class Tree:
    """Parts of a plan as a tree; of a run each with its state.

    Attributes:
        plan: the plan.
        rows: by node the rows of parts and steps that have begun, of one scope: all that are in
            no item of an each, or in the same one. None for a plan without a run.
        keys: by node the keys of the items that the scope is in.
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

    def part(self, node: Node) -> PartRecord:
        """Return a part with its children; of an each the repeated part, with its counts."""
        row = None if self.rows is None else self.rows.get(node.index)
        address = address_in(self.plan, node, self.keys)
        part = PartRecord(
            node,
            self.plan.shown_label(node) or self.keys.get(node.index, ""),
            address,
            standing=self._standing(node, row),
            top=self._top(node, row, address),
            inside=None if self.inside is None else self.inside.of(node, held=self.held),
            do=self._repeated(node, row),
            parts=[]
            if node.kind in (Kind.EACH, Kind.STEP)
            else [self.part(self.plan.nodes[child]) for child in node.children],
        )
        if self.rows is not None and node.follows:
            part = replace(part, begun=row is not None and row["state"] != PartState.WAITING)
        return replace(part, follow_ups=self._follow_ups(part)) if node.follow_ups else part

    def _follow_ups(self, part: PartRecord) -> dict[str, PartRecord]:
        follow_ups = {}
        for name, index in part.node.follow_ups.items():
            follow_up = self.part(self.plan.nodes[index])
            never = follow_up.begun is False and _is_not_needed(name, part)
            follow_ups[name] = _skipped(follow_up) if never else follow_up
        return follow_ups

    def _repeated(self, node: Node, row: Row | None) -> PartRecord | None:
        if node.kind is not Kind.EACH:
            return None
        inside = self.inside if row is None else self.insides.get(row["id"])
        tree = Tree(self.plan, inside=inside, held=self.held)
        return tree.part(self.plan.nodes[node.children[0]])

    def _top(self, node: Node, row: Row | None, address: str) -> list[ItemRecord] | None:
        if node.kind is not Kind.EACH or row is None:
            return None
        tops = self.tops.get(row["id"], ())
        return [item_record(address, item, held=self.held) for item in tops]

    def _standing(self, node: Node, row: Row | None) -> Standing | None:
        if self.rows is None:
            return None
        if row is None:
            return self._unbegun(node)
        return step_standing(row) if node.kind is Kind.STEP else part_standing(row, held=self.held)

    def _unbegun(self, node: Node) -> Unbegun:
        """Return the state of a part without a row: what became of the rest around it."""
        assert self.rows is not None
        while node.parent is not None and not node.follows:
            around = self.rows.get(node.parent)
            if around is not None:
                rest = around["rest_state"]
                return Unbegun() if rest is None else Unbegun(str(rest), around["rest_reason"])
            node = self.plan.nodes[node.parent]
        return Unbegun()


def part_standing(row: Row, *, held: bool = False) -> PartStanding:
    """Return a part's state, its children by state, and what failed first in it.

    Args:
        row: the part's.
        held: whether its run is paused, so that no step in it runs.
    """
    state = row["state"]
    if row["value"] is not None and state == PartState.RUNNING and row["begun_at"] is None:
        state = PartState.WAITING
    if held and state == PartState.RUNNING:
        state = PartState.PAUSED
    return PartStanding(
        state=state,
        outcome=row["outcome"] or None,
        skip_reason=row["skip_reason"] if row["state"] == PartState.SKIPPED else None,
        closed=row["closed"],
        error=loads(row["error"]),
        fraction=row["fraction"],
        counts=counts_of(row),
        started_at=row["started_at"],
        ended_at=row["ended_at"],
    )


def item_record(each: str, row: Row, *, held: bool = False) -> ItemRecord:
    """Return an item of an each, from its part's row."""
    key = item_key(row["name"], row["item"])
    return ItemRecord(
        item=row["item"],
        name=row["name"] if row["name"] is not None else str(row["item"]),
        address=f"{each}[{key}]",
        value=mask(json.loads(row["value"])),
        standing=part_standing(row, held=held),
    )


def step_standing(row: Row) -> StepStanding:
    """Return a step's state, times and error; without its input and output."""
    held = row["open"] is not None or row["ended_at"] is not None
    return StepStanding(
        state=row["state"],
        stop_asked=row["stop"],
        skip_reason=row["skip_reason"],
        paused_by_hand=row["held"] is not None,
        supplied=bool(row["supplied"]),
        progress=step_progress(row),
        fraction=row["fraction"],
        worker=row["worker_name"] if held else None,
        attempts=row["attempts"],
        tries=row["tries"],
        losses=row["losses"],
        error=loads(row["error"]),
        pool=row["pool"] or None,
        priority=row["priority"],
        due_at=row["due_at"],
        deadline_at=row["deadline_at"],
        ready_at=row["ready_at"],
        started_at=row["started_at"],
        ended_at=row["ended_at"],
    )


def step_progress(row: Row) -> StepProgress | None:
    """Return how far a step is by its own account; None if it gives none.

    The time left is in seconds, as of the last report while it runs.
    """
    saved = loads(row["saved"]) or {}
    progress, counts = saved.get("progress"), saved.get("counts") or {}
    if progress is None and saved.get("counts") is None:
        return None
    progress = progress or {}
    done, total, rate = progress.get("done"), progress.get("total"), progress.get("rate")
    left = None
    if row["state"] == StepState.RUNNING and rate and total is not None and done is not None:
        left = max(0.0, (total - done) / rate)
    return StepProgress(
        done=done,
        total=total,
        unit=progress.get("unit") or "",
        note=progress.get("note") or "",
        rate=rate,
        seconds_left=left,
        added=counts.get("added", 0),
        skipped=counts.get("skipped", 0),
    )


def attempt_record(row: Row) -> AttemptRecord:
    """Return one attempt of a step."""
    outcome = None if row["outcome"] is None else Outcome(row["outcome"])
    return AttemptRecord(
        id=row["id"],
        number=row["number"],
        tries=row["try"],
        round=row["round"],
        state=outcome or ("running" if row["begun_at"] else "handed out"),
        outcome=outcome,
        error=loads(row["error"]),
        worker=row["worker_name"],
        abandoned=bool(row["abandoned"]),
        pid=row["pid"],
        cpu_seconds=None if row["cpu"] is None else row["cpu"] / 1_000_000,
        memory_bytes=row["memory"],
        code_hash=row["code_hash"],
        ready_at=row["ready_at"],
        handed_at=row["handed_at"],
        begun_at=row["begun_at"],
        ended_at=row["ended_at"],
    )


def loads(text: str | None) -> JsonValue:
    """Return the value of a JSON text; None for none."""
    return None if text is None else json.loads(text)
