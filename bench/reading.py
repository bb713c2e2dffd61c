"""Pages of very large runs: while one goes on, and of one that has ended.

A run of 300,000 short items is measured alone, then beside a reader that asks for each page in turn
without a pause. Measured are the times of the answers, against a bare look at the service, and the
steps a second and processor time of both runs. The record of an ended run of 100,000 is read whole:
what counts is the service's processor time.
"""

from __future__ import annotations

import threading
import time
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field

import httpx

from bench.processor import SERVICE, by_role, marked
from bench.running import raw_client, service, warm_up
from yarnloom import Client

MANY, RECORDED = 300_000, 100_000
PAGES = {
    "attempts": "/runs/{}/attempts",
    "items": "/runs/{}/items?address=all",
    "items far in": "/runs/{}/items?address=all&cursor=10000",
    "times": "/runs/{}/times",
    "why": "/runs/{}/why",
    "graph": "/runs/{}/graph",
    "a bare look": "/service",
}
PAUSE = 0.1


@dataclass
class Found:
    """The measurements.

    Attributes:
        alone: items a second, and microseconds of the service's processor time an item.
        beside: the same beside a reader.
        pages: by name the seconds of each answer.
        record: seconds of processor time of the service for a whole record.
        size: its bytes.
    """

    alone: tuple[float, float] = (0.0, 0.0)
    beside: tuple[float, float] = (0.0, 0.0)
    pages: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    record: float = 0.0
    size: int = 0


def measure() -> Found:
    """Everything."""
    found = Found()
    with (
        marked("YARNLOOM_BENCH_READING") as mark,
        service("--processes", "2") as url,
        Client(url) as client,
        raw_client(url) as http,
    ):
        warm_up(url)
        number = next(_runs(client, mark, RECORDED))[0]
        before = by_role(mark)[SERVICE]
        found.size = len(http.get(f"/runs/{number}/record").content)
        found.record = by_role(mark)[SERVICE] - before
        runs = _runs(client, mark, MANY)
        _, *found.alone = next(runs)
        ended = threading.Event()
        reader = threading.Thread(target=_read, args=(http, found, number + 2, ended))
        reader.start()
        _, *found.beside = next(runs)
        ended.set()
        reader.join()
    return found


def _runs(client: Client, mark: str, items: int) -> Iterator[tuple[int, float, float]]:
    """Runs one after another: the number, items a second, and processor time an item."""
    while True:
        before, begun = by_role(mark)[SERVICE], time.perf_counter()
        run = client.start("very-many", number=items)
        run.wait(3_600)
        spent, took = by_role(mark)[SERVICE] - before, time.perf_counter() - begun
        yield run.number, items / took, spent / items * 1e6


def _read(http: httpx.Client, found: Found, number: int, ended: threading.Event) -> None:
    """Ask for page after page, each some time after the last, until the run has ended."""
    while not ended.is_set():
        for name, path in PAGES.items():
            begun = time.perf_counter()
            answer = http.get(path.format(number))
            if answer.status_code == httpx.codes.OK:
                found.pages[name].append(time.perf_counter() - begun)
            ended.wait(PAUSE)
