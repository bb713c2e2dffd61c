"""Items, steps and attempts of a run, in whichever form they are kept: as rows, or in batches.

All that reads a run asks here. An item of a batch is expanded in the reader, and never written. The
row of its part carries the rows of its step and attempt, for the questions that follow.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from heapq import merge
from itertools import islice
from typing import NamedTuple

from yarnloom.engine.part_contents.lists import name_of
from yarnloom.engine.queries.batch_items import BatchItem, BatchItems, Place, items_of
from yarnloom.media_types import is_list_reference
from yarnloom.plan import Plan, item_key
from yarnloom.store import AttemptKey, Connection, Record
from yarnloom.store.runs import batch_records, item_records, run_lists, step_queries
from yarnloom.values import decode

BATCH = "batch"
"""Under this name the row of an item's part has the `BatchItem` that it is of."""


def batch_of(row: Record | None) -> BatchItem | None:
    """Return the item of a batch whose part a row is; None if it is none."""
    return row.get(BATCH) if row else None


def _shown(item: BatchItem) -> Record:
    return {**item.part, BATCH: item}


# Parts


def item_at(connection: Connection, plan: Plan, each: Record, index: int) -> Record | None:
    """Return an item of an each by index; None if it was not made."""
    do = plan.nodes[each["node"]].children[0]
    row = run_lists.part_at(connection, each["id"], do, index)
    if row is None:
        for item in BatchItems(connection, plan, each).at([index]):
            return _shown(item)
    return row


def item_named(connection: Connection, plan: Plan, each: Record, name: str) -> Record | None:
    """Return an item of an each by name; None if it was not made."""
    row = item_records.item_named(connection, each["id"], name)
    if row is None and batch_records.some_in(connection, each["run"]):
        index = index_of_name(connection, plan, each, name)
        return None if index is None else item_at(connection, plan, each, index)
    return row


def index_of_name(connection: Connection, plan: Plan, each: Record, name: str) -> int | None:
    """Which item of an each has a name; None if none has."""
    source = item_records.source_of(connection, each["id"])
    facts = plan.nodes[each["node"]].each
    assert facts is not None
    assert facts.name is not None
    if is_list_reference(source):
        for index, line in connection.files.numbered_in_list(source["list"], name):
            if name_of(decode(line), facts.name) == name:
                return int(index)
        return None
    indexes = (at for at, value in enumerate(source) if name_of(value, facts.name) == name)
    return next(indexes, None)


def items(
    connection: Connection,
    plan: Plan,
    each: Record,
    states: tuple[str, ...],
    first: int,
    limit: int,
) -> list[Record]:
    """Items of an each that were made, in order, from an index on, in some states or in any."""
    rows = item_records.items(connection, each["id"], states, first, limit)
    if states and "done" not in states:
        return rows
    more = map(_shown, BatchItems(connection, plan, each).from_index(first, limit))
    return list(islice(merge(rows, more, key=lambda row: row["item"]), limit))


def items_at_indexes(
    connection: Connection, plan: Plan, each: Record, states: tuple[str, ...], indexes: list[int]
) -> list[Record]:
    """Those of some items of an each that were made, and are in some states or in any."""
    rows = item_records.items_at_indexes(connection, each["id"], states, indexes)
    if states and "done" not in states:
        return rows
    more = map(_shown, BatchItems(connection, plan, each).at(indexes))
    return list(merge(rows, more, key=lambda row: row["item"]))


def under_way_at(
    connection: Connection, plan: Plan, each: Record, at: int, limit: int
) -> list[Record]:
    """The items of an each that were under way at a time, those that had been so longest first."""
    rows = item_records.items_at(connection, each["id"], at, limit)
    indexes = batch_records.under_way_at(connection, each["run"], each["id"], at, limit)
    then = {"state": "running", "outcome": None, "ended_at": None}
    rows += [_shown(item) | then for item in BatchItems(connection, plan, each).at(indexes)]
    rows.sort(key=lambda row: (row["begun_at"], row["item"]))
    return rows[:limit]


def parts(connection: Connection, number: int, inside: Record | None) -> list[Record]:
    """The parts of a run that have begun and are in no item, or those of one item, itself too."""
    if batch_of(inside) is not None:
        return [] if inside is None else [inside]
    return run_lists.parts(connection, number, inside["id"] if inside else None)


def outputs_of(
    connection: Connection, plan: Plan, each: Record, page: list[Record]
) -> dict[int, str | None]:
    """By index what the items of a page gave, as JSON text.

    Args:
        connection: a reader's.
        plan: the run's.
        each: the row of the each's part.
        page: the rows of the items, as `items` gives them.
    """
    outputs = {row["item"]: row[BATCH].step["output"] for row in page if BATCH in row}
    if len(outputs) < len(page):
        do = plan.nodes[plan.nodes[each["node"]].children[0]]
        last = do.children[-1] if do.children else do.index
        span = page[0]["item"], page[-1]["item"]
        outputs |= item_records.outputs_between(connection, each["id"], do.index, last, *span)
    return outputs


# Steps


def steps(connection: Connection, number: int, inside: Record | None) -> list[Record]:
    """The steps of a run that are in no item, or in one, in plan order."""
    if item := batch_of(inside):
        return [item.step]
    return step_queries.steps(connection, number, inside["id"] if inside else None)


def step_at(connection: Connection, holder: Record, node: int) -> Record | None:
    """Return the step in a part at a node of the plan, or None if it has not begun."""
    if item := batch_of(holder):
        return item.step if item.step["node"] == node else None
    return step_queries.step_at(connection, holder["id"], node)


def step_values(connection: Connection, step: Record) -> Record:
    """Input and output of a step, as JSON text."""
    return step if "input" in step else step_queries.step_values(connection, step["id"])


