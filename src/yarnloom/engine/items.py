"""The items of an each: its list is read once, and items are made from it in windows.

The list stays in the store as it was read. In memory is at most a slice of it, of the items that
come next; what is past or far ahead is nowhere but on disk.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from yarnloom.engine.turn import Turn
from yarnloom.plan import EachFacts
from yarnloom.store import PartRow
from yarnloom.store import writing as store
from yarnloom.values import decode

FILL_DUE = "fill"
WINDOW = 64
SLICE = 512


class ItemFault(Exception):
    """Why a part cannot begin: what it reads is not what it needs."""

    def __init__(self, message: str, kind: str = "Unfit") -> None:
        super().__init__(message)
        self.type = kind


@dataclass(frozen=True, slots=True)
class Window:
    """How many items of an each may be under way, and from how few on more are made.

    Without `at_once` items in which something backs off do not count, so that they choke nothing.
    """

    size: int
    refill_at: int
    passes_over: bool = False


def window(turn: Turn, facts: EachFacts) -> Window:
    """The window of an each; without `at_once` it grows with the places of all workers."""
    if facts.at_once:
        return Window(facts.at_once, facts.at_once - 1)
    places = sum(worker.places + worker.io_places for worker in turn.memory.workers.values())
    size = WINDOW + 2 * places
    return Window(size, size // 2, passes_over=True)


def read_source(turn: Turn, part: PartRow, facts: EachFacts, text: str | None) -> int | None:
    """Read the list of an each, and keep it.

    Returns:
        How many items it makes; None if there is null instead of a list.

    Raises:
        ItemFault: it is no list, or its items' names are missing or not unique.
    """
    values = None if text is None else decode(text)
    if values is None:
        return None
    if not isinstance(values, list):
        raise ItemFault(f"over is {text:.60}; expected a list")
    if facts.name is not None:
        _refuse_names(values, facts.name)
    assert text is not None
    store.keep_source(turn.unit, part.id, text)
    _keep_slice(turn, part, facts, values, 0)
    return -(-len(values) // (facts.batch or 1))


def item_value(turn: Turn, part: PartRow, facts: EachFacts, index: int) -> tuple[str, str | None]:
    """Value (as JSON text) and name of an item."""
    first, values = turn.memory.slices.get(part.id, (0, []))
    if not first <= index < first + len(values):
        _keep_slice(turn, part, facts, decode(store.source(turn.unit, part.id)), index)
        first, values = turn.memory.slices[part.id]
    return item_of(values[index - first], facts)


def item_of(value: Any, facts: EachFacts) -> tuple[str, str | None]:
    """An item's value as JSON text, and its name."""
    name = None if facts.name is None else _name(value, facts.name)
    return json.dumps(value, ensure_ascii=False, separators=(",", ":")), name


def slice_of(values: list[Any], facts: EachFacts, first: int, count: int) -> list[Any]:
    """Some items of a list, from one on; with `batch` each is a list itself."""
    if not facts.batch:
        return values[first : first + count]
    starts = range(first * facts.batch, len(values), facts.batch)
    return [values[start : start + facts.batch] for start in starts[:count]]


def _keep_slice(turn: Turn, part: PartRow, facts: EachFacts, values: list[Any], first: int) -> None:
    slices = turn.memory.slices
    if len(slices) > 100:
        slices.clear()  # far more eaches under way than can move at once
    slices[part.id] = (first, slice_of(values, facts, first, SLICE))


def _refuse_names(values: list[Any], path: tuple[str, ...]) -> None:
    seen: dict[str, int] = {}
    for index, value in enumerate(values):
        name = _name(value, path)
        if name is None:
            raise ItemFault(
                f"item {index} has no name at {'.'.join(path) or 'item()'}; expected text or a "
                f"whole number: {json.dumps(value, ensure_ascii=False):.60}"
            )
        if name in seen:
            raise ItemFault(f"items {seen[name]} and {index} have the same name, {name!r:.80}")
        seen[name] = index


def _name(value: Any, path: tuple[str, ...]) -> str | None:
    for key in path:
        value = value.get(key) if isinstance(value, dict) else None
    if isinstance(value, str):
        return value if 0 < len(value) <= 200 else None
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else None
