"""Lines about runs on the service's terminal, against none.

Short runs of one empty step, started together; services that say lines and quiet ones in turns.
Inside: from the start of all to the end of the last. The terminal is a pipe that nobody reads.
"""

from __future__ import annotations

import time
from dataclasses import dataclass

from bench.processor import SERVICE, by_role, marked
from bench.running import service, warm_up
from yarnloom import Client, Start

RUNS, TURNS = 2_000, 3


@dataclass
class Found:
    """Measurements by turn.

    Attributes:
        seconds: until the last run had ended.
        processor: seconds of the service's processor time.
    """

    seconds: list[float]
    processor: list[float]


def measure() -> tuple[Found, Found]:
    """Run services that say lines, and quiet ones."""
    said, quiet = Found([], []), Found([], [])
    for turn in range(TURNS):
        for found, arguments in ((said, ()), (quiet, ("--quiet",))):
            with marked(f"YARNLOOM_BENCH_NOTICES_{turn}") as mark, service(*arguments) as url:
                warm_up(url)
                before, begun = by_role(mark)[SERVICE], time.perf_counter()
                with Client(url) as client:
                    starts = [Start("one", {"number": n}) for n in range(RUNS)]
                    numbers = client.start_many(starts)
                    assert client.run(numbers[-1]).wait(120) == RUNS - 1
                    while client.counts().counts["done"] < min(RUNS, 1_000):
                        time.sleep(0.01)
                found.seconds.append(time.perf_counter() - begun)
                found.processor.append(by_role(mark)[SERVICE] - before)
    return said, quiet
