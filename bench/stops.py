"""From a cancel until the run has ended, of tasks that cannot hear of it, as a client sees it.

Each is in a call that takes minutes: of the clock, of numpy, of a program, of a coroutine. The
reference is a bare HTTP round trip in the same run.
"""

from __future__ import annotations

import time

import httpx

from bench.latency import bare
from bench.running import service, warm_up
from yarnloom import Client
from yarnloom.errors import RunCancelled

ROUNDS = 40
CALLS = ("sleeps", "computes", "runs-a-program", "awaits")


def measure() -> tuple[dict[str, list[float]], list[float]]:
    """Seconds from the command to the end, by what was called; and of a bare round trip."""
    waits: dict[str, list[float]] = {name: [] for name in CALLS}
    trips = []
    with (
        service("--processes", "2") as url,
        bare() as reference,
        Client(url) as client,
        httpx.Client(base_url=reference, timeout=60, trust_env=False) as other,
    ):
        warm_up(url)
        for number in range(ROUNDS):
            for name in CALLS:
                run = client.start(name, number=number)
                while run.refresh().state != "running":
                    time.sleep(0.002)
                time.sleep(0.02)  # into the call
                asked_at = time.perf_counter()
                run.cancel()
                try:
                    run.wait(60)
                except RunCancelled:
                    waits[name].append(time.perf_counter() - asked_at)
            begun_at = time.perf_counter()
            other.post("/runs", json={"workflow": "x", "params": {}}).json()
            trips.append(time.perf_counter() - begun_at)
    return waits, trips
