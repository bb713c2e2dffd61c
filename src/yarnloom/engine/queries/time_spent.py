"""Where the time of a run went, by the parts of its plan: attempts folded into slices of time.

However many attempts there were, the answer has so many slices a row: how many ran at once in each,
how many of those that ended failed, and how many waited, for what.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.queries.run_graph import attempt_views
from yarnloom.engine.queries.views import (
    View,
)
from yarnloom.errors import NotFound, nearest
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import time_slices as store
from yarnloom.units import (
    iso_time,
)

Connection = Any

SLICES = 500
NUMBERS = 20_000
"""How many slices all rows have together at most, but for `FEWEST` in each."""

FEWEST = 20
WAITS = ("pool", "worker", "back_off", "rest")


@dataclass(slots=True)
class Slices:
    """How many there were at once of something, in each slice of time."""

    first: int
    width: float
    count: int
    _parts: list[float] = field(default_factory=list)
    _whole: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._parts = [0.0] * (self.count + 1)
        self._whole = [0] * (self.count + 2)

    def add(self, number: int, low: int, high: int, begins: int, ends: int) -> None:
        """So many were there, from one slice to another; `begins` and `ends` are sums of times."""
        left = (begins - number * self.first) / self.width
        right = (ends - number * self.first) / self.width
        if low >= high:
            self._parts[low] += right - left
            return
        self._parts[low] += number * (low + 1) - left
        self._parts[high] += right - number * high
        self._whole[low + 1] += number
        self._whole[high] -= number

    def mean(self) -> list[float]:
        """How many there were in each slice, on the average."""
        found, whole = [], 0
        for at in range(self.count):
            whole += self._whole[at]
            found.append(round(self._parts[at] + whole, 2))
        return found


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


def spending(connection: Connection, plan: Plan, number: int, now: int) -> View:
    """Where the time of a run went.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
        now: until when what still runs has run, in microseconds since 1970 UTC.
    """
    found = store.span_of_attempts(connection, number, now)
    if found is None:
        return {"from": None, "to": None, "slices": 0, "attempts": 0, "rows": []}
    first, last, attempts, begun = found
    shown = [
        (node, depth)
        for node, depth in _rows(plan, plan.nodes[0], 0)
        if not begun.isdisjoint(_counted(plan, node))
    ]
    count = max(FEWEST, min(SLICES, NUMBERS // max(1, len(shown))))
    width = max(1.0, (last - first) / count)
    spent = {
        node: Spent(
            Slices(first, width, count),
            {kind: Slices(first, width, count) for kind in WAITS},
            [0] * (count + 1),
            [0] * (count + 1),
        )
        for node in begun
    }
    for row in store.ran_by_slice(connection, number, now, first, width, count):
        node, low, high, many, begins, ends, failed, longest = row
        one = spent[node]
        one.ran.add(many, low, high, begins, ends)
        one.attempts += many
        one.failed += failed
        one.failing[high] += failed
        one.ended[high] += many
        one.longest = max(one.longest, longest)
        one.sum_ran += ends - begins
    for kind, rows in store.waited_by_slice(connection, number, now, first, width, count):
        for node, low, high, many, begins, ends in rows:
            spent[node].waits[kind].add(many, low, high, begins, ends)
            spent[node].sum_waits[kind] += ends - begins
    return {
        "from": iso_time(first),
        "to": iso_time(last),
        "slices": count,
        "attempts": attempts,
        "rows": [_row(plan, node, depth, spent) for node, depth in shown],
    }


def outliers(
    connection: Connection, plan: Plan, number: int, address: str, now: int, limit: int
) -> View:
    """The slowest attempts of a step over all items, and the first that failed; of an each of all.

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
    return {
        "slowest": attempt_views(
            connection, plan, store.slowest(connection, number, nodes, now, limit)
        ),
        "failed": attempt_views(
            connection, plan, store.first_failed(connection, number, nodes, limit)
        ),
    }


def nodes_of(plan: Plan, address: str) -> list[int]:
    """The nodes of the steps that a row counts; none where no row has this address."""
    found = (node for node, _ in _rows(plan, plan.nodes[0], 0) if plan.address(node) == address)
    node = next(found, None)
    return [] if node is None else _counted(plan, node)


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


def _row(plan: Plan, node: Node, depth: int, spent: dict[int, Spent]) -> View:
    """A step, or an each with all that is in it."""
    parts = [spent[index] for index in _counted(plan, node) if index in spent]
    waiting = {
        kind: _sum([part.waits[kind].mean() for part in parts if part.sum_waits[kind]])
        for kind in WAITS
        if any(part.sum_waits[kind] for part in parts)
    }
    return {
        "address": plan.address(node),
        "label": node.label,
        "kind": str(node.kind),
        "depth": depth,
        "attempts": sum(part.attempts for part in parts),
        "failed": sum(part.failed for part in parts),
        "longest": max(part.longest for part in parts) / 1_000_000,
        "ran": sum(part.sum_ran for part in parts) / 1_000_000,
        "waited": {kind: sum(part.sum_waits[kind] for part in parts) / 1_000_000 for kind in WAITS},
        "running": _sum([part.ran.mean() for part in parts]),
        "failing": _shares([one.failing for one in parts], [one.ended for one in parts]),
        "waiting": waiting,
    }


def _shares(failing: list[list[int]], ended: list[list[int]]) -> list[float]:
    """The share of failures by slice; the very end is in the last one."""
    some, of = _sum(failing), _sum(ended)
    some[-2:], of[-2:] = [sum(some[-2:])], [sum(of[-2:])]
    return [round(one / all_, 2) if all_ else 0 for one, all_ in zip(some, of, strict=True)]


def _sum(some: list[list[Any]]) -> list[Any]:
    if len(some) == 1:
        return list(some[0])
    return [round(sum(one), 2) for one in zip(*some, strict=True)]