def attempts_of_step(
    connection: Connection, holder: Record, step: Record, shown: int
) -> list[Record]:
    """The attempts of a step, oldest first; of those that asked to be called again the newest."""
    if item := batch_of(holder):
        return [item.attempt]
    return step_queries.attempts(connection, step["id"], shown)


def attempts_inside(
    connection: Connection, number: int, inside: Record | None
) -> dict[int, list[Record]]:
    """By step the attempts of the steps of a run that are in no item, or in one, oldest first."""
    if item := batch_of(inside):
        return {item.step["id"]: [item.attempt]}
    return step_queries.attempts_inside(connection, number, inside["id"] if inside else None)


def steps_behind(
    connection: Connection, plan: Plan, number: int, after: int, limit: int
) -> list[tuple[int, Record | Unread]]:
    """Steps of a run with their values, from behind an id on: the id of each and its row.

    One that is in a batch has no row yet: whoever asks expands it, or writes it as text at once.
    """
    rows = step_queries.steps_behind(connection, number, after, limit)
    batches = batch_records.batches_of_steps_behind(connection, number, after)
    some = _OfRun(connection, plan).places(batches, lambda batch: batch.step, after, limit)
    plain: list[tuple[int, Record | Unread]] = [(row["id"], row) for row in rows]
    return list(islice(merge(plain, some, key=lambda entry: entry[0]), limit))


# Attempts


def attempts_behind(
    connection: Connection, plan: Plan, number: int, inside: Record | None, after: int, limit: int
) -> tuple[list[Record], dict[int, dict[int, str]]]:
    """Attempts of a run, or of the steps in an item, as they were handed out, from behind an id.

    Returns:
        The attempts, and by item the keys of it and of those around it, where it is in a batch.
    """
    if item := batch_of(inside):
        return [item.attempt] if item.attempt["id"] > after else [], _keys_of([item])
    around = inside["id"] if inside else None
    rows = step_queries.attempts_of_run(connection, number, around, after, limit)
    if inside is not None:
        return rows, {}
    batches = batch_records.batches_behind(connection, number, after)
    places = _OfRun(connection, plan).places(batches, lambda batch: batch.attempt, after, limit)
    if len(rows) == limit:  # later ones are not on this page
        places = [entry for entry in places if entry[0] < rows[-1]["id"]]
    some = [unread.expand() for _, unread in places]
    in_order = merge(rows, (item.attempt for item in some), key=lambda row: row["id"])
    return list(islice(in_order, limit)), _keys_of(some)


def slowest_attempts(
    connection: Connection, plan: Plan, number: int, nodes: list[int], now: int, limit: int
) -> tuple[list[Record], dict[int, dict[int, str]]]:
    """The attempts of some nodes that ran longest, and keys as in `attempts_behind`."""
    rows = step_queries.slowest(connection, number, nodes, now, limit)
    reader = _OfRun(connection, plan)
    some = [
        item
        for each, index in batch_records.slowest(connection, number, nodes, limit)
        for item in reader.of_each(each).at([index])
    ]
    rows += [item.attempt for item in some]
    rows.sort(key=lambda row: ((row["begun_at"] - (row["ended_at"] or now)), row["id"]))
    return rows[:limit], _keys_of(some)


def log_keys(connection: Connection, attempts: Iterable[int]) -> dict[int, AttemptKey]:
    """The keys under which the lines of some attempts are stored, by attempt."""
    ids = list(attempts)
    keys = step_queries.log_keys(connection, ids)
    missing = [entry for entry in ids if entry not in keys]
    for attempt, (each, item, node) in batch_records.places_of(connection, missing).items():
        keys[attempt] = AttemptKey(each, item, node, 1, attempt)
    return keys


def _keys_of(items: Iterable[BatchItem]) -> dict[int, dict[int, str]]:
    """By the part of each item its key, by node."""
    return {
        item.part["id"]: {item.part["node"]: item_key(item.part["name"], item.part["item"])}
        for item in items
    }


class Unread(NamedTuple):
    """An item of a batch that is not expanded yet."""

    of: BatchItems
    place: Place

    def expand(self) -> BatchItem:
        """Return it as rows."""
        return self.of.item(self.place)


def expanded(step: Record | Unread) -> Record:
    """Return the row of a step that may not be expanded yet."""
    return step.expand().step if isinstance(step, Unread) else step


class _OfRun:
    """The items of a run that are in batches, whichever eaches they are of."""

    def __init__(self, connection: Connection, plan: Plan) -> None:
        self._connection = connection
        self._plan = plan
        self._eaches: dict[int, BatchItems] = {}

    def of_each(self, each: int) -> BatchItems:
        """Those of one each."""
        if each not in self._eaches:
            row = run_lists.part(self._connection, each)
            self._eaches[each] = BatchItems(self._connection, self._plan, row)
        return self._eaches[each]

    def places(
        self,
        batches: Iterable[batch_records.Batch],
        first_id: Callable[[batch_records.Batch], int],
        after: int,
        limit: int,
    ) -> list[tuple[int, Unread]]:
        """The items with the first ids behind one, in their order, at most so many.

        Args:
            batches: in the order of their first ids.
            first_id: tells the id that counts of the first item in a batch.
            after: the id.
            limit: how many at most.
        """
        places: list[tuple[int, Unread]] = []
        for batch in batches:
            first = first_id(batch)
            if len(places) >= limit and first > places[limit - 1][0]:
                break
            items, own = self.of_each(batch.each), items_of(batch)
            places += [
                (key, Unread(items, place)) for place in own if (key := first + place[2][0]) > after
            ]
            places.sort(key=lambda entry: entry[0])
        return places[:limit]
