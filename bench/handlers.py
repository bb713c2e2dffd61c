"""How long the service's event loop is held by one callback, whatever a worker or a stranger sends.

The service runs on the plain event loop, which tells how much processor time of its thread each
callback took (`python -m bench.handlers FILE serve …` is that service). It is sent random reports
about attempts in hand, texts of up to 50 MB, deep and wide values, and bodies full of mistakes.
"""

from __future__ import annotations

import asyncio
import atexit
import json
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from heapq import heappush, heappushpop
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, given, seed, settings
from tests.boundaries.odd_worker import OddWorker, report_bodies

REPORTS = 150
SIZES = (1, 3, 7, 9, 20, 50)
"""Megabytes of single texts."""

SLOWEST = 12


@dataclass(frozen=True)
class Found:
    """The measurements.

    Attributes:
        slowest: milliseconds of the longest callbacks, each with its name.
        reference: milliseconds in which this machine parses a megabyte of JSON.
        statuses: of all answers.
    """

    slowest: list[tuple[float, str]]
    reference: float
    statuses: set[int]


def measure() -> Found:
    """Send all of it, and read what the service noted."""
    with tempfile.TemporaryDirectory() as folder:
        noted = Path(folder) / "noted.json"
        serve = ("serve", "--data", f"{folder}/data", "--port", "0")
        process = subprocess.Popen(
            [sys.executable, "-m", "bench.handlers", str(noted), *serve],
            stderr=subprocess.PIPE,
            text=True,
        )
        assert process.stderr
        found = re.search(r"serves at (http://[^,]+),", process.stderr.readline())
        assert found
        threading.Thread(target=process.stderr.read, daemon=True).start()
        process.send_signal(signal.SIGUSR1)
        statuses = _send_all(OddWorker(found[1]))
        process.send_signal(signal.SIGTERM)
        process.wait(60)
        slowest = json.loads(noted.read_text())
    text = json.dumps([{"a": number} for number in range(100_000)])
    begun = time.thread_time()
    json.loads(text)
    return Found(slowest, (time.thread_time() - begun) * 1e3 / len(text) * 2**20, statuses)


def _send_all(worker: OddWorker) -> set[int]:
    statuses = set()

    @seed(1)
    @settings(
        max_examples=REPORTS,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(body=report_bodies())
    def random_reports(body: dict[str, Any]) -> None:
        _, attempt = worker.attempt()
        statuses.add(worker.report(body, attempt).status_code)

    random_reports()
    for megabytes in SIZES:
        for name in ("type", "message", "traceback"):
            _, attempt = worker.attempt()
            error = {"type": "E", name: "x" * megabytes * 2**20}
            item = {"attempt": attempt, "outcome": "failed", "error": error}
            statuses.add(worker.report({"items": [item]}).status_code)
    wrong = {"items": [{"attempt": "x"} for _ in range(43_000)]}
    deep = "[" * 60_000 + "]" * 60_000
    for path, body in (
        ("/workers/nobody/report", json.dumps(wrong)),
        ("/workers/odd/report", json.dumps(wrong)),
        ("/workers/odd/report", f'{{"items":{deep}}}'),
        ("/runs", f'{{"target":"odd/w","params":{{"x":{deep}}}}}'),
        ("/runs", json.dumps({"target": "odd/w", "params": {"x": ["a"] * 180_000}})),
    ):
        headers = {"content-type": "application/json"}
        statuses.add(worker.http.post(path, content=body, headers=headers).status_code)
    return statuses


# The service


def _serve(noted: Path) -> None:
    """Run a command, and note what held the event loop of the main thread."""
    from yarnloom.cli import entry

    slowest: list[tuple[float, str]] = []
    run = asyncio.events.Handle._run
    main = threading.main_thread()

    def timed(handle: Any) -> None:
        begun = time.thread_time()
        run(handle)
        took = (time.thread_time() - begun) * 1e3
        if threading.current_thread() is main and (len(slowest) < SLOWEST or took > slowest[0][0]):
            push = heappush if len(slowest) < SLOWEST else heappushpop
            push(slowest, (took, str(handle)[:200]))

    signal.signal(signal.SIGUSR1, lambda *_: slowest.clear())  # what starting took does not count
    asyncio.events.Handle._run = timed  # type: ignore[method-assign]
    sys.modules["uvloop"] = None  # type: ignore[assignment]
    atexit.register(lambda: noted.write_text(json.dumps(sorted(slowest, reverse=True))))
    entry()


if __name__ == "__main__":
    _file = Path(sys.argv.pop(1))
    _serve(_file)
