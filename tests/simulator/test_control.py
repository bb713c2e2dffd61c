"""The second half of the worlds under control: files run side by side, tests of one do not."""

from __future__ import annotations

import pytest

from tests.simulator.control import ControlWorld
from tests.simulator.test_simulator import CONTROLLED, live

MORE = range(CONTROLLED.stop, 2 * CONTROLLED.stop)


@pytest.mark.parametrize("first", range(0, len(MORE), 50))
def test_worlds_under_control_end_well(first: int) -> None:
    """As those of the first half."""
    live(ControlWorld, MORE[first : first + 50])
