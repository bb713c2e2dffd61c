"""The simulator's worlds. More of them: `python -m tests.simulator 0 999`."""

from __future__ import annotations

from collections import Counter

import pytest

from tests.helpers import much
from tests.simulator.clock import ClockWorld
from tests.simulator.control import ControlWorld
from tests.simulator.pools import PoolWorld
from tests.simulator.straight import (
    ChainControlWorld,
    ChainWorld,
    StraightControlWorld,
    StraightWorld,
)
from tests.simulator.world import World

SEEDS = range(much(3, 40))
CONTROLLED = range(much(12, 300))
CLOCKED = range(much(3, 24))
POOL_WORLDS = range(much(200, 10_000))
WITHOUT_ROWS = (
    (StraightWorld, "straight", much(2, 100)),
    (StraightControlWorld, "straight-control", much(4, 100)),
    (ChainWorld, "chain", much(3, 200)),
    (ChainControlWorld, "chain-control", much(6, 200)),
)


def live(kind: type[World | ClockWorld], seeds: range) -> None:
    """Let some worlds live; a failure says how to repeat it."""
    for seed in seeds:
        try:
            kind(seed).run()
        except AssertionError as error:
            word = {ControlWorld: "control ", ClockWorld: "clock "}.get(kind, "")
            raise AssertionError(f"repeat: python -m tests.simulator {word}{seed}") from error


@pytest.mark.parametrize("first", SEEDS[::4])
def test_every_world_keeps_its_promises(first: int) -> None:
    """Whatever crashes, is lost or doubled: nothing acknowledged is lost or done twice."""
    live(World, SEEDS[first : first + 4])


@pytest.mark.parametrize("first", CONTROLLED[::25])
def test_worlds_under_control_end_well(first: int) -> None:
    """Paused, cancelled, mended, with effects outside: nothing is repeated silently."""
    live(ControlWorld, CONTROLLED[first : first + 25])


@pytest.mark.parametrize("first", CLOCKED[::6])
def test_worlds_of_the_clock_start_each_time_once(first: int) -> None:
    """Whatever crashes, and however the clock is set."""
    live(ClockWorld, CLOCKED[first : first + 6])


@pytest.mark.parametrize(("kind", "word", "count"), WITHOUT_ROWS)
def test_worlds_of_quick_work_end_alike(kind: type[World], word: str, count: int) -> None:
    """Items and steps that go to workers without rows: the same promises."""
    counts: Counter[str] = Counter()
    for seed in range(count):
        world = kind(seed)
        try:
            world.run()
        except AssertionError as error:
            raise AssertionError(f"repeat: python -m tests.simulator {word} {seed}") from error
        counts += world.counts
    if word == "straight":
        assert counts["given without rows"] > 100
    if word.startswith("chain"):
        assert counts["run behind others"] > (2 * count if word == "chain" else 0)


@pytest.mark.parametrize("first", POOL_WORLDS[::50])
def test_worlds_of_pools_keep_the_rules_of_reservations(first: int) -> None:
    """Never over a limit, no reservation passed, no step that waits and fits; all ends."""
    for seed in POOL_WORLDS[first : first + 50]:
        try:
            PoolWorld(seed).run()
        except AssertionError as error:
            raise AssertionError(f"repeat: python -m tests.simulator pools {seed}") from error


def test_the_same_seed_makes_the_same_world() -> None:
    """A failing seed can be repeated."""
    for kind in (World, ControlWorld, ClockWorld)[: much(2, 3)]:
        told: tuple[list[str], list[str]] = ([], [])
        for into in told:
            kind(7, into.append).run()

        assert told[0] == told[1]
        assert told[0]
