"""Where the time of a run went, by the parts of its plan: items from sums kept in slices of time.

However many attempts there were, the answer has so many slices a row: how many ran at once in each,
how many of those that ended failed, and how many waited, for what.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import accumulate
from typing import Any

from yarnloom.engine.queries import either_form
from yarnloom.engine.queries.run_graph import attempt_times
from yarnloom.engine.records.runs import Outliers, TimesRecord, TimesRow
from yarnloom.engine.rules.states import SLEPT, TROUBLE
from yarnloom.engine.state.each_counts import FINEST
from yarnloom.errors import NotFound, nearest
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import Connection, Row
from yarnloom.store.runs import step_queries, time_sums

SLICES = 500
NUMBERS = 20_000
"""How many slices all rows have together at most, but for `FEWEST` in each."""

FEWEST = 20
WAITS = ("pool", "worker", "back_off", "rest")


@dataclass(slots=True)
class Slices:
    """How many there were at once of something, in each slice of time.

    Attributes:
        first: when the first slice begins, in microseconds since 1970 UTC.
        width: of a slice, in microseconds.
        count: how many slices there are.
    """

    first: int
    width: int
    count: int
    micros: list[int] = field(default_factory=list)
    _whole: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.micros, self._whole = [0] * self.count, [0] * self.count

    def at(self, moment: int) -> int:
        """The slice of a moment; the first or last for one before or after all."""
        return min(max(0, (moment - self.first) // self.width), self.count - 1)

    def cover(self, begin: int, end: int) -> None:
        """Something was there from one moment to another; as long, however many slices that are."""
        begin = max(begin, self.first)
        end = min(end, self.first + self.count * self.width)
        if begin >= end:
            return
        low, high = self.at(begin), self.at(end)
        if low == high:
            self.micros[low] += end - begin
            return
        self.micros[low] += self.first + (low + 1) * self.width - begin
        self.micros[high] += end - self.first - high * self.width
        # How many more fill a whole slice than filled the one before.
        self._whole[low + 1] += 1
        self._whole[high] -= 1

    def mean(self) -> list[float]:
        """How many there were in each slice, on the average."""
        whole = accumulate(self._whole)
        return [
            round(micros / self.width + more, 2)
            for micros, more in zip(self.micros, whole, strict=True)
        ]


@dataclass(slots=True)
class Spent:
    """What the attempts of a step took together, over all items; times in microseconds."""

    ran: Slices
    waits: dict[str, Slices]
    ended: list[int]
    failing: list[int]
    attempts: int = 0
    failed: int = 0
    longest: int = 0
    sum_ran: int = 0
    sum_waits: dict[str, int] = field(default_factory=lambda: dict.fromkeys(WAITS, 0))


def spending(connection: Connection, plan: Plan, number: int, now: int) -> TimesRecord:
    """Return where the time of a run went.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        now: until when what still runs has run, in microseconds since 1970 UTC.
    """
    axis = time_sums.axis(connection, number)
    single = time_sums.single_attempts(connection, number)
    if axis is None and not single:
        return TimesRecord(None, None, 0, 0, [])
    sums = {row["node"]: row for row in time_sums.sums(connection, number)}
    begun = sums.keys() | {row["node"] for row in single}
    shown = [
        (node, depth)
        for node, depth in _rows(plan, plan.nodes[0], 0)
        if not begun.isdisjoint(_counted(plan, node))
    ]
    fine = _axis(axis, single, now, len(shown))
    spent = {node: _empty(fine) for node in begun}
    for node, row in sums.items():
        total = spent[node]
        total.attempts, total.failed, total.longest = row["begun"], row["failed"], row["longest"]
        total.sum_ran = row["ran"]
        total.sum_waits = {kind: row[kind] for kind in WAITS}
    # A slice that is shown may be several of those that are kept.
    if axis is not None:
        for node, kind, at, micros, ended, failed in time_sums.slices(connection, number):
            total = spent[node]
            slice_ = (axis["first"] + at * axis["width"] - fine.first) // fine.width
            (total.ran if kind == "ran" else total.waits[kind]).micros[slice_] += micros
            total.ended[slice_] += ended
            total.failing[slice_] += failed
    for row in single:
        _add(spent[row["node"]], row, now)
    attempts = sum(row["attempts"] for row in sums.values()) + len(single)
    return TimesRecord(
        from_=fine.first,
        to=fine.first + fine.count * fine.width,
        slices=fine.count,
        attempts=attempts,
        rows=[_row(plan, node, depth, spent) for node, depth in shown],
    )


def _axis(axis: Row | None, single: Sequence[Row], now: int, rows: int) -> Slices:
    """The slices that are shown: each is one of those that are kept, or a few together."""
    width = axis["width"] if axis else FINEST
    begins = [_earliest(row) for row in single]
    zero = axis["first"] if axis else min(begins)
    first, last = zero, zero
    if axis:
        first, last = zero + axis["low"] * width, max(axis["last"], zero + axis["high"] * width)
    if single:
        ends = [now if row["ended_at"] is None else row["ended_at"] for row in single]
        first, last = min(first, *begins), max(last, *ends)
    most = max(FEWEST, min(SLICES, NUMBERS // max(1, rows)))
    first = zero + (first - zero) // width * width
    kept = (last - first) // width + 1
    wide = -(-kept // most)
    return Slices(first, wide * width, -(-kept // wide))


def _earliest(row: Row) -> int:
    slept: int | None = row["slept_from"]
    ready: int = row["ready_at"]
    return ready if slept is None or not _slept(row) else min(slept, ready)


def _slept(row: Row) -> str | None:
    """How a step slept before an attempt."""
    return SLEPT.get(row["outcome_before"]) if row["same_round"] else None


def _empty(axis: Slices) -> Spent:
    def slices() -> Slices:
        return Slices(axis.first, axis.width, axis.count)

    waits = {kind: slices() for kind in WAITS}
    return Spent(slices(), waits, [0] * axis.count, [0] * axis.count)


def _add(spent: Spent, row: Row, now: int) -> None:
    """Add an attempt; one that has not ended as far as it is by now."""
    end = now if row["ended_at"] is None else row["ended_at"]
    begin = end if row["begun_at"] is None else row["begun_at"]
    free = row["ready_at"] if row["pool_until"] is None else min(row["pool_until"], begin)
    waits = [("pool", row["ready_at"], free), ("worker", free, begin)]
    if (kind := _slept(row)) is not None:
        waits.append((kind, row["slept_from"], row["ready_at"]))
    for kind, since, until in waits:
        if until > since:
            spent.sum_waits[kind] += until - since
            spent.waits[kind].cover(since, until)
    if row["begun_at"] is not None:
        spent.attempts += 1
        spent.sum_ran += max(0, end - begin)
        spent.longest = max(spent.longest, end - begin)
        spent.ran.cover(begin, end)
        if row["ended_at"] is not None:
            failed = row["outcome"] in TROUBLE
            spent.failed += failed
            spent.ended[spent.ran.at(end)] += 1
            spent.failing[spent.ran.at(end)] += failed


def outliers(
    connection: Connection, plan: Plan, number: int, address: str, now: int, limit: int
) -> Outliers:
    """Return the slowest attempts of a step or each over all items, and the first that failed.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        address: of the step or each, without the keys of items.
        now: until when what still runs has run, in microseconds since 1970 UTC.
        limit: how many of both.

    Raises:
        NotFound: the plan has no such step or each.
    """
    rows = {plan.address(node): node for node, _ in _rows(plan, plan.nodes[0], 0)}
    if address not in rows:
        raise NotFound(
            f"{address!r:.200}, an address without the keys of items, is no step or each of run "
            f"{number}{nearest(address, rows)}"
        )
    nodes = _counted(plan, rows[address])
    slowest = either_form.slowest_attempts(connection, plan, number, nodes, now, limit)
    failed = step_queries.first_failed(connection, number, nodes, limit)
    return Outliers(
        slowest=attempt_times(connection, plan, *slowest),
        failed=attempt_times(connection, plan, failed, {}),
    )


def _rows(plan: Plan, node: Node, depth: int) -> Iterator[tuple[Node, int]]:
    """The steps and eaches of a plan in its order, each with its depth."""
    if node.kind is Kind.EACH:
        yield node, depth
        depth += 1
    elif node.kind is Kind.STEP:
        yield node, depth
    for child in (*node.children, *node.follow_ups.values()):
        yield from _rows(plan, plan.nodes[child], depth)


def _counted(plan: Plan, node: Node) -> list[int]:
    """The steps that a row counts: itself, or all steps inside an each."""
    return list(_steps(plan, node)) if node.kind is Kind.EACH else [node.index]


def _steps(plan: Plan, node: Node) -> Iterator[int]:
    if node.kind is Kind.STEP:
        yield node.index
    for child in (*node.children, *node.follow_ups.values()):
        yield from _steps(plan, plan.nodes[child])


def _row(plan: Plan, node: Node, depth: int, spent: dict[int, Spent]) -> TimesRow:
    """Return a step, or an each with all that is in it."""
    parts = [spent[index] for index in _counted(plan, node) if index in spent]
    # Kinds of waiting that no step knew are left out, so that a table has no empty columns.
    waiting = {
        kind: _sum([part.waits[kind].mean() for part in parts if part.sum_waits[kind]])
        for kind in WAITS
        if any(part.sum_waits[kind] for part in parts)
    }
    return TimesRow(
        address=plan.address(node),
        label=node.label,
        kind=str(node.kind),
        depth=depth,
        attempts=sum(part.attempts for part in parts),
        failed=sum(part.failed for part in parts),
        longest=max(part.longest for part in parts) / 1_000_000,
        ran=sum(part.sum_ran for part in parts) / 1_000_000,
        waited={kind: sum(part.sum_waits[kind] for part in parts) / 1_000_000 for kind in WAITS},
        running=_sum([part.ran.mean() for part in parts]),
        failing=_shares([one.failing for one in parts], [one.ended for one in parts]),
        waiting=waiting,
    )


def _shares(failing: list[list[int]], ended: list[list[int]]) -> list[float]:
    """The share of failures by slice."""
    some, of = _sum(failing), _sum(ended)
    return [round(one / all_, 2) if all_ else 0 for one, all_ in zip(some, of, strict=True)]


def _sum(some: list[list[Any]]) -> list[Any]:
    if len(some) == 1:
        return list(some[0])
    return [round(sum(one), 2) for one in zip(*some, strict=True)]
