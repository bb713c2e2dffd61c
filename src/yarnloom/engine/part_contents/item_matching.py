"""An each whose list is read again, after a mend: which items go on, which are new, which are gone.

Items match by name, or by index where they have none. One with equal content keeps what it has
done; one whose content changed runs again; one that vanished is skipped as `gone`.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.dispatch.kept_files import KeptFiles
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.items import item_of, slice_of, values_of
from yarnloom.engine.part_contents.lists import refuse_names
from yarnloom.engine.part_contents.new_rows import NewRows, rank_of
from yarnloom.engine.part_contents.outcomes import Outcomes, note_skip
from yarnloom.engine.part_contents.pending import GONE
from yarnloom.engine.part_contents.renewals import Renewals, has_ended, items_by_name
from yarnloom.engine.rules.states import PartState, SkipReason
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.progress import WHOLE, Progress
from yarnloom.engine.state.settings import Folder
from yarnloom.engine.state.transitions import count_child
from yarnloom.media_types import is_list_reference
from yarnloom.plan import Node
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.runs import item_records, paused_runs
from yarnloom.values import decode

FAR = 0x7FFFFFFF
"""Indexes from here down are where items stand that are being moved."""


def next_that_waits(unit: Unit, each: PartRow) -> PartRow | None:
    """The first item of an each that waits to run again."""
    found = paused_runs.items_that_wait(unit, each.id, 1)
    return unit.parts.need(found[0]) if found else None


@dataclass(slots=True)
class ItemMatching:
    """Matches the items of a list with those of an earlier round."""

    unit: Unit
    plans: Plans
    folder: Folder
    progress: Progress
    kept_files: KeptFiles
    new_rows: NewRows
    outcomes: Outcomes
    renewals: Renewals

    def match_items(self, run: RunRow, each: PartRow, node: Node, text: str | None) -> bool:
        """Let the items of an each that was renewed fit its list as it is now.

        Returns:
            Whether the each has items from before; False if its list is to be read for the first
            time.

        Raises:
            ItemFault: the list cannot be read.
        """
        if not paused_runs.has_source(self.unit, each.id):
            return False
        if text is not None and text == item_records.source(self.unit, each.id):
            return True
        _Match(self, run, each, node).match(text)
        return True


class _Match:
    def __init__(self, needs: ItemMatching, run: RunRow, each: PartRow, node: Node) -> None:
        self.needs = needs
        self.run = run
        self.each = each
        self.node = node
        self.do = needs.plans.of(run).nodes[node.children[0]]
        self.renewal = needs.renewals.of(run)

    def match(self, text: str | None) -> None:
        facts, each = self.node.each, self.each
        assert facts is not None
        if text is None or decode(text) is None:
            raise ItemFault("over is null now, but was a list in an earlier round")
        before = items_by_name(self.needs.unit, each)
        source = decode(text)
        values = values_of(self.needs.folder.files, source)
        if not isinstance(values, list):
            raise ItemFault(f"over is {text:.60}; expected a list")
        if facts.name is not None:
            refuse_names(values, facts.name)
        if is_list_reference(source):
            # At a start it would be looked through elsewhere; here its values are in hand anyway.
            self.needs.kept_files.mark_list(source["list"])
        paused_runs.drop_source(self.needs.unit, each.id)
        item_records.keep_source(self.needs.unit, each.id, text)
        count = -(-len(values) // (facts.batch or 1))
        items = slice_of(self.needs.folder.files, lambda _: None, values, facts, 0, count)
        wanted = [item_of(value, facts) for value in items]
        names = [str(index) if name is None else name for index, (_, name) in enumerate(wanted)]
        gone = [key for name, (key, _) in before.items() if name not in set(names)]
        # All are put aside first, so that none stands where another is to be.
        for index, (key, _) in enumerate(before.values()):
            self.move(key, FAR - index)
        last_known = max((i for i, name in enumerate(names) if name in before), default=-1)
        if gone:
            last_known = count - 1  # those stand behind all, so none can be made in order later
        for index, ((value, name), shown) in enumerate(zip(wanted, names, strict=True)):
            if shown in before:
                key, old = before[shown]
                self.move(key, index)
                self.take(self.needs.unit.parts.need(key), value, changed=value != old)
            elif index <= last_known:
                self.needs.new_rows.add_item_that_waits(self.run, self.do, each, index, value, name)
                each.items_to_rerun += 1
        for index, key in enumerate(gone):
            self.move(key, count + index)
            self.end_as_gone(self.needs.unit.parts.need(key))
        each.total = count + len(gone)
        each.unmade = count - last_known - 1
        batch = facts.batch or 1
        covers = len(values) if not gone else batch * each.total
        self.needs.progress.list_changed(self.run, each, covers)

    def move(self, key: int, index: int) -> None:
        """Put an item at an index."""
        part = self.needs.unit.parts.need(key)
        if part.item != index:
            rank = rank_of(self.each, index)
            paused_runs.move_item(self.needs.unit, self.run.number, key, part.rank, index, rank)

    def take(self, item: PartRow, value: str, *, changed: bool) -> None:
        """An item is in the list again."""
        was_gone = item.skip_reason == SkipReason.GONE and has_ended(item)
        if changed:
            self.needs.unit.parts.rewrite(item, value=value)
        if (changed or was_gone) and has_ended(item):
            self.renewal.wholly(item)
            self.each.items_to_rerun += 1
        elif changed:
            self.renewal.wholly(item)

    def end_as_gone(self, item: PartRow) -> None:
        """An item is not in the list any more: it is skipped, whatever it was."""
        if has_ended(item):
            count_child(
                self.needs.unit, self.each.id, item.outcome or item.state, PartState.SKIPPED
            )
        else:
            self.each.items_to_rerun -= 1
            self.each.skipped += 1
            self.needs.outcomes.end_part_that_waits(item, GONE)
        item.state = item.outcome = PartState.SKIPPED
        item.skip_reason = SkipReason.GONE
        item.output, item.size, item.fraction = None, 0, WHOLE
        note_skip(self.each, SkipReason.GONE)
        self.needs.unit.parts.touch(item)
