"""Items of an each that are in batches, as the rows that they would have.

A batch says when each of its items ran and what came of it. All else follows from the plan and the
list of the each. `either_form` is the one module that asks here.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from yarnloom.engine.part_contents.items import item_of, slice_of
from yarnloom.engine.part_contents.new_rows import position_of
from yarnloom.engine.state.given_items import Field, Straight
from yarnloom.engine.without_rows.item_inputs import input_of
from yarnloom.plan import Node, Plan
from yarnloom.store import Connection, Record
from yarnloom.store.files import file_records
from yarnloom.store.runs import batch_records, item_records
from yarnloom.store.runs.batch_records import Batch
from yarnloom.values import JsonValue, decode, encode, size_of

SLICE = 512
"""Values of a list that are read at once."""

_PART: Record = {
    "state": "done",
    "outcome": "done",
    "item_part": None,
    **dict.fromkeys(("rest_state", "rest_reason", "closed", "skip_reason", "fault", "error")),
    "awaits": None,
    "total": 1,
    "done": 1,
    **dict.fromkeys(("ready", "running", "backing_off", "resting", "paused", "failed"), 0),
    **dict.fromkeys(("cancelled", "skipped", "following", "unmade", "sleeping_children"), 0),
    **dict.fromkeys(("items_to_rerun", "covers", "covered", "idle"), 0),
    "fraction": 1.0,
    "fraction_then": 0.0,
}
_STEP: Record = {
    "state": "done",
    **dict.fromkeys(("stop", "skip_reason", "open", "due_at", "deadline_at", "error", "held")),
    **dict.fromkeys(("saved", "held_at"), None),
    "attempts": 1,
    "tries": 0,
    "losses": 0,
    **dict.fromkeys(("supplied", "paused_micros", "retry_from_attempt"), 0),
    "fraction": 1.0,
}
_ATTEMPT: Record = {
    "number": 1,
    "try": 1,
    "outcome": "done",
    "error": None,
    "abandoned": 0,
    "pool_until": None,
}


Place = tuple[int, Batch, list[JsonValue]]
"""An item that is not expanded: its index, its batch, and what that says of it alone."""


class BatchItem(NamedTuple):
    """An item that has no rows, as the rows that it would have."""

    part: Record
    step: Record
    attempt: Record

    @property
    def number(self) -> int:
        """Which item of its each: its index."""
        number: int = self.part["item"]
        return number


class BatchItems:
    """The batched items of one each.

    Args:
        connection: a reader's.
        plan: the run's.
        each: the row of the each's part.
    """

    def __init__(self, connection: Connection, plan: Plan, each: Record) -> None:
        self._connection = connection
        self._run: int = each["run"]
        self._each = each
        self._plan = plan
        self._known: Straight | None = None
        self._values: tuple[int, list[JsonValue]] = (0, [])

    def from_index(self, first: int, limit: int) -> list[BatchItem]:
        """The items from an index on, in order, at most so many."""
        places: list[Place] = []
        for batch in batch_records.batches_from(self._connection, self._run, self._id, first):
            if len(places) >= limit and batch.item > places[limit - 1][0]:
                break
            places += [place for place in items_of(batch) if place[0] >= first]
            places.sort(key=lambda place: place[0])
        return [self.item(place) for place in places[:limit]]

    def at(self, indexes: Iterable[int]) -> list[BatchItem]:
        """The items with some indexes, in order; those that have rows are left out."""
        these = set(indexes)
        if not these:
            return []
        first, last = min(these), max(these)
        places = [
            place
            for batch in batch_records.batches_from(
                self._connection, self._run, self._id, first, last
            )
            for place in items_of(batch)
            if place[0] in these
        ]
        places.sort(key=lambda place: place[0])
        return [self.item(place) for place in places]

    def input_and_address(self, index: int) -> tuple[str, str]:
        """Return the input of an item's step, as JSON text, and its address in the run."""
        raw = self._value(index)
        value, name = item_of(raw, self._straight.facts)
        return input_of(self._straight, raw, value), self._straight.address_of(index, name)

    @property
    def node(self) -> Node:
        """The node of the step in each item."""
        return self._straight.step

    @property
    def _id(self) -> int:
        each: int = self._each["id"]
        return each

    def item(self, place: Place) -> BatchItem:
        """Expand an item."""
        index, batch, facts = place
        behind, began, took, pid, cpu, memory, _ = facts
        straight, each = self._straight, self._each
        raw = self._value(index)
        value, name = item_of(raw, straight.facts)
        output = encode(facts[6], "an output")
        begun_at = batch.handed_at + began
        ended_at = begun_at + took
        part, step = batch.part + behind, batch.step + behind
        rank = straight.rank_of(index)
        is_read = straight.do.wanted
        priority, share, contract = straight.lane[1:]
        return BatchItem(
            {
                **_PART,
                "id": part,
                "run": self._run,
                "parent": each["id"],
                "node": straight.do.index,
                "rank": rank,
                "item": index,
                "name": name,
                "value": value,
                "started_at": batch.handed_at,
                "output": output if is_read else None,
                "size": size_of(output) if is_read else 0,
                "since": batch.handed_at,
                "moved_at": batch.told_at,
                "begun_at": begun_at,
                "ended_at": batch.told_at,
            },
            {
                **_STEP,
                "id": step,
                "run": self._run,
                "part": part,
                "node": straight.step.index,
                "rank": rank + position_of(straight.step).to_bytes(4, "big"),
                "item_part": part,
                "contract": contract,
                "pool": batch.pool,
                "share": share,
                "priority": priority,
                "input": input_of(straight, raw, value),
                "output": output,
                "ready_at": batch.handed_at,
                "started_at": begun_at,
                "ended_at": ended_at,
                "worker_name": batch.worker_name,
            },
            {
                **_ATTEMPT,
                "id": batch.attempt + behind,
                "step": step,
                "run": self._run,
                "worker": batch.worker,
                "code_hash": batch.code_hash,
                "ready_at": batch.handed_at,
                "handed_at": batch.handed_at,
                "pool": batch.pool,
                "round": batch.round,
                "pid": pid,
                "cpu": cpu,
                "memory": memory,
                "begun_at": begun_at,
                "ended_at": ended_at,
                "worker_name": batch.worker_name,
                "node": straight.step.index,
                "item_part": part,
                "part": part,
            },
        )

    @property
    def _straight(self) -> Straight:
        if self._known is None:
            facts = batch_records.facts_of(self._connection, self._id)
            node = self._plan.nodes[self._each["node"]]
            assert node.each is not None
            do = self._plan.nodes[node.children[0]]
            step = self._plan.nodes[do.children[0]]
            fields = [
                Field(name, json.dumps(name) + ":", text, path=tuple(path))
                for name, text, path in facts.fields
            ]
            self._known = Straight(
                each=self._id,
                run=self._run,
                facts=node.each,
                do=do,
                step=step,
                lane=(facts.pool, facts.priority, facts.share, facts.contract),
                address=self._plan.address(node),
                plan_address=self._plan.address(step),
                fields=fields,
                rank=self._each["rank"],
                next=0,
            )
        return self._known

    def _value(self, index: int) -> JsonValue:
        first, values = self._values
        if not first <= index < first + len(values):
            source = item_records.source_of(self._connection, self._id)
            marks = lambda place: file_records.marks(self._connection, place)  # noqa: E731
            facts = self._straight.facts
            first = max(0, index - SLICE // 4)  # those before may be asked for next
            values = slice_of(self._connection.files, marks, source, facts, first, SLICE)
            if index >= first + len(values):  # they are so large that fewer are read at once
                first = index
                values = slice_of(self._connection.files, marks, source, facts, first, SLICE)
            self._values = first, values
        return values[index - first]


def items_of(batch: Batch) -> Iterator[Place]:
    """The items of a batch, not expanded."""
    return ((batch.item + facts[0], batch, facts) for facts in decode(batch.items))
