"""How much flows through each box inside an each: counters that follow the rows of steps.

A step in an item counts for the each around it, and for those around that. The counts come
from the rows that are written: the state before and after, so that no use case has to think of
it. Steps without a row are the exception: the code that ends the part around them calls `left`.

Decision: `docs/decisions/11-counts-inside-eaches.md`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yarnloom.engine.rules.states import StepState
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import PartRow, StepRow, Unit
from yarnloom.store.runs import counter_records
from yarnloom.store.runs import time_sums as store

if TYPE_CHECKING:
    from yarnloom.engine.state.plans import Plans


_OF_EACH = (
    *("total", "idle", "ready", "running", "backing_off", "resting", "paused"),
    *("done", "failed", "cancelled", "skipped"),
)


class Flow:
    """Changed counts inside eaches, until they are written.

    Args:
        unit: the transaction.
    """

    def __init__(self, unit: Unit) -> None:
        self._unit = unit
        self._counts: dict[tuple[int, int, str], int] = defaultdict(int)
        self._times: dict[tuple[int, int, int], tuple[int, int]] = {}
        unit.steps.watch(("state",))
        unit.parts.watch(_OF_EACH)

    def count(self, each: PartRow, node: int, state: str, number: int) -> None:
        """So many steps of an each's items came to be so; fewer, if negative."""
        for around in self._eaches(each):
            self._counts[around, node, state] += number

    def took(self, each: PartRow, node: int, *micros: int) -> None:
        """Attempts in items of an each took so long."""
        for around in self._eaches(each):
            for micro in micros:
                key = around, node, counter_records.bucket_of(micro)
                number, longest = self._times.get(key, (0, 0))
                self._times[key] = number + 1, micro if micro > longest else longest

    def step_took(self, step: StepRow, micros: int) -> None:
        """The same of a step; of one in no item nothing is counted."""
        if step.item_part is not None:
            self.took(self._each_around(step.item_part), step.node, micros)

    def _each_around(self, item: int) -> PartRow:
        parent = self._unit.parts.need(item).parent
        assert parent is not None
        return self._unit.parts.need(parent)

    def _eaches(self, each: PartRow) -> Iterator[int]:
        """An each and those around it, from inside out."""
        while True:
            yield each.id
            if each.item_part is None:
                return
            each = self._each_around(each.item_part)

    # Steps without rows

    def left(self, plans: Plans, part: PartRow, sign: int = 1) -> None:
        """What has not begun in a part will not, as its `rest_state` says; or may again."""
        plan = plans.of(self._unit.run(part.run))
        node = plan.nodes[part.node]
        if node.kind is Kind.EACH:
            self._leave(plan, part, node.children, part, sign * part.unmade)
        elif (item := part.id if part.value is not None else part.item_part) is not None:
            known = counter_records.children_with_rows(self._unit, part.id)
            rest = [child for child in node.children if child not in known]
            self._leave(plan, self._each_around(item), rest, part, sign)

    def _leave(
        self, plan: Plan, each: PartRow, nodes: Iterable[int], part: PartRow, number: int
    ) -> None:
        state = counter_records.LEFT[str(part.rest_state)]
        for index in nodes:
            for step in steps_in(plan, plan.nodes[index]):
                self.count(each, step.index, state, number)

    # Writing

    def write(self, plans: Plans) -> None:
        """Write what changed; everything else is written already."""
        self._unit.flush()
        for step, before, after in self._unit.steps.take_watched():
            self._step_written(step, before, after)
        for part, was, now in self._unit.parts.take_watched():
            self._part_written(plans, part, was, now)
        counter_records.add_counts(self._unit, self._counts)
        counter_records.add_times(self._unit, self._times)
        self.forget()

    def forget(self) -> None:
        """Nothing changed after all."""
        self._counts.clear()
        self._times.clear()

    def _step_written(self, step: StepRow, before: str | None, after: str) -> None:
        if step.item_part is None:
            return
        each = self._each_around(step.item_part)
        for state, change in ((before, -1), (after, 1)):
            if state is not None and state != StepState.WAITING:
                self.count(each, step.node, str(state), change)

    def _part_written(
        self, plans: Plans, part: PartRow, before: tuple[int, ...] | None, after: tuple[int, ...]
    ) -> None:
        if part.item_part is None or part.value is not None:
            return
        plan = plans.of(self._unit.run(part.run))
        if plan.nodes[part.node].kind is not Kind.EACH:
            return
        around = self._each_around(part.item_part)
        for at, name in enumerate(_OF_EACH):
            change = after[at] - (before[at] if before else 0)
            if change:
                self.count(around, part.node, name, change)


