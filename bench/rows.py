"""A run over 1,000,000 rows of a file through the real service, against runs over 1,000.

The service has an address limit of 250 MB. In the middle the large run is paused and resumed, and a
browser opens its page; a second large run is cancelled in the middle. Measured are the cost of a
step from the run's first begin to its end, without the pause; how long pause and cancel take to be
done with two processes busy; and the page, from the request to the counts of the each on it.
"""

from __future__ import annotations

import contextlib
import csv
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from yarnloom import Client, Run
from yarnloom.client import Request

FEW, MANY = 1_000, 1_000_000
LIMIT = 250 * 10**6


@dataclass
class Found:
    """What was measured.

    Attributes:
        few: seconds a step, of each small run.
        many: seconds a step of the large run.
        checked: seconds that the check of the large file took.
        paused: seconds until nothing of the run executed.
        cancelled: seconds until the run had ended.
        page: seconds until the page showed its counts; None without a browser.
        peak: bytes of address space that the service used at most.
    """

    few: list[float] = field(default_factory=list)
    many: float = 0.0
    checked: float = 0.0
    paused: float = 0.0
    cancelled: float = 0.0
    page: float | None = None
    peak: int = 0


@contextlib.contextmanager
def limited_service(limit: int, *arguments: str) -> Iterator[tuple[subprocess.Popen[str], str]]:
    """A service that cannot have more address space than that; the process and its address."""
    with tempfile.TemporaryDirectory() as data:
        serve = (sys.executable, "-m", "yarnloom", "serve", "--port", "0", "--data", data)
        process = subprocess.Popen(
            ["sh", "-c", f'ulimit -v {limit // 1024}; exec "$@"', "sh", *serve, *arguments],
            stderr=subprocess.PIPE,
            text=True,
        )
        assert process.stderr
        found = re.search(r"serves at (http://[^,]+),", process.stderr.readline())
        assert found
        try:
            yield process, found[1]
        finally:
            process.send_signal(signal.SIGTERM)
            process.communicate(timeout=60)


@contextlib.contextmanager
def worker(url: str) -> Iterator[None]:
    """A worker for the bench's loom, which it publishes."""
    command = ("worker", "--load", "bench.looms:loom", "--publish", "--processes", "2")
    process = subprocess.Popen(
        [sys.executable, "-m", "yarnloom", *command, "--url", url],
        stderr=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )
    try:
        yield
    finally:
        process.terminate()
        process.wait(30)


def peak_of(process: subprocess.Popen[str]) -> int:
    """The most address space that a process had, in bytes."""
    status = Path(f"/proc/{process.pid}/status").read_text(encoding="ascii")
    found = re.search(r"VmPeak:\s+(\d+) kB", status)
    assert found
    return int(found[1]) * 1024


def a_step(run: Run, steps: int, without: float = 0.0) -> float:
    """Seconds a step from the first begin to the end."""
    begun, ended = (datetime.fromisoformat(run.data[name]) for name in ("started_at", "ended_at"))
    spent = (ended - begun).total_seconds() - without
    return spent / steps


def wait_until(run: Run, wanted: Any, pause: float = 0.02) -> None:
    """Look until something is so; seldom where the looking would be measured, too."""
    while not wanted(run.refresh()):
        time.sleep(pause)


def items_done(client: Client, run: Run) -> int:
    """How many items of its each are done."""
    graph = client.call(Request("GET", f"/runs/{run.number}/graph"))
    return int(graph["parts"][0]["progress"]["done"])


def small_run(client: Client, rows: Any) -> float:
    """A run over few rows."""
    run = client.start("rows", rows=rows)
    run.wait(120)
    return a_step(run, FEW)


def page_time(url: str, number: int, rows: int) -> float | None:
    """How long a browser takes to show how far a run is."""
    try:
        from playwright.sync_api import sync_playwright
    except ImportError:
        return None
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium",
            args=["--no-sandbox", "--disable-gpu", "--disable-background-networking"],
        )
        page = browser.new_page()
        page.goto(f"{url}/workers")  # so that the program is loaded, as for whoever works with it
        begun = time.perf_counter()
        page.goto(f"{url}/runs/{number}")
        page.get_by_text(re.compile(f"of {rows:,} done")).first.wait_for()
        spent = time.perf_counter() - begun
        browser.close()
        return spent


def write_rows(path: Path, count: int) -> Path:
    """A CSV file with so many rows."""
    with path.open("w", newline="", encoding="utf-8") as file:
        rows = csv.writer(file)
        rows.writerow(["number", "name"])
        rows.writerows((number, f"row {number}") for number in range(count))
    return path


def measure(many: int = MANY) -> Found:
    """All of it."""
    found = Found()
    with contextlib.ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        process, url = stack.enter_context(limited_service(LIMIT))
        stack.enter_context(worker(url))
        client = stack.enter_context(Client(url))
        few = client.upload(write_rows(folder / "few.csv", FEW))
        large = client.upload(write_rows(folder / "many.csv", many))
        while not client.call(Request("GET", "/workflows"))["workflows"]:
            time.sleep(0.1)
        small_run(client, few)
        found.few += [small_run(client, few) for _ in range(5)]
        begun = time.perf_counter()
        run = client.start("rows", rows=large, on_check=lambda _: None)
        found.checked = time.perf_counter() - begun
        wait_until(run, lambda one: items_done(client, one) > many * 0.3, pause=2.0)
        begun = time.perf_counter()
        run.pause("in the middle")
        wait_until(run, lambda one: one.state == "paused")
        found.paused = time.perf_counter() - begun
        found.page = page_time(url, run.number, many)
        run.resume()
        away = time.perf_counter() - begun
        run.wait()
        assert items_done(client, run) == many
        assert many < 100_000 or run.output["count"] == many, run.output
        found.many = a_step(run, many, away)
        found.few += [small_run(client, few) for _ in range(5)]
        run = client.start("rows", rows=large)
        wait_until(run, lambda one: items_done(client, one) > many * 0.01)
        begun = time.perf_counter()
        run.cancel("in the middle")
        wait_until(run, lambda one: one.state == "cancelled")
        found.cancelled = time.perf_counter() - begun
        found.peak = peak_of(process)
    return found
