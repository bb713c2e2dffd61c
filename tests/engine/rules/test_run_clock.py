"""When a clock counts as set."""

from __future__ import annotations

import pytest

from yarnloom.engine.rules.run_clock import CLOCK_SET, Moment, Time


@pytest.mark.parametrize(("moved", "is_set"), [(CLOCK_SET, False), (CLOCK_SET + 1, True)])
@pytest.mark.parametrize("way", [1, -1])
def test_a_clock_that_moves_by_more_than_a_second_was_set(
    moved: int, is_set: bool, way: int
) -> None:
    """Forward or back; a small adjustment does not count."""
    start = 1_800_000_000_000_000
    time = Time(Moment(start, 5.0), 0)

    assert time.look(Moment(start + 10 + way * moved, 5.00001), busy=True) is is_set
