"""What an idle service and worker cost: processor time over a while in which nothing happens.

Processor time is the operating system's own count, over all processes of the service and its
worker, without its helpers for reading the clock.
"""

from __future__ import annotations

import os
import threading
from pathlib import Path

from bench.running import service, warm_up

SECONDS = 30.0


def processor_seconds(mark: str) -> float:
    """Processor time spent so far by every process in whose environment a text stands."""
    ticks = os.sysconf("SC_CLK_TCK")
    total = 0.0
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if mark.encode() in (folder / "environ").read_bytes():
                fields = (folder / "stat").read_text().rpartition(")")[2].split()
                total += (int(fields[11]) + int(fields[12])) / ticks
        except OSError:
            continue
    return total


def measure() -> float:
    """The share of one core that an idle service with a worker of two processes takes."""
    mark = f"YARNLOOM_BENCH_IDLE={os.getpid()}"
    os.environ["YARNLOOM_BENCH_IDLE"] = str(os.getpid())
    try:
        with service() as url:
            warm_up(url)
            pause = threading.Event()
            pause.wait(3)
            before = processor_seconds(mark)
            pause.wait(SECONDS)
            return (processor_seconds(mark) - before) / SECONDS
    finally:
        del os.environ["YARNLOOM_BENCH_IDLE"]
