"""What is shown in each box inside an each: how many steps are how, and how long they took.

Decision: `docs/decisions/11-counts-inside-eaches.md`.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import accumulate

from yarnloom.engine.queries.past_states import PastMoment, has_ended_by, part_then, step_then
from yarnloom.engine.records.parts import Bar, InsideRecord, Took
from yarnloom.engine.records.runs import Counts
from yarnloom.engine.rules.states import CAME_TO_AN_END, StepState
from yarnloom.engine.state.each_counts import steps_in
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import Connection, Row
from yarnloom.store.runs import counter_records, item_records

_COUNTED = ("ready", "running", "backing_off", "resting", "paused")
_ENDED = ("done", "failed", "cancelled", "skipped")
_OF_EACH = ("total", "idle", *_COUNTED, *_ENDED)
BARS = 16
"""How many bars a histogram has at most."""


@dataclass(frozen=True, slots=True)
class Inside:
    """What is counted in the items of one each.

    Attributes:
        plan: the run's.
        each: the node of the each.
        total: how many items the each has.
        counts: by node.
        times: by node how long attempts took, shortest first.
    """

    plan: Plan
    each: int
    total: int
    counts: Mapping[int, Mapping[str, int]]
    times: Mapping[int, Sequence[tuple[int, int, int]]] = field(default_factory=dict)

    def of(self, node: Node, held: bool = False) -> InsideRecord | None:
        """Return what the box of a node shows; None of a part that is only around others.

        Args:
            node: a step, or an each inside the each.
            held: whether the run is paused: no step in it runs.
        """
        if node.kind not in (Kind.STEP, Kind.EACH):
            return None
        is_step = node.kind is Kind.STEP
        times = took(self.times.get(node.index, ())) if is_step else None
        return InsideRecord(self._counts(node, held=held), times, is_step)

    def _counts(self, node: Node, *, held: bool) -> Counts:
        known = self._counted(node)
        found = {name: known.get(name, 0) for name in (*_COUNTED, *_ENDED)}
        for state, name in counter_records.LEFT.items():
            found[state] += known.get(name, 0)
        if node.kind is Kind.EACH:
            found["running"] -= known.get("idle", 0)
            total = known.get("total", 0)
            if held:
                found["paused"], found["running"] = found["paused"] + found["running"], 0
        elif (each := _each_around(self.plan, node)) is None:
            total = sum(found.values())  # of a follow-up nobody knows how many there will be
        else:
            own = each.index == self.each
            total = self.total if own else self._counted(each).get("total", 0)
        return Counts(total=total, waiting=max(0, total - sum(found.values())), **found)

    def _counted(self, node: Node) -> Mapping[str, int]:
        return self.counts.get(node.index, {})


def _each_around(plan: Plan, node: Node) -> Node | None:
    """The innermost each around a node; None if a follow-up comes between."""
    while not node.follows and node.parent is not None:
        node = plan.nodes[node.parent]
        if node.kind is Kind.EACH:
            return node
    return None


def took(times: Sequence[tuple[int, int, int]]) -> Took | None:
    """Return how long attempts took, in seconds; None if none has ended.

    The median is that of a bucket's middle.
    """
    total = sum(number for _, number, _ in times)
    if not total:
        return None
    up_to = accumulate(number for _, number, _ in times)
    middle = next(one[0] for one, passed in zip(times, up_to, strict=True) if 2 * passed >= total)
    longest = max(longest for _, _, longest in times)
    return Took(
        median=min(counter_records.seconds_of(middle + 0.5), longest / 1_000_000),
        longest=longest / 1_000_000,
        ended=total,
        histogram=_histogram(times),
    )


def _histogram(times: Sequence[tuple[int, int, int]]) -> list[Bar]:
    first, last = times[0][0], times[-1][0]
    width = -(-(last - first + 1) // BARS)
    counts: dict[int, int] = defaultdict(int)
    for bucket, number, _ in times:
        counts[(bucket - first) // width] += number
    return [
        Bar(
            counter_records.seconds_of(first + bar * width),
            counter_records.seconds_of(first + (bar + 1) * width),
            counts[bar],
        )
        for bar in range((last - first) // width + 1)
    ]


def inside_now(connection: Connection, plan: Plan, eaches: Iterable[Row]) -> dict[int, Inside]:
    """The counts inside each each, by its part row.

    Args:
        connection: a reader's.
        plan: the run's.
        eaches: the rows of their parts.
    """
    rows = list(eaches)
    counts = counter_records.counts_of(connection, [row["id"] for row in rows])
    times = counter_records.times_of(connection, [row["id"] for row in rows])
    return {
        row["id"]: Inside(plan, row["node"], row["total"], counts[row["id"]], times[row["id"]])
        for row in rows
    }


def inside_then(
    connection: Connection, plan: Plan, past: PastMoment, eaches: Iterable[Row]
) -> dict[int, Inside]:
    """The same as it was at a moment, counted from the steps; what had ended is as it is."""
    rows = list(eaches)
    ended = [row for row in rows if has_ended_by(past, row)]
    found = inside_now(connection, plan, ended)
    for row in rows:
        if row["id"] not in found:
            found[row["id"]] = _inside_then(connection, plan, past, row)
    return found


def _inside_then(connection: Connection, plan: Plan, past: PastMoment, each: Row) -> Inside:
    run, rank = each["run"], each["rank"]
    counts, times, others = counter_records.steps_at(connection, run, rank, past.at, over=past.over)
    # Counters answer for all that had ended by then; each other step is looked at by itself.
    for step in others:
        row = counter_records.step_in_item(connection, step)
        if row["each_began"] > past.at:
            continue
        attempts = counter_records.attempts_of(connection, step)
        then = step_then(past, row, attempts)
        if then is not None and then["state"] != StepState.WAITING:
            _add(counts[row["node"]], {str(then["state"]): 1})
        for took_ in _ended_by(past, attempts):
            times[row["node"]].append((counter_records.bucket_of(took_), 1, took_))
    for row in counter_records.parts_in(connection, run, rank):
        node = plan.nodes[row["node"]]
        if node.kind is not Kind.EACH:
            continue
        items = item_records.item_counts_at(
            connection, row["id"], past.at, round=past.round, last=past.last
        )
        if (part := part_then(past, row, items)) is not None:
            _add(counts[node.index], {name: part[name] for name in _OF_EACH})
            if part["rest_state"] is not None:
                _leave(plan, node.children, part["rest_state"], part["unmade"], counts)
    if past.last and _anything_is_left(connection, each):
        _add_left(connection, plan, past, each, counts)
    in_order = {node: sorted(some) for node, some in times.items()}
    return Inside(plan, each["node"], each["total"], counts, in_order)


def _ended_by(past: PastMoment, attempts: Iterable[Row]) -> Iterator[int]:
    """How long each attempt took that had come to its end by a moment."""
    for attempt in attempts:
        came = attempt["outcome"] in CAME_TO_AN_END and attempt["begun_at"] is not None
        if came and attempt["ended_at"] <= past.at:
            yield attempt["ended_at"] - attempt["begun_at"]


def _add(found: dict[str, int], more: Mapping[str, int]) -> None:
    for name, number in more.items():
        found[name] = found.get(name, 0) + number


def _anything_is_left(connection: Connection, each: Row) -> bool:
    now = counter_records.counts_of(connection, [each["id"]])[each["id"]]
    return any(known.get(name) for known in now.values() for name in counter_records.LEFT.values())


def _add_left(
    connection: Connection, plan: Plan, past: PastMoment, each: Row, counts: counter_records.Counts
) -> None:
    """Steps that never began in what had ended by then."""
    parts, begun = counter_records.left_by(
        connection, each["run"], each["id"], each["rank"], past.at
    )
    for index, states in parts.items():
        node = plan.nodes[index]
        for child in () if node.kind is Kind.EACH else node.children:
            for state, number in states.items():
                left = number - begun[child].get(state, 0)
                _leave(plan, [child], state, left, counts)


def _leave(
    plan: Plan, nodes: Iterable[int], state: str, number: int, counts: counter_records.Counts
) -> None:
    """So many of each of these parts never began."""
    for index in nodes:
        for step in steps_in(plan, plan.nodes[index]):
            _add(counts[step.index], {counter_records.LEFT[state]: number})
