"""Pages of the items of an each: those that were made, in either form, and those still to come.

Everything here reads one consistent state, given as a reader's connection.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from yarnloom.engine.part_contents.items import item_of, slice_of
from yarnloom.engine.queries import either_form
from yarnloom.engine.queries.part_records import item_record
from yarnloom.engine.queries.run_graph import Place, find
from yarnloom.engine.records.parts import ItemPage, ItemRecord, Unbegun
from yarnloom.engine.records.unreadable import Unreadable, readable
from yarnloom.engine.rules.states import StepState
from yarnloom.errors import NotFound
from yarnloom.plan import Plan, item_key
from yarnloom.secrets import mask
from yarnloom.store import Connection
from yarnloom.store.files import file_records
from yarnloom.store.runs import item_records, run_lists
from yarnloom.values import encode

SEARCHED = 20_000
"""How many items are searched for a text at once."""


def items(
    connection: Connection,
    plan: Plan,
    number: int,
    address: str,
    states: tuple[str, ...],
    first: int,
    limit: int,
    text: str | None = None,
    outputs: dict[int, str | None] | None = None,
) -> ItemPage:
    """Return a page of an each's items, in order; those that were not made yet are in its list.

    With a text only those that have it in their name or value. Of those that were not made some are
    searched, and `next` says where to go on, so that a page may have fewer and not be the last.
    What they gave, as JSON text, is added to `outputs` by index.

    Raises:
        NotFound: the address leads to no each.
    """
    place = find(connection, plan, number, address)
    if place.node.each is None:
        raise NotFound(f"{address!r} of run {number} is {place.node.kind.a_kind}; expected an each")
    each = place.row
    if each is None:
        return ItemPage([], None)
    label = address.strip("/")
    held = run_lists.is_paused(connection, number)
    if text is not None:
        return _search(connection, plan, place, states, first, limit, text, label, held=held)
    rows = either_form.items(connection, plan, each, states, first, limit)
    if outputs is not None:
        outputs.update(either_form.outputs_of(connection, plan, each, rows))
    found = readable(rows, lambda row: item_record(label, row, held=held), "item", "name")
    rest = each["rest_state"] or StepState.WAITING
    if not states or rest in states:
        # Items without a row may be between those with one: a full page of rows ends where the
        # last of them is, any other where the each ends.
        below = _index(found[-1]) if len(found) == limit else None
        *between, behind = item_records.items_without_rows(
            connection, number, each["id"], each["total"], each["unmade"], below
        )
        for span in between:
            if below is not None and span.start > below:
                break
            begin = max(first, span.start)
            found += _unmade(connection, place, label, begin, min(limit, span.stop - begin))
        found.sort(key=_index)
        del found[limit:]
        begin = max(first, behind.start)
        found += _unmade(connection, place, label, begin, limit - len(found))
    return ItemPage(found, str(_index(found[-1]) + 1) if len(found) == limit else None)


def _index(item: ItemRecord | Unreadable) -> int:
    return int(str(item.kept["item"])) if isinstance(item, Unreadable) else item.item


def _search(
    connection: Connection,
    plan: Plan,
    place: Place,
    states: tuple[str, ...],
    first: int,
    limit: int,
    text: str,
    label: str,
    *,
    held: bool,
) -> ItemPage:
    """Search a piece of an each's list for items with a text, in whichever form they are kept."""
    each = place.row
    assert each is not None
    some = _unmade(connection, place, label, first, SEARCHED)
    lowered = text.lower()
    fitting = {item.item: item for item in some if _has(item, lowered)}
    indexes, page, passed = list(fitting), list[ItemRecord | Unreadable](), 0
    rest = each["rest_state"] or StepState.WAITING
    unmade = _Ranges(
        item_records.items_without_rows(
            connection, each["run"], each["id"], each["total"], each["unmade"]
        )
    )
    # Those that fit and are in a state that was asked for, a piece at a time.
    while passed < len(indexes) and len(page) < limit:
        piece = indexes[passed : passed + limit]
        passed += len(piece)
        rows = either_form.items_at_indexes(connection, plan, each, states, piece)
        page += readable(rows, lambda row: item_record(label, row, held=held), "item", "name")
        if not states or rest in states:
            page += [fitting[index] for index in piece if index in unmade]
            page.sort(key=_index)
    is_full = len(page) >= limit
    following = _index(page[limit - 1]) + 1 if is_full else first + len(some)
    is_last = following >= each["total"] or not some
    return ItemPage(page[:limit], None if is_last else str(following))


class _Ranges:
    """Numbers in ranges that are in order."""

    def __init__(self, ranges: Sequence[range]) -> None:
        self._ranges = ranges
        self._starts = [some.start for some in ranges]

    def __contains__(self, number: int) -> bool:
        at = bisect_right(self._starts, number) - 1
        return at >= 0 and number in self._ranges[at]


def _has(item: ItemRecord, text: str) -> bool:
    """Whether an item has a text in its name or value."""
    return text in item.name.lower() or text in encode(item.value, "an item").lower()


def _unmade(
    connection: Connection, place: Place, label: str, first: int, limit: int
) -> list[ItemRecord]:
    """Return items that have no row: they are still to come, or never will."""
    facts, each = place.node.each, place.row
    assert facts is not None
    assert each is not None
    if first >= each["total"] or limit <= 0:
        return []
    rest = Unbegun(each["rest_state"] or str(StepState.WAITING), each["rest_reason"])
    found = []
    values = slice_of(
        connection.files,
        lambda one: file_records.marks(connection, one),
        item_records.source_of(connection, each["id"]),
        facts,
        first,
        limit,
    )
    for index, value in enumerate(values, first):
        _, name = item_of(value, facts)
        shown = name if name is not None else str(index)
        address = f"{label}[{item_key(name, index)}]"
        found.append(ItemRecord(index, shown, address, mask(value), rest))
    return found
