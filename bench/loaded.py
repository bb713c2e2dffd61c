"""An each of no-ops beside processes that spin, against the same each on a quiet machine.

Inside the measured region: as in `throughput`. A machine under load must not make the service do
more work a step: what counts is processor time a step, and how many items were given rows.
"""

from __future__ import annotations

import asyncio
import contextlib
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from statistics import median

from bench.processor import by_role, marked
from bench.running import service, warm_up
from bench.throughput import ITEMS, each_of
from yarnloom import AsyncClient

SPINNING = 20
ROUNDS = 5


@dataclass(frozen=True)
class Loaded:
    """Medians of some rounds.

    Attributes:
        quiet: microseconds of processor time a step, on a quiet machine.
        loaded: the same beside processes that spin.
        rows: items that were given rows there.
    """

    quiet: float
    loaded: float
    rows: list[int]


@contextlib.contextmanager
def spinning(count: int) -> Iterator[None]:
    """So many processes that use all the processor time that they get."""
    command = [sys.executable, "-c", "while True: pass"]
    # Without this process's environment, which marks those that are measured.
    processes = [subprocess.Popen(command, env={}) for _ in range(count)]
    try:
        yield
    finally:
        for process in processes:
            process.kill()
            process.wait()


def measure() -> Loaded:
    """Measure both."""
    with (
        tempfile.TemporaryDirectory() as folder,
        marked("YARNLOOM_BENCH_LOADED") as mark,
        service("--data", folder) as url,
    ):
        data = Path(folder)
        warm_up(url)
        asyncio.run(_run(url))
        quiet = [_cost(url, mark, data) for _ in range(ROUNDS)]
        with spinning(SPINNING):
            loaded = [_cost(url, mark, data) for _ in range(ROUNDS)]
    return Loaded(
        median(cost for cost, _ in quiet),
        median(cost for cost, _ in loaded),
        [rows for _, rows in loaded],
    )


def _cost(url: str, mark: str, data: Path) -> tuple[float, int]:
    before = by_role(mark)
    number = asyncio.run(_run(url))
    after = by_role(mark)
    spent = sum(after[role] - before[role] for role in after) / ITEMS * 1e6
    with contextlib.closing(sqlite3.connect(data / "yarnloom.db", timeout=30)) as records:
        query = "SELECT count(*) FROM parts WHERE run = ? AND value IS NOT NULL"
        (rows,) = records.execute(query, (number,)).fetchone()
    return spent, rows


async def _run(url: str) -> int:
    async with AsyncClient(url) as client:
        await each_of("many")(client)
        (run,) = [one async for one in client.runs(limit=1)]
        return int(run.number)
