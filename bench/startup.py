"""How long it takes until a service listens, has published and a step has begun; and the command.

Measured from the start of `yarnloom serve --load` on a new folder, with a loom of two tasks; the
bench's own has a plan of 2,000 steps. The reference is a Python process that only imports FastAPI
and uvicorn, without which no service like this begins. Beside it the processor time of all
processes until then.
"""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from bench.processor import processor_seconds
from yarnloom import Client

ROUNDS = 5


@dataclass(frozen=True)
class Start:
    """One start, in seconds.

    Attributes:
        listens: until it says where it serves.
        works: until its worker takes work, after the loom is published.
        begun: until a step that was started then has ended.
        processor: processor time of all its processes until then.
        reference: of the process that only imports.
        help: `yarnloom --help`.
    """

    listens: float
    works: float
    begun: float
    processor: float
    reference: float
    help: float


def measure() -> list[Start]:
    """Start a service and the reference in turn."""
    return [_start() for _ in range(ROUNDS)]


def _start() -> Start:
    mark = f"YARNLOOM_BENCH_START={time.time_ns()}"
    name, _, value = mark.partition("=")
    with tempfile.TemporaryDirectory() as data:
        begun = time.perf_counter()
        process = subprocess.Popen(
            [
                *(sys.executable, "-m", "yarnloom", "serve", "--port", "0", "--data", data),
                *("--load", "bench.wide:loom"),
            ],
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, name: value},
        )
        assert process.stderr
        listens, url, published, takes_work = 0.0, "", False, False
        for line in process.stderr:
            if found := re.search(r"serves at (http://[^,]+),", line):
                listens, url = time.perf_counter() - begun, found[1]
            published = published or " at version " in line
            takes_work = takes_work or "takes work" in line
            if published and takes_work:
                break
        works = time.perf_counter() - begun
        with Client(url) as client:
            client.start("wide", items=1).wait(60)
        ended = time.perf_counter() - begun
        processor = processor_seconds(mark)
        process.send_signal(signal.SIGTERM)
        process.communicate(timeout=30)
    reference = _spent("-c", "import fastapi, uvicorn")
    return Start(listens, works, ended, processor, reference, _spent("-m", "yarnloom", "--help"))


def _spent(*arguments: str) -> float:
    begun = time.perf_counter()
    with Path(os.devnull).open("w") as nowhere:
        subprocess.run([sys.executable, *arguments], check=True, stdout=nowhere)
    return time.perf_counter() - begun
