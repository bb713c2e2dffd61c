"""The ready steps of a lane, as known without the store."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yarnloom.engine.state.step_queue import Ready

LANE = ("pool", 0, "share", "contract")
PLACES = st.tuples(st.integers(1, 3), st.binary(min_size=1, max_size=2), st.integers(1, 30))


@given(st.lists(st.tuples(st.sampled_from(("add", "discard", "forget")), PLACES), max_size=60))
def test_the_first_is_the_first_of_all(moves: list[tuple[str, tuple[int, bytes, int]]]) -> None:
    """Or none is told, where not all are known."""
    ready = Ready()
    wanted: dict[int, tuple[int, bytes, int]] = {}
    unknown = 0
    for move, place in moves:
        if move == "add" and place[2] not in wanted:
            wanted[place[2]] = place
            ready.add(LANE, place)
        elif move == "discard" and place[2] in wanted:
            del wanted[place[2]]
            ready.discard(LANE, place[2])
        elif move == "forget":
            ready.forget(LANE)
            unknown += len(wanted)
            wanted.clear()
        count = len(wanted) + unknown
        expected = min(wanted.values()) if wanted and not unknown else None
        assert ready.first(LANE, count) == expected
