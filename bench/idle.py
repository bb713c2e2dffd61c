"""What an idle service and worker cost: processor time over a while in which nothing happens.

Processor time is the operating system's own count, over all processes of the service and its
worker, without its helpers for reading the clock.
"""

from __future__ import annotations

import threading

from bench.processor import marked, processor_seconds
from bench.running import service, warm_up

SECONDS = 30.0
WORKERS = 10


def measure() -> float:
    """The share of one core that an idle service takes, with its workers."""
    several = ("--workers", str(WORKERS))
    with marked("YARNLOOM_BENCH_IDLE") as mark, service(*several) as url:
        warm_up(url)
        pause = threading.Event()
        pause.wait(3)
        before = processor_seconds(mark)
        pause.wait(SECONDS)
        return (processor_seconds(mark) - before) / SECONDS
