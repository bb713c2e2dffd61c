"""Items of an each that are done: many in one row, until somebody asks for theirs.

Most items of a long each are done at their first try, and nobody ever looks at most of these. So
those that went straight to workers (`granted_items`) and ended together are *folded* into
segments. The counters of the each, of its parts and of its flow know them as they would know rows.
Where rows are read or changed, they are made first, exactly as they would have been: `unfold`.

Decision: `docs/decisions/12-items-without-rows.md`.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from yarnloom.engine.commands import Unfold, handles
from yarnloom.engine.part_contents.items import Items, item_of
from yarnloom.engine.part_contents.new_rows import position_of
from yarnloom.engine.part_contents.renewals import Renewals
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.given_items import Given, Grants, Straight
from yarnloom.engine.without_rows.item_inputs import ItemInputs, input_of
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.runs import batch_records, given_item_records
from yarnloom.store.runs.batch_records import FoldedItem, Segment
from yarnloom.values import JsonValue, size_of

LARGEST_OUTPUT = 4_096
"""Characters of an output; an item with a longer one has rows from the start."""

AT_ONCE = 16
"""Segments that are unfolded in one transaction: about a thousand items."""


class Done(NamedTuple):
    """An item that is done.

    Attributes:
        given: the item.
        began: microseconds from when it was handed out until it began.
        took: microseconds from there to its end.
        pid: of the process.
        cpu: microseconds of processor time.
        memory: bytes.
        output: as JSON text.
    """

    given: Given
    began: int
    took: int
    pid: int | None
    cpu: int | None
    memory: int | None
    output: str


@dataclass(slots=True)
class Segments:
    """Keeps items that went as usual, many in one row."""

    unit: Unit
    time: RunTime
    grants: Grants
    item_inputs: ItemInputs
    items: Items
    renewals: Renewals

    def keep(self, run: RunRow, straight: Straight, done: list[Done]) -> None:
        """Keep items that are done."""
        folded: dict[int, list[Done]] = {}
        plain = []
        for one in done:
            if straight.folds and len(one.output) <= LARGEST_OUTPUT:
                folded.setdefault(one.given.grant.attempt, []).append(one)
            else:
                plain.append(_with_rows(straight, one))
        if folded:
            _keep_each(self.unit, straight)
            batch_records.keep(
                self.unit, [_segment(self.time, run, straight, of) for of in folded.values()]
            )
        if plain:
            _write_rows(self.unit, run, straight, plain, run.round, self.time.now)

    # Rows again

    @handles(Unfold)
    def unfold(self, command: Unfold) -> bool:
        """Give rows to some items that a mend may change; return whether there are more.

        Where all of a run are wanted, those that end from now on have rows at once.
        """
        run = self.unit.run(command.run)
        if not command.every:
            if run.ended_at is None:
                return False  # there is nothing to mend
            eaches = self.renewals.of(run).eaches_in_question()
        else:
            for straight in self.grants.eaches.values():
                if straight.run == command.run:
                    straight.folds = False
            eaches = batch_records.eaches_of(self.unit, command.run)
        if not eaches:
            return False
        some = batch_records.of_eaches(self.unit, run.number, eaches, AT_ONCE + 1)
        if some:
            self._unfold(run, some[:AT_ONCE])
        return len(some) > AT_ONCE

    def unfold_item(self, number: int, each: int, item: int) -> None:
        """Give rows to one item that is done; those in the same batch keep theirs."""
        if segment := batch_records.with_item(self.unit, number, each, item):
            self._unfold(self.unit.run(number), [segment], item)

    def _unfold(self, run: RunRow, some: Sequence[Segment], only: int | None = None) -> None:
        """Give rows to the items of segments, or to one of them."""
        known: dict[int, tuple[PartRow, Straight]] = {}
        for segment in some:
            if segment.each not in known:
                each = self.unit.parts.need(segment.each)
                straight = self.item_inputs.straight_of(run, each)
                assert straight is not None, "an item that is done can get rows"
                known[segment.each] = each, straight
            each, straight = known[segment.each]
            ended = [
                _item_of(
                    straight,
                    segment,
                    one,
                    self.items.raw_item(each, straight.facts, segment.item + one.behind),
                )
                for one in batch_records.items_of(self.unit, segment)
                if only is None or segment.item + one.behind == only
            ]
            _write_rows(self.unit, run, straight, ended, segment.round, segment.told_at)
            if only is not None:
                batch_records.take_out(self.unit, segment, only)
                return
        batch_records.drop(self.unit, some)


def _keep_each(unit: Unit, straight: Straight) -> None:
    if not straight.is_kept:
        fields = [(field.name, field.text, field.path) for field in straight.fields]
        batch_records.keep_each(unit, straight.each, straight.lane, json.dumps(fields))
        straight.is_kept = True


def _segment(time: RunTime, run: RunRow, straight: Straight, done: list[Done]) -> Segment:
    """Items of one grant as a row."""
    done.sort(key=lambda one: one.given.item)
    first, last = done[0].given, done[-1].given
    text = batch_records.item_text
    items = ",".join(
        [
            text(given.item - first.item, began, took, pid, cpu, memory, output)
            for given, began, took, pid, cpu, memory, output in done
        ]
    )
    return Segment(
        attempt=first.attempt,
        run=run.number,
        each=straight.each,
        node=straight.step.index,
        item=first.item,
        span=last.item - first.item,
        part=first.part,
        step=first.step,
        pool=straight.pool,
        worker=first.worker,
        code_hash=first.code_hash,
        round=run.round,
        handed_at=first.at,
        told_at=time.now,
        items=f"[{items}]",
    )


def _with_rows(straight: Straight, done: Done) -> given_item_records.EndedItem:
    given, began, took, pid, cpu, memory, output = done
    begun_at = given.at + began
    value, _ = item_of(given.raw, straight.facts)
    return given_item_records.EndedItem(
        part=given.part,
        step=given.step,
        attempt=given.attempt,
        item=given.item,
        name=given.name,
        value=value,
        rank=straight.rank_of(given.item),
        given=input_of(straight, given.raw, value),
        output=output,
        worker=given.worker,
        code_hash=given.code_hash,
        handed_at=given.at,
        begun_at=begun_at,
        ended_at=begun_at + took,
        pid=pid,
        cpu=cpu,
        memory=memory,
    )


def _write_rows(
    unit: Unit,
    run: RunRow,
    straight: Straight,
    ended: list[given_item_records.EndedItem],
    round_: int,
    told_at: int,
) -> None:
    wanted = straight.do.wanted
    around = given_item_records.ItemPlace(
        *(run.number, straight.each, straight.do.index, straight.step.index, straight.lane),
        *(round_, told_at, wanted, position_of(straight.step).to_bytes(4, "big")),
    )
    sizes = [size_of(one.output) if wanted else 0 for one in ended]
    given_item_records.keep_ended(unit, around, ended, sizes)


def _item_of(
    straight: Straight, segment: Segment, folded: FoldedItem, raw: JsonValue
) -> given_item_records.EndedItem:
    index = segment.item + folded.behind
    value, name = item_of(raw, straight.facts)
    return given_item_records.EndedItem(
        part=segment.part + folded.behind,
        step=segment.step + folded.behind,
        attempt=segment.attempt + folded.behind,
        item=index,
        name=name,
        value=value,
        rank=straight.rank_of(index),
        given=input_of(straight, raw, value),
        output=folded.output,
        worker=segment.worker,
        code_hash=segment.code_hash,
        handed_at=segment.handed_at,
        begun_at=folded.begun_at,
        ended_at=folded.ended_at,
        pid=folded.pid,
        cpu=folded.cpu,
        memory=folded.memory,
    )
