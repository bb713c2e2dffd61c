"""The simulator's worlds. More of them: `python -m tests.simulator 0 999`."""

from __future__ import annotations

import pytest

from tests.simulator.world import World

SEEDS = range(24)


@pytest.mark.parametrize("first", SEEDS[::8])
def test_every_world_keeps_its_promises(first: int) -> None:
    """Whatever crashes, is lost or doubled: nothing acknowledged is lost or done twice."""
    for seed in range(first, first + 8):
        try:
            World(seed).run()
        except AssertionError as error:
            raise AssertionError(f"repeat with: python -m tests.simulator {seed}") from error


def test_the_same_seed_makes_the_same_world() -> None:
    """A failing seed can be repeated."""
    told: tuple[list[str], list[str]] = ([], [])
    for into in told:
        World(7, into.append).run()

    assert told[0] == told[1]
    assert told[0]
