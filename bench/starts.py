"""Ten thousand starts in one request, against one by one.

Runs of one empty step, which a worker does meanwhile. The reference is the same starts one after
another through one client, fewer of them. While the many are started another
client asks for something small again and again: how long it waits at most is how long the service
was busy with nothing else.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

from bench.running import service
from yarnloom import Client, Start
from yarnloom.client import Request

MANY, FEW = 10_000, 500


@dataclass
class Found:
    """What was measured, in seconds.

    Attributes:
        many: until all were acknowledged.
        opened: and until the last could begin.
        few: of the reference, for `FEW` of them.
        waits: what the other client waited, each time, meanwhile.
        alone: and when nothing else went on.
    """

    many: float
    opened: float
    few: float
    waits: list[float]
    alone: list[float]


def measure() -> Found:
    """Start many at once, and some one by one."""
    with service() as url, Client(url) as client:
        starts = [Start("one", {"number": n}, key=f"many-{n}", share="many") for n in range(MANY)]
        alone = _waits(url, lambda: time.sleep(0.5))
        begun = time.perf_counter()
        numbers: list[int] = []
        waits = _waits(url, lambda: numbers.extend(client.start_many(starts)))
        many = time.perf_counter() - begun
        while client.run(numbers[-1]).data["progress"]["total"] == 0:
            time.sleep(0.02)
        opened = time.perf_counter() - begun
        begun = time.perf_counter()
        for number in range(FEW):
            client.start("one", number=number, share="few")
        return Found(many, opened, time.perf_counter() - begun, waits, alone)


def _waits(url: str, work: object) -> list[float]:
    """How long a small request takes, again and again while something is done."""
    found = []
    assert callable(work)
    doing = threading.Thread(target=work)
    with Client(url) as other:
        other.call(Request("GET", "/service"))
        doing.start()
        while doing.is_alive():
            begun = time.perf_counter()
            other.call(Request("GET", "/service"))
            found.append(time.perf_counter() - begun)
    doing.join()
    return found