def steps_in(plan: Plan, node: Node) -> Iterator[Node]:
    """The steps in a part, but for those that eaches in it repeat."""
    if node.kind is Kind.STEP:
        yield node
    elif node.kind is not Kind.EACH:
        for child in node.children:
            yield from steps_in(plan, plan.nodes[child])


FINEST = 1_000
"""Microseconds of the first slices of a run."""

SLICES = 1_024
"""How many slices a run has at most; at least half as many once it had more."""

RUNS_REMEMBERED = 200


@dataclass(slots=True)
class Axis:
    """How a run's time is divided.

    Attributes:
        first: when slice 0 begins, in microseconds since 1970 UTC; slices before it are negative.
        width: of a slice, in microseconds.
        low: the first slice with anything in it.
        high: the last one.
        last: when the last attempt ended.
    """

    first: int
    width: int = FINEST
    low: int = 0
    high: int = 0
    last: int = 0

    def reach(self, begin: int, end: int) -> None:
        """Something is added from one moment to another, at which an attempt or a wait ended."""
        self.low = min(self.low, (begin - self.first) // self.width)
        self.high = max(self.high, (end - self.first) // self.width)
        self.last = max(self.last, end)


@dataclass(slots=True)
class EndedTry:
    """An attempt that has ended; times in microseconds since 1970 UTC.

    Attributes:
        ready_at: since when its step could have begun.
        begun_at: None if it never began.
        ended_at: its end.
        failed: whether that counts as a failure.
        pool_until: until when its pool let nothing begin; None: it did.
        slept: how its step slept before: `back_off` or `rest`; None: it did not.
        slept_from: since when.
    """

    ready_at: int
    begun_at: int | None
    ended_at: int
    failed: bool = False
    pool_until: int | None = None
    slept: str | None = None
    slept_from: int = 0


_ATTEMPTS, _BEGUN, _FAILED, _LONGEST = range(4)
_KIND = {kind: 4 + 2 * at for at, kind in enumerate(store.KINDS)}
_RAN, _WORKER = _KIND["ran"], _KIND["worker"]
_EMPTY = [0] * len(store.VALUES)


class Rows(dict[int, list[int]]):
    """The numbers to add to the columns of each slice."""

    def __missing__(self, at: int) -> list[int]:
        row = self[at] = _EMPTY.copy()
        return row


class TimeSums:
    """What the transactions add, until it is written.

    Args:
        unit: the store.
    """

    def __init__(self, unit: Unit) -> None:
        self._unit = unit
        self._axes: dict[int, Axis] = {}
        self._rows: dict[int, dict[int, Rows]] = {}

    def end(self, run: int, node: int, tried: EndedTry) -> None:
        """An attempt of a step ended."""
        axis, rows = self._axis(run, tried.ready_at), self._rows_of(run, node)
        begin = tried.ended_at if tried.begun_at is None else tried.begun_at
        free = tried.ready_at
        if tried.slept is not None and free > tried.slept_from:
            _cover(rows, axis, _KIND[tried.slept], tried.slept_from, free)
        if tried.pool_until is not None:
            free = max(free, min(tried.pool_until, begin))
            _cover(rows, axis, _KIND["pool"], tried.ready_at, free)
        self._end(rows, axis, free, tried.begun_at, tried.ended_at, failed=tried.failed)

    def done(self, run: int, node: int, attempts: Sequence[tuple[int, int, int]]) -> None:
        """Attempts of a step ended well: of each when it was ready, began and ended."""
        axis, rows = self._axis(run, attempts[0][0]), self._rows_of(run, node)
        first, width = axis.first, axis.width
        # As `end` does, without a call for each: this is asked of every item.
        for ready_at, begun_at, ended_at in attempts:
            if begun_at > ready_at:
                at = (ready_at - first) // width
                row = rows[at]
                row[_WORKER] += first + (at + 1) * width - ready_at
                row[_WORKER + 1] += 1
                at = (begun_at - first) // width
                row = rows[at]
                rest = first + (at + 1) * width - begun_at
                row[_WORKER] -= rest
                row[_WORKER + 1] -= 1
            else:
                at = (begun_at - first) // width
                row = rows[at]
                rest = first + (at + 1) * width - begun_at
            row[_RAN] += rest
            row[_RAN + 1] += 1
            at = (ended_at - first) // width
            row = rows[at]
            row[_RAN] -= first + (at + 1) * width - ended_at
            row[_RAN + 1] -= 1
            row[_ATTEMPTS] += 1
            row[_BEGUN] += 1
            row[_LONGEST] = max(row[_LONGEST], ended_at - begun_at)
        axis.reach(min(at for at, _, _ in attempts), max(at for _, _, at in attempts))

    def _end(
        self, rows: Rows, axis: Axis, free: int, begun: int | None, ended: int, *, failed: bool
    ) -> None:
        begin = ended if begun is None else begun
        if begin > free:
            _cover(rows, axis, _WORKER, free, begin)
        row = _cover(rows, axis, _RAN, begin, ended)
        row[_ATTEMPTS] += 1
        if begun is not None:
            row[_BEGUN] += 1
            row[_FAILED] += failed
            row[_LONGEST] = max(row[_LONGEST], ended - begun)

    def _rows_of(self, run: int, node: int) -> Rows:
        return self._rows.setdefault(run, {}).setdefault(node, Rows())

    def _axis(self, run: int, first: int) -> Axis:
        axis = self._axes.get(run)
        if axis is None:
            known = store.axis_of(self._unit, run)
            axis = Axis(*known) if known else Axis(first)
            while len(self._axes) >= RUNS_REMEMBERED + len(self._rows):
                del self._axes[next(sums for sums in self._axes if sums not in self._rows)]
            self._axes[run] = axis
        return axis

    def ran_in(self, run: int) -> dict[int, tuple[int, int]]:
        """By node how many attempts of a run have ended that began, and how long they ran."""
        self.write()
        return store.ran_in_items(self._unit, run) | store.ran_outside(self._unit, run)

    def write(self) -> None:
        """Write what was added."""
        for run, nodes in self._rows.items():
            axis = self._axes[run]
            store.add_slices(
                self._unit,
                [(run, node, at, *row) for node, rows in nodes.items() for at, row in rows.items()],
            )
            if axis.high - axis.low >= SLICES:
                by = 2
                while axis.high // by - axis.low // by >= SLICES:
                    by *= 2
                store.widen(self._unit, run, axis.width, by)
                axis.width, axis.low, axis.high = axis.width * by, axis.low // by, axis.high // by
            store.keep_axis(self._unit, run, axis.first, axis.width, axis.low, axis.high, axis.last)
        self._rows.clear()

    def forget(self) -> None:
        """Nothing was added after all."""
        self._rows.clear()
        self._axes.clear()


def _cover(rows: Rows, axis: Axis, column: int, begin: int, end: int) -> list[int]:
    """Something lasted from one moment to another; the row of the slice in which it ended."""
    axis.reach(begin, end)
    for moment, sign in (begin, 1), (end, -1):
        at = (moment - axis.first) // axis.width
        row = rows[at]
        row[column] += sign * (axis.first + (at + 1) * axis.width - moment)
        row[column + 1] += sign
    return row
