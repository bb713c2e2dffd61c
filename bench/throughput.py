"""No-op steps a second, against `ProcessPoolExecutor.submit` with as many processes.

Inside the measured region: starting the runs over HTTP, every step's journey to a process and
back, and storing all of it durably. Outside: starting the service, the pool and their processes.
The reference stores nothing. Results are checked after the clock has stopped.
"""

from __future__ import annotations

import asyncio
import time
from concurrent.futures import ProcessPoolExecutor

from bench.looms import CHAIN, noop
from bench.running import service, warm_up
from yarnloom import AsyncClient
from yarnloom.worker.worker import cores

RUNS = 60


def pool(count: int) -> float:
    """Calls a second through a process pool."""
    with ProcessPoolExecutor(cores()) as executor:
        list(executor.map(noop, range(100)))
        begun = time.perf_counter()
        futures = [executor.submit(noop, number) for number in range(count)]
        found = [future.result() for future in futures]
        spent = time.perf_counter() - begun
    assert found == list(range(count))
    return count / spent


async def runs(url: str) -> float:
    """Steps a second through a service."""
    async with AsyncClient(url) as client:
        begun = time.perf_counter()
        started = await asyncio.gather(
            *(client.start("chain", number=number) for number in range(RUNS))
        )
        found = await asyncio.gather(*(run.wait(300) for run in started))
        spent = time.perf_counter() - begun
    assert found == list(range(RUNS))
    return RUNS * CHAIN / spent


def measure(rounds: int = 3) -> list[tuple[float, float]]:
    """Steps a second and calls a second, in turn."""
    with service() as url:
        warm_up(url)
        return [(asyncio.run(runs(url)), pool(RUNS * CHAIN)) for _ in range(rounds)]
