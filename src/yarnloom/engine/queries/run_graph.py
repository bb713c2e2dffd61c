"""Questions about one run, answered from the store: its graph, its steps, the items of an each.

Everything here reads one consistent state, given as a reader's connection.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from yarnloom.engine.part_contents.new_rows import position_of
from yarnloom.engine.queries import either_form
from yarnloom.engine.queries.each_boxes import inside_now, inside_then
from yarnloom.engine.queries.part_records import Tree, attempt_record, step_standing
from yarnloom.engine.queries.past_progress import progress_at
from yarnloom.engine.queries.past_states import has_ended_by, past_of, rows_then
from yarnloom.engine.records.parts import Decided, GraphRecord, StepRecord
from yarnloom.engine.records.runs import AttemptPage, AttemptTimes
from yarnloom.engine.records.workers import AttemptInHand
from yarnloom.engine.rules.states import Outcome
from yarnloom.errors import InvalidInput, NotFound, Problem, nearest
from yarnloom.plan import FIRST, Kind, Node, Plan, address_in, item_key, item_name, split_address
from yarnloom.secrets import mask
from yarnloom.store import Connection, Record
from yarnloom.store.runs import item_records, run_lists, step_queries
from yarnloom.units import whole_number
from yarnloom.values import decode

ON_TOP = 3
CALLED_SHOWN = 20
"""How many of the attempts that asked to be called again are shown, the newest."""


@dataclass(slots=True)
class Place:
    """Where an address leads.

    Attributes:
        node: the part or step.
        holder: the row of the part that it stands in; None if that has not begun.
        row: its own row, of a part; None if it has not begun.
        keys: the keys of the items that it stands in.
        inside: the row of the innermost of these items; None if it stands in none.
        unmade: the row of the each whose item it stands in that was not made; else None.
        unborn: where the outermost part around it stands that has not begun, or it itself; else
            None. Of an item that was not made that is behind all items that were.
    """

    node: Node
    holder: Record | None
    row: Record | None
    keys: dict[int, str] = field(default_factory=dict)
    inside: Record | None = None
    unmade: Record | None = None
    unborn: bytes | None = None


def find(connection: Connection, plan: Plan, number: int, address: str) -> Place:
    """Where an address within a run leads.

    Raises:
        NotFound: nowhere; the nearest label is offered.
    """
    root = run_lists.root(connection, number)
    place = Place(plan.nodes[0], None, root)
    segments = split_address(address) if address.strip("/") else []
    if segments is None:
        raise NotFound(f"{address!r} is no address; one looks like harbours[brackwater]/fetch")
    for depth, (label, key) in enumerate(segments):
        _descend(connection, plan, number, place, label)
        if key is not None:
            _enter_item(connection, plan, number, place, key)
        elif place.node.kind is Kind.EACH and depth + 1 < len(segments):
            raise NotFound(f"{label!r} is an each; say which item: {label}[…]/{segments[-1][0]}")
    return place


def _descend(connection: Connection, plan: Plan, number: int, place: Place, label: str) -> None:
    node = place.node
    known = {plan.nodes[one].label: one for one in node.children} | node.follow_ups
    if label not in known:
        where = f"{plan.address(node)!r} in run {number}" if node.parent else f"run {number}"
        raise NotFound(f"{where} has no part {label!r}{nearest(label, known)}")
    child = plan.nodes[known[label]]
    # What follows a step stands beside it, in the part around.
    holder = place.holder if node.kind is Kind.STEP else place.row
    row = None
    if holder is not None and child.kind is not Kind.STEP:
        row = run_lists.part_at(connection, holder["id"], child.index)
    if row is None and holder is not None and child.kind is not Kind.STEP:
        place.unborn = rank_at(holder, child)
    place.node, place.holder, place.row = child, holder, row


def _enter_item(connection: Connection, plan: Plan, number: int, place: Place, key: str) -> None:
    each, node = place.row, place.node
    if node.kind is not Kind.EACH or node.each is None:
        raise NotFound(f"{node.label!r} in run {number} is {node.kind.a_kind}, it has no items")
    # A key is the name of an item, or its number where items have none.
    row = None
    if each is not None and node.each.name is not None:
        row = either_form.item_named(connection, plan, each, item_name(key))
    elif each is not None and (index := whole_number(key)) is not None:
        row = either_form.item_at(connection, plan, each, index)
    if row is None and not _is_to_come(connection, plan, place, key):
        state = "" if each is not None else ", which has not begun"
        raise NotFound(f"the each {node.label!r} of run {number}{state} has no item {key!r}")
    do = plan.nodes[node.children[0]]
    place.keys[do.index] = key
    place.node, place.holder, place.row, place.inside = do, each, row, row
    if row is None and place.unmade is None and each is not None:
        place.unmade, place.unborn = each, each["rank"] + b"\xff"


def _is_to_come(connection: Connection, plan: Plan, place: Place, key: str) -> bool:
    """Whether an item is in the list, but was not made yet."""
    if place.row is None or place.node.each is None:
        return False
    if place.node.each.name is None:
        index = whole_number(key)
        return index is not None and index < place.row["total"]
    name = item_name(key)
    return either_form.index_of_name(connection, plan, place.row, name) is not None


def graph(
    connection: Connection, plan: Plan, number: int, address: str = "", at: int | None = None
) -> GraphRecord:
    """Return a part of a run as a tree, each part with its state; eaches are folded.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        address: the part; empty for the whole run.
        at: as it was at that moment, in microseconds since 1970 UTC; None is as it is.

    Raises:
        NotFound: the address leads nowhere.
    """
    place = find(connection, plan, number, address)
    if at is None:
        return GraphRecord(plan, _tree(connection, plan, number, place).part(place.node))
    part = _tree_at(connection, plan, number, place, at).part(place.node)
    progress = progress_at(connection, number, at) if place.node.index == 0 else None
    return GraphRecord(plan, part, progress)


def _tree(connection: Connection, plan: Plan, number: int, place: Place) -> Tree:
    if place.unmade is not None:
        return Tree(plan, {place.unmade["node"]: place.unmade}, place.keys)
    inside = place.inside
    parts = either_form.parts(connection, number, inside)
    rows = {row["node"]: row for row in (*parts, *either_form.steps(connection, number, inside))}
    eaches = [row for row in parts if plan.nodes[row["node"]].kind is Kind.EACH]
    tops = {row["id"]: _top(connection, row["id"]) for row in eaches}
    insides = inside_now(connection, plan, eaches)
    return Tree(plan, rows, place.keys, tops, run_lists.is_paused(connection, number), insides)


def _tree_at(connection: Connection, plan: Plan, number: int, place: Place, at: int) -> Tree:
    """The same as it was at a moment."""
    mends = run_lists.mends(connection, number)
    past = past_of(at, mends, lambda rounds: run_lists.ended_by_round(connection, number, rounds))
    if place.unmade is not None:
        each = place.unmade
        return Tree(plan, {each["node"]: each} if has_ended_by(past, each) else {}, place.keys)
    inside = place.inside
    parts = either_form.parts(connection, number, inside)
    begun = [
        row
        for row in parts
        if plan.nodes[row["node"]].kind is Kind.EACH and row["started_at"] <= at
    ]
    counts = {
        row["id"]: item_records.item_counts_at(
            connection, row["id"], at, round=past.round, last=past.last
        )
        for row in begun
    }
    tops = {}
    for row in begun:
        failed = item_records.items(connection, row["id"], ("failed",), 0, ON_TOP)
        ended = [one for one in failed if one["ended_at"] is not None and one["ended_at"] <= at]
        under_way = either_form.under_way_at(connection, plan, row, at, ON_TOP)
        tops[row["id"]] = [*ended, *under_way]
    rows = rows_then(
        past,
        plan,
        parts,
        either_form.steps(connection, number, inside),
        either_form.attempts_inside(connection, number, inside),
        counts,
    )
    insides = inside_then(connection, plan, past, begun)
    return Tree(plan, rows, place.keys, tops, insides=insides)


def attempts(
    connection: Connection, plan: Plan, number: int, address: str, after: int, limit: int
) -> AttemptPage:
    """Return attempts of a run, or of the steps of one item, in the order of their ids.

    Raises:
        NotFound: the address leads nowhere.
        InvalidInput: it leads to something else than an item.
    """
    inside = None
    if address.strip("/"):
        place = find(connection, plan, number, address)
        if place.inside is None or place.row is not place.inside:
            raise InvalidInput(
                f"{address!r} of run {number} is no item; give an item, or nothing for all",
                problems=[Problem("/address", "not an item")],
            )
        inside = place.inside
    rows, keys = either_form.attempts_behind(connection, plan, number, inside, after, limit)
    found = attempt_times(connection, plan, rows, keys)
    return AttemptPage(found, str(rows[-1]["id"]) if len(rows) == limit else None)


def attempt_times(
    connection: Connection, plan: Plan, rows: Sequence[Record], known: dict[int, dict[int, str]]
) -> list[AttemptTimes]:
    """Return attempts with their times and the addresses of their steps.

    Args:
        connection: a reader's.
        plan: the run's.
        rows: the attempts.
        known: by item the keys of it and of those around it, where they are known.
    """
    keys = _Keys(connection, known)
    keys.load(row["item_part"] for row in rows)
    return [
        AttemptTimes(
            id=row["id"],
            address=address_in(plan, plan.nodes[row["node"]], keys.around(row["item_part"])),
            task=plan.nodes[row["node"]].task,
            number=row["number"],
            round=row["round"],
            outcome=row["outcome"] or None,
            worker=row["worker_name"],
            pool=row["pool"] or None,
            ready_at=row["ready_at"],
            pool_until=row["pool_until"],
            handed_at=row["handed_at"],
            begun_at=row["begun_at"],
            ended_at=row["ended_at"],
            guess=row["outcome"] == Outcome.LOST and row["begun_at"] is None,
        )
        for row in rows
    ]


def attempts_in_hand(
    connection: Connection, rows: Sequence[Record], plans: dict[int, Plan]
) -> list[AttemptInHand]:
    """Return which attempts these are, by address, with when each began."""
    keys = _Keys(connection)
    found = []
    for row in rows:
        plan = plans[row["plan"]]
        address = address_in(plan, plan.nodes[row["node"]], keys.around(row["item_part"]))
        numbered = f"{address}#{row['number']}"
        found.append(AttemptInHand(row["run"], numbered, row["begun_at"], row["code_hash"]))
    return found


def addresses_in(connection: Connection, plan: Plan, rows: Mapping[int, Record]) -> dict[int, str]:
    """By id the addresses of steps within their run.

    Args:
        connection: a reader's.
        plan: the run's.
        rows: by id the node of each step, and the item around it.
    """
    keys = _Keys(connection)
    return {
        key: address_in(plan, plan.nodes[row["node"]], keys.around(row["item_part"]))
        for key, row in rows.items()
    }


class _Keys:
    """The keys of the items that something stands in, each asked for once."""

    def __init__(self, connection: Connection, known: Mapping[int, dict[int, str]] = {}) -> None:
        self._connection = connection
        self._known: dict[int | None, dict[int, str]] = dict(known.items())
        self._known[None] = {}
        self._places: dict[int | None, run_lists.ItemPlace] = {}

    def load(self, items: Iterable[int | None]) -> None:
        """Ask for many at once."""
        missing = set(items) - self._known.keys() - self._places.keys()
        while missing:
            places = run_lists.item_places(self._connection, missing)
            self._places.update((place.part, place) for place in places)
            outer = {place.item_part for place in places}
            missing = outer - self._known.keys() - self._places.keys()

    def around(self, inside: int | None) -> dict[int, str]:
        """By node the keys of an item and of those around it."""
        if inside not in self._known:
            self.load([inside])
            place = self._places[inside]
            own = {place.node: item_key(place.name, place.item)}
            self._known[inside] = {**self.around(place.item_part), **own}
        return self._known[inside]


def _top(connection: Connection, each: int) -> list[Record]:
    """The items to look at first: failed ones, and those that run the longest."""
    failed = item_records.items(connection, each, ("failed",), 0, ON_TOP)
    running = item_records.items(connection, each, ("running", "paused"), 0, 2 * ON_TOP)
    running.sort(key=lambda row: row["started_at"])
    return [*failed, *running[:ON_TOP]]


class Standing(NamedTuple):
    """Where a part or step stands: its rank, and the row of the item around it, for `Why`."""

    rank: bytes
    item: int | None


def place_of(connection: Connection, plan: Plan, number: int, address: str = "") -> Standing:
    """Find where a part or step stands.

    Raises:
        NotFound: the address leads nowhere.
    """
    place = find(connection, plan, number, address.partition("#")[0])
    rank = place.unborn or b""
    if place.unborn is None and address.strip("/"):
        rank = place.row["rank"] if place.row else rank_at(place.holder or {}, place.node)
    kept = place.inside is not None and either_form.batch_of(place.inside) is None
    return Standing(rank, place.inside["id"] if kept and place.inside else None)


class StepPlace(NamedTuple):
    """Where a step is, for `StepAction`.

    Attributes:
        address: as it is kept.
        node: its index in the plan.
        holder: the part row around it; None if that has not begun.
        item: of one in a batch its each and index.
    """

    address: str
    node: int
    holder: int | None
    item: tuple[int, int] | None


def step_place(connection: Connection, plan: Plan, number: int, address: str) -> StepPlace:
    """Find where a step is.

    Raises:
        NotFound: the address leads to no step.
    """
    place = find(connection, plan, number, address.partition("#")[0])
    _go_to_step(connection, plan, number, place, address)
    exists = place.holder is not None and place.unmade is None
    batched = either_form.batch_of(place.inside)
    return StepPlace(
        address_in(plan, place.node, place.keys),
        place.node.index,
        place.holder["id"] if exists and place.holder else None,
        (batched.part["parent"], batched.number) if batched else None,
    )


def _go_to_step(
    connection: Connection, plan: Plan, number: int, place: Place, address: str
) -> None:
    """Refuse what is no step; a step with `instead` is meant by the address of both.

    Raises:
        NotFound: it is no step.
    """
    while place.node.kind is Kind.FALLBACK:
        _descend(connection, plan, number, place, FIRST)
    node = place.node
    if node.kind is not Kind.STEP:
        steps = [one.label for one in (plan.nodes[i] for i in node.children) if one.task]
        hint = f"; steps in it: {', '.join(steps)}" if steps else ""
        raise NotFound(f"{address!r} of run {number} is {node.kind.a_kind}, not a step{hint}")


def rank_at(holder: Record, node: Node) -> bytes:
    """Where a child of a part stands, or would."""
    rank: bytes = holder["rank"]
    return rank + position_of(node).to_bytes(4, "big")


def step(connection: Connection, plan: Plan, number: int, address: str) -> StepRecord:
    """Return a step with its values and attempts.

    Raises:
        NotFound: the address leads to no step.
    """
    place = find(connection, plan, number, address)
    _go_to_step(connection, plan, number, place, address)
    node, holder = place.node, place.holder
    part = _tree(connection, plan, number, place).part(node)
    shown = f"{number}/{address_in(plan, node, place.keys)}"
    decided = _decided(step_queries.hand(connection, number, address_in(plan, node, place.keys)))
    row = None
    if holder is not None and place.unmade is None:
        row = either_form.step_at(connection, holder, node.index)
    if row is None or holder is None:
        return StepRecord(plan, part, shown, None, None, None, [], 0, decided)
    values = either_form.step_values(connection, row)
    attempts = either_form.attempts_of_step(connection, holder, row, CALLED_SHOWN)
    return StepRecord(
        plan,
        part,
        shown,
        step_standing(row),
        input=mask(decode(values["input"])),
        output=None if values["output"] is None else decode(values["output"]),
        attempts=[attempt_record(attempt) for attempt in attempts],
        folded=step_queries.count_folded(connection, row["id"], CALLED_SHOWN),
        decided=decided,
    )


def _decided(action: Record | None) -> Decided | None:
    """Return what people decided about a step; None where they did not."""
    if not action:
        return None
    return Decided(
        inputs=mask(action.get("inputs", {})),
        pool=action.get("pool"),
        priority=action.get("priority"),
        end=action.get("fate"),
        output=mask(action.get("output")),
    )
