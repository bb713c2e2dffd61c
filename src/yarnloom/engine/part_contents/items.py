"""The items of an each: its list is read once, and items are made from it in windows.

The list stays in the store as it was read. In memory is at most a slice of it, of the items that
come next; what is past or far ahead is nowhere but on disk.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass

from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.lists import ListJobs, name_of, refuse_names
from yarnloom.engine.state.each_memory import Parts
from yarnloom.engine.state.settings import Folder
from yarnloom.engine.state.workers import Workers
from yarnloom.media_types import is_list_reference
from yarnloom.plan import EachFacts
from yarnloom.store import FileFolder, PartRow, Unit
from yarnloom.store.files import file_records
from yarnloom.store.runs import item_records
from yarnloom.values import JsonObject, JsonValue, decode

FILL_DUE = "fill"
WINDOW = 64
SLICE, SLICE_OF_FILE = 4_096, 512
"""Values in memory: of a list that is a value, which is read as a whole for each; of a file."""


@dataclass(frozen=True, slots=True)
class Window:
    """How many items of an each may be under way, and from how few on more are made.

    Of items that go straight to workers (`without_rows/giving_items`) `straight` may be under way,
    as many as workers take ahead.

    Without `at_once` items in which something backs off do not count, so that they choke nothing.
    """

    size: int
    refill_at: int
    straight: int
    passes_over: bool = False


@dataclass(slots=True)
class Items:
    """Reads the lists of eaches."""

    unit: Unit
    folder: Folder
    workers: Workers
    parts: Parts
    list_jobs: ListJobs

    def window(self, facts: EachFacts) -> Window:
        """The window of an each; without `at_once` it grows with the places of all workers."""
        if facts.at_once:
            return Window(facts.at_once, facts.at_once - 1, facts.at_once)
        workers = self.workers.values()
        size = WINDOW + 2 * sum(worker.offer.places + worker.offer.io_places for worker in workers)
        straight = size + 2 * sum(worker.offer.ahead for worker in workers)
        return Window(size, size // 2, straight, passes_over=True)

    def read_source(self, part: PartRow, facts: EachFacts, text: str | None) -> int | None:
        """Read the list of an each, and keep it.

        Returns:
            How many values it has; None if there is null instead of a list.

        Raises:
            ItemFault: it is no list, or its items' names are missing or not unique.
        """
        values = None if text is None else decode(text)
        if values is None:
            return None
        assert text is not None
        if is_list_reference(values):
            return self._read_reference(part, facts, text, values)
        if not isinstance(values, list):
            raise ItemFault(f"over is {text:.60}; expected a list")
        if facts.name is not None:
            refuse_names(values, facts.name)
        item_records.keep_source(self.unit, part.id, text)
        self._keep_slice(part, facts, values, 0)
        return len(values)

    def _read_reference(
        self, part: PartRow, facts: EachFacts, text: str, reference: JsonObject
    ) -> int:
        """Read a list that is a file; one that must be looked through first has no items yet."""
        marks = file_records.marks_of(self.unit, reference["list"])
        if facts.name is None and marks is not None:
            item_records.keep_source(self.unit, part.id, text)
            return int(reference["count"])
        self.list_jobs.ask_to_read(part, facts, text)
        return 0

    def item_value(self, part: PartRow, facts: EachFacts, index: int) -> tuple[str, str | None]:
        """Value (as JSON text) and name of an item."""
        return item_of(self.raw_item(part, facts, index), facts)

    def raw_item(self, part: PartRow, facts: EachFacts, index: int) -> JsonValue:
        """Return the value of an item."""
        first, values = self.parts.slices.get(part.id, (0, []))
        if not first <= index < first + len(values):
            self._keep_slice(part, facts, decode(item_records.source(self.unit, part.id)), index)
            first, values = self.parts.slices[part.id]
            if not values:
                raise LookupError(f"the list of each {part.id} has no item {index}")
        return values[index - first]

    def raw_items(self, part: PartRow, facts: EachFacts, first: int, count: int) -> list[JsonValue]:
        """Return the values of items that follow each other."""
        found: list[JsonValue] = []
        while len(found) < count:
            at = first + len(found)
            self.raw_item(part, facts, at)  # so that its slice is there
            begin, values = self.parts.slices[part.id]
            found += values[at - begin : first + count - begin]
        return found

    def _keep_slice(self, part: PartRow, facts: EachFacts, source: JsonValue, first: int) -> None:
        slices = self.parts.slices
        if len(slices) > 100:
            slices.clear()  # far more eaches under way than can move at once
        count = SLICE_OF_FILE if is_list_reference(source) else SLICE
        found = slice_of(
            self.folder.files,
            lambda one: file_records.marks_of(self.unit, one),
            source,
            facts,
            first,
            count,
        )
        slices[part.id] = (first, found)


def item_of(value: JsonValue, facts: EachFacts) -> tuple[str, str | None]:
    """An item's value as JSON text, and its name."""
    name = None if facts.name is None else name_of(value, facts.name)
    if type(value) is int:
        return str(value), name
    return json.dumps(value, ensure_ascii=False, separators=(",", ":")), name


def slice_of(
    files: FileFolder,
    marks_of: Callable[[str], bytes | None],
    source: JsonValue,
    facts: EachFacts,
    first: int,
    count: int,
) -> list[JsonValue]:
    """Some items of a list, from one on; of a long one that is a file maybe fewer.

    Args:
        files: where lists are that are files.
        marks_of: says where the values of such a list begin.
        source: the list, or the reference to one.
        facts: with `batch` each item is a list itself.
        first: the index of the first.
        count: how many at most.
    """
    if not is_list_reference(source):
        return _slice(source, facts, first, count)
    size = facts.batch or 1
    marks = marks_of(source["list"]) or b""
    begin, most = first * size, min(count * size, source["count"] - first * size)
    values = files.read_list(source["list"], marks, begin, most, at_least=size)
    if len(values) < most:
        del values[len(values) - len(values) % size :]
    return _slice(values, facts, 0, count)


def values_of(files: FileFolder, source: JsonValue) -> list[JsonValue]:
    """All of a list, also of one that is a file."""
    if is_list_reference(source):
        return [decode(line) for line in files.lines(source["list"])]
    found: list[JsonValue] = source
    return found


def _slice(values: list[JsonValue], facts: EachFacts, first: int, count: int) -> list[JsonValue]:
    if not facts.batch:
        return values[first : first + count]
    starts = range(first * facts.batch, len(values), facts.batch)
    return [values[start : start + facts.batch] for start in starts[:count]]
