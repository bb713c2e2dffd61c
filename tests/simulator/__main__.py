"""`python -m tests.simulator SEED` repeats one world and tells what happens in it.

`python -m tests.simulator FIRST LAST` runs many and says which seeds fail. With `control` before
the numbers they are worlds under control: paused, mended, with side effects; with `clock` worlds of
schedules and later starts, with `straight`, `straight-control`, `chain` and `chain-control` worlds
of items and steps without rows.
"""

from __future__ import annotations

import sys
import time
from collections import Counter

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

KINDS = {
    "pools": PoolWorld,
    "control": ControlWorld,
    "clock": ClockWorld,
    "straight": StraightWorld,
    "straight-control": StraightControlWorld,
    "chain": ChainWorld,
    "chain-control": ChainControlWorld,
}


def main(kind: type[World | ClockWorld | PoolWorld], first: int, last: int) -> int:
    """Run the worlds of some seeds."""
    begun, counts, failed = time.perf_counter(), Counter[str](), []
    for seed in range(first, last + 1):
        world = kind(seed, print if first == last else lambda _: None)
        try:
            world.run()
        except AssertionError as error:
            if first == last:
                raise
            failed.append(seed)
            print(f"seed {seed}: {error!r:.200}")
        counts += world.counts
    print(f"{last - first + 1} worlds in {time.perf_counter() - begun:.1f} s: {dict(counts)}")
    for seed in failed[:10]:
        print(f"repeat with: python -m tests.simulator {seed}")
    return bool(failed)


if __name__ == "__main__":
    words = sys.argv[1:]
    kind = KINDS.get(words[0], World)
    numbers = [int(word) for word in words if word.isdigit()]
    sys.exit(main(kind, numbers[0], numbers[-1]))
