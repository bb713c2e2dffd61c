"""What a step costs and leaves behind in an each of very many items, against one of few.

Inside the measured region: everything from the start of the run to its result, over HTTP, with a
worker of two processes. Processor time is that of the service, the worker and its processes. Disk
is what the database's file grows by, its log written back; memory is the service's highest ever.
"""

from __future__ import annotations

import asyncio
import contextlib
import sqlite3
import tempfile
from dataclasses import dataclass
from pathlib import Path

from bench.processor import SERVICE, by_role, marked, pid_of
from bench.running import service, warm_up
from yarnloom import AsyncClient

FEW, MANY = 1_000, 200_000
ROUNDS_OF_FEW = 20


@dataclass(frozen=True)
class Growth:
    """One measurement.

    Attributes:
        few: microseconds of processor time a step, in runs of `FEW` items.
        many: the same in one run of many.
        disk: bytes that a finished step of that run takes.
        memory: bytes that the service had at its most.
    """

    few: float
    many: float
    disk: float
    memory: int


def measure(items: int = MANY) -> Growth:
    """Measure runs of few items, then one of many."""
    with (
        tempfile.TemporaryDirectory() as data,
        marked("YARNLOOM_BENCH_GROWTH") as mark,
        service("--data", data) as url,
    ):
        warm_up(url)
        few = _cost(url, mark, FEW, ROUNDS_OF_FEW)
        before = _size(Path(data))
        many = _cost(url, mark, items, 1)
        disk = (_size(Path(data)) - before) / items
        return Growth(few, many, disk, _most_memory(pid_of(mark, SERVICE)))


def _cost(url: str, mark: str, items: int, rounds: int) -> float:
    before = sum(by_role(mark).values())
    asyncio.run(_run(url, items, rounds))
    return (sum(by_role(mark).values()) - before) / (items * rounds) * 1e6


async def _run(url: str, items: int, rounds: int) -> None:
    async with AsyncClient(url) as client:
        for _ in range(rounds):
            run = await client.start("very-many", number=items)
            found = await run.wait(3_600)
            assert (found["count"] if isinstance(found, dict) else len(found)) == items


def _size(data: Path) -> int:
    """The database's size once its log is written back."""
    path = data / "yarnloom.db"
    with contextlib.closing(sqlite3.connect(path, timeout=30)) as records:
        records.execute("PRAGMA wal_checkpoint(FULL)")
    return path.stat().st_size


def _most_memory(pid: int) -> int:
    text = Path(f"/proc/{pid}/status").read_text(encoding="ascii")
    line = next(line for line in text.splitlines() if line.startswith("VmHWM"))
    return int(line.split()[1]) * 1024
