"""No-op steps a second, against `ProcessPoolExecutor.submit` with as many processes.

Inside the measured region: starting the runs over HTTP, every step's journey to a process and
back, and storing all of it durably. Outside: starting the service, the pool and their processes,
and for both some work before: a service runs for long.
The reference stores nothing. Results are checked after the clock has stopped. Beside
the ratio it prints the processor time of a step by process, which is steadier on shared cores.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

from bench.looms import CHAIN, noop
from bench.processor import by_role, marked
from bench.running import service, warm_up
from yarnloom import AsyncClient
from yarnloom.process_identity import cores

ITEMS = 20_000
RUNS = 60


@dataclass(frozen=True)
class Round:
    """One measurement of a kind of work, and the reference right after it.

    Attributes:
        steps: a second.
        calls: of the process pool, a second.
        processor: microseconds a step, by what the process is for.
    """

    steps: float
    calls: float
    processor: dict[str, float]

    @property
    def ratio(self) -> float:
        """How many times the process pool."""
        return self.steps / self.calls


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


def each_of(workflow: str) -> Callable[[AsyncClient], Awaitable[int]]:
    """One run of many items; how many steps it has."""

    async def run(client: AsyncClient) -> int:
        started = await client.start(workflow, number=ITEMS)
        found = await started.wait(600)
        # A list that is too long to be a value is a file, and its reference says how long it is.
        assert (found["count"] if isinstance(found, dict) else len(found)) == ITEMS
        return ITEMS + 1

    return run


async def chains(client: AsyncClient) -> int:
    """Many runs of a long sequence; how many steps they have."""
    started = await asyncio.gather(
        *(client.start("chain", number=number) for number in range(RUNS))
    )
    found = await asyncio.gather(*(run.wait(300) for run in started))
    assert found == list(range(RUNS))
    return RUNS * CHAIN


KINDS: dict[str, Callable[[AsyncClient], Awaitable[int]]] = {
    "each": each_of("many"),
    "ready": each_of("many-ready"),
    "kilobytes": each_of("many-kilobytes"),
    "pool": each_of("many-pool"),
    "retries": each_of("many-retries"),
    "chain": chains,
}
"""By name: an each of no-ops; with `retry=`, `timeout=`, a context and a print; with outputs of
1 kB; in a pool of 50; of which 5% fail and are tried again; and chains."""


def measure(kind: str, rounds: int = 5) -> list[Round]:
    """Measure a kind of work, and the reference, in turn; a round before does not count."""
    with marked("YARNLOOM_BENCH_THROUGHPUT") as mark, service() as url:
        warm_up(url)
        _round(url, mark, kind)
        return [_round(url, mark, kind) for _ in range(rounds)]


def _round(url: str, mark: str, kind: str) -> Round:
    before, begun = by_role(mark), time.perf_counter()
    steps = asyncio.run(_run(url, KINDS[kind]))
    spent, after = time.perf_counter() - begun, by_role(mark)
    processor = {role: (after[role] - before[role]) / steps * 1e6 for role in after}
    return Round(steps / spent, pool(max(steps, ITEMS)), processor)


async def _run(url: str, work: Callable[[AsyncClient], Awaitable[int]]) -> int:
    async with AsyncClient(url) as client:
        return await work(client)
