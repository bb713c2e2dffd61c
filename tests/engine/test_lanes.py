"""Who runs next, against a naive reading of the rule."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from yarnloom.engine.lanes import Lanes

SHARES = st.sampled_from(["a", "b", "c"])
PRIORITIES = st.sampled_from([0, 0, 0, 5])
TASKS = st.sampled_from(["t", "u"])


@given(st.lists(st.tuples(st.sampled_from("+>-"), SHARES, PRIORITIES, TASKS), max_size=60), TASKS)
def test_the_turn_is_that_of_the_rule(moves: list[tuple[str, str, int, str]], known: str) -> None:
    """Highest priority, then fewest running, then longest since the last start."""
    lanes = Lanes()
    ready: Counter[tuple[int, str, str]] = Counter()
    running: Counter[str] = Counter()
    last_start: dict[str, int] = {}
    starts = 0
    for kind, share, priority, task in moves:
        if kind == "+":
            lanes.add("", priority, share, task)
            if share not in last_start:
                starts += 1
                last_start[share] = starts
            ready[priority, share, task] += 1
        elif kind == ">" and ready[priority, share, task]:
            lanes.remove("", priority, share, task)
            lanes.started("", share)
            ready[priority, share, task] -= 1
            running[share] += 1
            starts += 1
            last_start[share] = starts
        elif kind == "-" and running[share]:
            lanes.ended("", share)
            running[share] -= 1
        for name in list(last_start):
            if not running[name] and not any(n for (_, s, _), n in ready.items() if s == name):
                del last_start[name]  # an idle share is forgotten
    turn = lanes.next_turn({known})
    candidates = [
        (-priority, running[share], last_start.get(share, 0))
        for (priority, share, task), count in ready.items()
        if count and task == known
    ]

    assert lanes.ready == sum(ready.values())
    if not candidates:
        assert turn is None
    else:
        assert turn is not None
        chosen = (-turn.priority, running[turn.share], last_start.get(turn.share, 0))
        assert chosen == min(candidates)
        assert turn.contracts == (known,)


def test_those_who_came_first_are_first() -> None:
    """Whatever they are called: the tenth run does not overtake the second."""
    lanes = Lanes()
    for run in range(1, 13):
        lanes.add("", 0, f"run {run}", "t")
    order = []
    while turn := lanes.next_turn({"t"}):
        order.append(turn.share)
        lanes.remove("", 0, turn.share, "t")
        lanes.started("", turn.share)

    assert order == [f"run {run}" for run in range(1, 13)]


def test_a_small_share_is_not_starved_by_a_large_one() -> None:
    """The one step of a newcomer is the next that begins."""
    lanes = Lanes()
    lanes.add("", 0, "large", "t", 10_000)
    for _ in range(4):
        lanes.remove("", 0, "large", "t")
        lanes.started("", "large")
    lanes.add("", 0, "small", "t")
    turn = lanes.next_turn({"t"})

    assert turn is not None
    assert turn.share == "small"
