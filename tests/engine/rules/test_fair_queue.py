"""Who runs next, against a naive reading of the rule."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom.engine.rules.fair_queue import MOST_AHEAD, Lanes

SHARES = st.sampled_from(["a", "b", "c"])
PRIORITIES = st.sampled_from([0, 0, 0, 5])
TASKS = st.sampled_from(["t", "u"])
POOLS = st.sampled_from(["", "p", "q[north]", "p/2", "p/3 q[north]", "q[north] r"])


@dataclass(frozen=True)
class Takes:
    """What a worker takes, said plainly."""

    tasks: frozenset[str]
    pools: frozenset[str] | None = None

    def __contains__(self, contract: object) -> bool:
        return contract in self.tasks


ANY = Takes(frozenset("tu"))
Move = tuple[str, str, str, int, str]


@given(
    st.lists(st.tuples(st.sampled_from("+>-?ox"), POOLS, SHARES, PRIORITIES, TASKS), max_size=80),
    st.sets(TASKS, min_size=1),
    st.none() | st.sets(st.sampled_from(["p", "q"])),
)
def test_the_turn_is_that_of_the_rule(
    moves: list[Move], tasks: set[str], pools: set[str] | None
) -> None:
    """Highest priority, fewest running in its pool, longest since its last start; open pools.

    And who comes before each share of a pool is what the rule says.
    """
    lanes = Lanes()
    takes = Takes(frozenset(tasks), None if pools is None else frozenset(pools))
    ready: Counter[tuple[str, int, str, str]] = Counter()
    running: Counter[tuple[str, str]] = Counter()
    started: Counter[tuple[str, str]] = Counter()
    last_start: dict[tuple[str, str], int] = {}
    closed: set[str] = set()
    starts = 0

    def uses(pool: str) -> list[tuple[str, int]]:
        pieces = [one.partition("/") for one in pool.split(" ")]
        return [(single, int(weight or 1)) for single, _, weight in pieces]

    def first(pool: str) -> str:
        return uses(pool)[0][0]

    def expected() -> tuple[int, int, int] | None:
        return min(
            (
                (-priority, running[first(pool), share], last_start.get((first(pool), share), 0))
                for (pool, priority, share, task), count in ready.items()
                if count
                and task in tasks
                and pool not in closed
                and (
                    pools is None
                    or (pool and {one.partition("[")[0] for one, _ in uses(pool)} <= pools)
                )
            ),
            default=None,
        )

    def expected_ahead(pool: str, share: str) -> tuple[int, list[str]]:
        higher = sum(n for (p, level, _, _), n in ready.items() if p == pool and level > 0)
        own = (running[pool, share], last_start[pool, share])
        turns = {
            (running[pool, other], last_start[pool, other], other)
            for (where, level, other, _), count in ready.items()
            if count and where == pool and level == 0
        }
        return higher, [other for *turn, other in sorted(turns) if tuple(turn) < own]

    for kind, pool, share, priority, task in [*moves, ("?", "", "", 0, "")]:
        if kind == "+":
            lanes.add(pool, priority, share, task)
            if (first(pool), share) not in last_start:
                starts += 1
                last_start[first(pool), share] = starts
            ready[pool, priority, share, task] += 1
        elif kind == ">" and ready[pool, priority, share, task]:
            lanes.remove(pool, priority, share, task)
            lanes.started(pool, share)
            ready[pool, priority, share, task] -= 1
            started[pool, share] += 1
            starts += 1
            last_start[first(pool), share] = starts
            for place, (single, weight) in enumerate(uses(pool)):
                running[single, share] += weight
                if place:
                    last_start.setdefault((single, share), starts)
        elif kind == "-" and started[pool, share]:
            lanes.ended(pool, share)
            started[pool, share] -= 1
            for single, weight in uses(pool):
                running[single, share] -= weight
        elif kind == "x":
            closed.add(pool)
        elif kind == "o":
            closed.discard(pool)
            for single, _ in uses(pool):
                lanes.reopen(single)
        for known in list(last_start):
            waits = any(n for (p, _, s, _), n in ready.items() if (first(p), s) == known)
            if not running[known] and not waits:
                del last_start[known]  # an idle share is forgotten
        if kind != "?":
            continue
        for place in last_start:
            if any(" " in p or "/" in p for (p, *_), n in ready.items() if n):
                break  # who comes before is told of steps that enter the same pools
            assert lanes.ahead_of(place[0], 0, place[1]) == expected_ahead(*place)
        turn, best = lanes.next_up(takes, lambda one, *_: one not in closed), expected()
        assert lanes.ready == sum(ready.values())
        assert (turn is None) == (best is None)
        if turn is not None:
            entry = (first(turn.pool), turn.share)
            assert (-turn.priority, running[entry], last_start.get(entry, 0)) == best
            assert set(turn.contracts) == {
                one for one in tasks if ready[turn.pool, turn.priority, turn.share, one]
            }


def test_those_who_came_first_are_first() -> None:
    """Whatever they are called: the tenth run does not overtake the second."""
    lanes = Lanes()
    for run in range(1, 13):
        lanes.add("", 0, f"run {run}", "t")
    order = []
    while turn := lanes.next_up(ANY):
        order.append(turn.share)
        lanes.remove("", 0, turn.share, "t")
        lanes.started("", turn.share)

    assert order == [f"run {run}" for run in range(1, 13)]


def test_a_newcomer_in_one_pool_is_weighed_against_all_others() -> None:
    """A share with nothing running comes first, whichever pool it waits in."""
    lanes = Lanes()
    for pool, share, running in (("p", "a", 2), ("q", "c", 1)):
        for _ in range(running):
            lanes.started(pool, share)
        lanes.add(pool, 0, share, "t")
    turn = lanes.next_up(ANY)
    assert turn is not None
    assert turn.share == "c"
    lanes.add("p", 0, "b", "t")
    turn = lanes.next_up(ANY)

    assert turn is not None
    assert (turn.pool, turn.share) == ("p", "b")


def test_a_small_share_is_not_starved_by_a_large_one() -> None:
    """The one step of a newcomer is the next that begins."""
    lanes = Lanes()
    lanes.add("", 0, "large", "t", 10_000)
    for _ in range(4):
        lanes.remove("", 0, "large", "t")
        lanes.started("", "large")
    lanes.add("", 0, "small", "t")
    turn = lanes.next_up(ANY)

    assert turn is not None
    assert turn.share == "small"


def test_finding_the_next_does_not_look_at_everything() -> None:
    """With a limit of its own for each of 2,000 customers, closed ones are passed over once."""
    lanes = Lanes()
    for customer in range(2_000):
        lanes.add(f"p[{customer}]", 0, f"run {customer}", "t", 5)
    asked: Counter[str] = Counter()

    def may_start(pool: str, _priority: int, _share: str) -> bool:
        asked[pool] += 1
        return pool == "p[1999]"

    for _ in range(50):
        turn = lanes.next_up(ANY, may_start)
        assert turn is not None
        assert turn.pool == "p[1999]"

    assert asked.total() == 1_999 + 50


def test_asking_who_comes_first_does_not_look_at_everything() -> None:
    """Of 20,000 runs that wait, those before one are looked at, up to a limit."""
    lanes = Lanes()
    for run in range(20_000):
        lanes.add("", 0, f"run {run}", "t")
        lanes.add("p", 0, f"run {run}", "t")
    looked = 0

    def is_valid(*arguments: Any) -> bool:
        nonlocal looked
        looked += 1
        return Lanes._is_valid(lanes, *arguments)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(lanes, "_is_valid", is_valid)
        assert lanes.ahead_of("", 0, "run 3") == (0, ["run 0", "run 1", "run 2"])
        assert looked == 3
        assert len(lanes.ahead_of("", 0, "run 19999")[1]) == MOST_AHEAD
        assert looked <= MOST_AHEAD + 3
