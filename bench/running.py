"""A service with a worker, as processes, for the time of a measurement."""

from __future__ import annotations

import contextlib
import re
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator

import httpx

from yarnloom import Client
from yarnloom.client import Target
from yarnloom.client.unix_backend import UnixTransport


@contextlib.contextmanager
def service(*arguments: str) -> Iterator[str]:
    """Run `yarnloom serve` with the bench's loom; gives its address once a worker is there."""
    with tempfile.TemporaryDirectory() as data:
        command = ("serve", "--port", "0", "--data", data, "--load", "bench.looms:loom")
        process = subprocess.Popen(
            [sys.executable, "-m", "yarnloom", *command, *arguments],
            stderr=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            text=True,
        )
        assert process.stderr
        url, published, works = "", False, False
        for line in process.stderr:
            if found := re.search(r"serves at (http://[^,]+),", line):
                url = found[1]
            published |= line.startswith(("published", "unchanged"))
            works |= "takes work" in line
            if url and published and works:
                break
        try:
            yield url
        finally:
            process.send_signal(signal.SIGTERM)
            process.communicate(timeout=30)


def raw_client(url: str) -> httpx.Client:
    """Return a client that sends requests to a service as they are, over its Unix socket."""
    transport = UnixTransport(Target.find(url))
    return httpx.Client(base_url=f"{url}/api/v1", timeout=120, transport=transport)


def warm_up(url: str) -> None:
    """Let every process have run something."""
    with Client(url) as client:
        for run in [client.start("one", number=n) for n in range(20)]:
            assert run.wait(60) == run.data["params"]["number"]
