"""A file of 1 GB up to a service with an address limit of 300 MB, and down again.

The reference is a copy of the same file on the same disk, flushed, in the same run.
"""

from __future__ import annotations

import os
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from bench.rows import limited_service, peak_of
from yarnloom import Client

SIZE = 10**9
LIMIT = 300 * 10**6
BLOCK = 10**6


@dataclass
class Found:
    """Seconds of a flushed copy, up and down; the service's peak of address space in bytes."""

    copy: float
    up: float
    down: float
    peak: int


def measure(size: int = SIZE) -> Found:
    """All of it."""
    with tempfile.TemporaryDirectory() as name, limited_service(LIMIT) as (process, url):
        folder = Path(name)
        block = os.urandom(BLOCK)
        with (folder / "large").open("wb") as file:
            for index in range(size // BLOCK):
                file.write(index.to_bytes(8, "big") + block[8:])
        begun = time.perf_counter()
        with (folder / "large").open("rb") as source, (folder / "copy").open("wb") as target:
            while part := source.read(BLOCK):
                target.write(part)
            target.flush()
            os.fsync(target.fileno())
        copied = time.perf_counter()
        with Client(url) as client:
            kept = client.upload(folder / "large")
            up = time.perf_counter()
            client.download(kept, folder / "down")
            down = time.perf_counter()
        assert (folder / "down").stat().st_size == size
        return Found(copied - begun, up - copied, down - up, peak_of(process))
