"""From a cancel until the step hears of it, on a machine that has other things to do.

A step looks all the time whether it is to stop, and returns when it heard of it. Measured is from
before the `POST` of the cancel until then, while chains of other steps keep both processes, the
service and the disk busy. The reference is a bare HTTP round trip under the same load.
"""

from __future__ import annotations

import threading
import time

import httpx

from bench.latency import bare
from bench.running import service, warm_up
from yarnloom import Client

ROUNDS = 60


def measure() -> tuple[list[float], list[float]]:
    """Seconds until a cancel was heard, and seconds of a bare round trip."""
    heard, trips = [], []
    over = threading.Event()
    with (
        service("--processes", "3") as url,
        bare() as reference,
        Client(url) as client,
        httpx.Client(base_url=reference, timeout=60, trust_env=False) as other,
    ):
        warm_up(url)
        load = threading.Thread(target=_load, args=(url, over))
        load.start()
        for number in range(ROUNDS):
            run = client.start("listens", number=number)
            while run.refresh().state != "running":
                pass
            cancelled_at = time.time()
            run.cancel()
            heard.append(run.wait(60) - cancelled_at)
            begun_at = time.perf_counter()
            other.post("/runs", json={"workflow": "x", "params": {}}).json()
            trips.append(time.perf_counter() - begun_at)
        over.set()
        load.join()
    return heard, trips


def _load(url: str, over: threading.Event) -> None:
    with Client(url) as client:
        while not over.is_set():
            for run in [client.start("chain", number=number) for number in range(4)]:
                run.wait(120)
