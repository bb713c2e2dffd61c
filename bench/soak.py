"""What a service is like after an hour of mixed work: `python -m bench.soak MINUTES`.

`python -m bench` leaves it out, since it can take hours. Two clients start chains, lists, and steps
that print and publish. Watchers come and go. A client asks for the overview, lists, graphs and
reasons. Each minute it prints memory, open files, threads, the size of the write-ahead logs, the
number of files, and the time of a bare request.
"""

from __future__ import annotations

import contextlib
import re
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from statistics import linear_regression, median

import httpx

from bench.running import raw_client, service, warm_up
from yarnloom import Client
from yarnloom.client import Request
from yarnloom.errors import YarnloomError

PAUSE = 0.5
"""Seconds between two runs of one client."""

WATCHERS = 40
"""Event streams that are opened together, held for a while and closed."""


@dataclass(frozen=True)
class Minute:
    """One line of the table; sizes in bytes."""

    minute: float
    runs: int
    service: int
    workers: int
    open_files: int
    threads: int
    wal: int
    logs_wal: int
    files: int
    request: float


class Soak:
    """Mixed load on a service.

    Args:
        url: its address.
    """

    def __init__(self, url: str) -> None:
        self._url = url
        self._over = threading.Event()
        with Client(url) as client:
            self._data = Path(client.call(Request("GET", "/service"))["data"])
        found = re.search(r"process (\d+)", (self._data / "holder").read_text())
        assert found
        self._pid = int(found[1])
        self.runs = 0
        self.faults: list[str] = []

    def run(self, minutes: float) -> list[Minute]:
        """Load the service; return one line of the table for each minute."""
        loads = [self._run_things, self._run_things, self._watch, self._look]
        threads = [threading.Thread(target=self._insist, args=(load,)) for load in loads]
        for thread in threads:
            thread.start()
        seen, begun = [], time.monotonic()
        try:
            while (passed := (time.monotonic() - begun) / 60) < minutes:
                self._over.wait(60)
                seen.append(self._minute(passed + 1))
                print(line_of(seen[-1]), flush=True)
        finally:
            self._over.set()
            for thread in threads:
                thread.join()
        return seen

    def _insist(self, load: Callable[[Client], None]) -> None:
        with Client(self._url, who="soak") as client:
            while not self._over.is_set():
                try:
                    load(client)
                except (YarnloomError, httpx.HTTPError) as error:
                    self.faults.append(f"{load.__name__}: {error}")

    def _run_things(self, client: Client) -> None:
        for workflow, number in (("chain", 1), ("many", 200), ("speaks", 50)):
            client.start(workflow, number=number).wait(300)
            self.runs += 1
            self._over.wait(PAUSE)

    def _watch(self, _: Client) -> None:
        with contextlib.ExitStack() as stack:
            http = stack.enter_context(raw_client(self._url))
            for _number in range(WATCHERS):
                stack.enter_context(http.stream("GET", "/events"))
            self._over.wait(10)

    def _look(self, client: Client) -> None:
        newest = list(client.runs(limit=20))
        client.call(Request("GET", "/overview"))
        for run in newest[:1]:
            client.call(Request("GET", f"/runs/{run.number}/graph"))
            run.why()
        self._over.wait(0.5)

    def _minute(self, minute: float) -> Minute:
        workers = _below(self._pid)
        return Minute(
            minute,
            self.runs,
            _memory(self._pid),
            sum(_memory(pid) for pid in workers),
            len(list(Path(f"/proc/{self._pid}/fd").iterdir())),
            len(list(Path(f"/proc/{self._pid}/task").iterdir())),
            (self._data / "yarnloom.db-wal").stat().st_size,
            (self._data / "logs.db-wal").stat().st_size,
            sum(1 for path in self._data.rglob("*") if path.is_file()),
            self._request_time(),
        )

    def _request_time(self) -> float:
        times = []
        with httpx.Client(trust_env=False) as http:
            for _ in range(21):
                begun = time.perf_counter()
                http.get(f"{self._url}/ready").raise_for_status()
                times.append(time.perf_counter() - begun)
        return median(times)


def line_of(one: Minute) -> str:
    """Return a minute as a line of the table."""
    return (
        f"{one.minute:6.1f} min {one.runs:7,} runs, service {one.service / 1e6:6.1f} MB, "
        f"workers {one.workers / 1e6:6.1f} MB, {one.open_files:4} open files, "
        f"{one.threads:3} threads, WAL {one.wal / 1e6:5.1f} and {one.logs_wal / 1e6:5.1f} MB, "
        f"{one.files:4} files, request {one.request * 1e3:5.2f} ms"
    )


def growth(seen: list[Minute]) -> float:
    """Return by how many bytes a minute the service's memory grew, in the last two thirds."""
    late = seen[len(seen) // 3 :]
    return linear_regression([one.minute for one in late], [one.service for one in late]).slope


def _memory(pid: int) -> int:
    """Return the private memory of a process, in bytes."""
    with contextlib.suppress(OSError):
        found = re.search(r"RssAnon:\s+(\d+) kB", Path(f"/proc/{pid}/status").read_text())
        if found:
            return int(found[1]) * 1024
    return 0


def _below(pid: int) -> list[int]:
    """Return the processes below a process."""
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return []
    return [one for child in map(int, children) for one in (child, *_below(child))]


def main(minutes: float) -> None:
    """Print the table and the growth."""
    with service() as url:
        warm_up(url)
        soak = Soak(url)
        seen = soak.run(minutes)
    for fault in soak.faults:
        print(fault)
    print(f"growth: {growth(seen) / 1e6:+.3f} MB a minute, {len(soak.faults)} faults")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0)
