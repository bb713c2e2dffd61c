"""From start to result of one no-op step, against a bare HTTP round trip on the same stack.

Measured by one client over one kept connection: `POST /runs`, then `GET /runs/N?wait=` until the
result is there. The reference is a POST to a FastAPI route that does nothing, served by uvicorn in
a process of its own. Also told: from the start's answer until the attempt began, by the service's
own records.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import socket
import time
from collections.abc import Iterator
from datetime import datetime
from statistics import median

import httpx
import uvicorn
from fastapi import FastAPI
from pydantic import BaseModel

from bench.looms import CHAIN
from bench.running import raw_client, service, warm_up
from yarnloom import Client

ROUNDS = 300
CHAINS, TRIPS = 12, 20


class Body(BaseModel):
    """A body like that of a start."""

    workflow: str
    params: dict[str, int]


def _serve(port: int) -> None:
    app = FastAPI()

    @app.post("/runs")
    async def start(body: Body) -> dict[str, str]:
        return {"workflow": body.workflow}

    uvicorn.run(app, port=port, log_level="error", access_log=False)


@contextlib.contextmanager
def bare() -> Iterator[str]:
    """The reference's server."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = multiprocessing.get_context("spawn").Process(target=_serve, args=(port,), daemon=True)
    process.start()
    url = f"http://127.0.0.1:{port}"
    while True:
        with contextlib.suppress(httpx.TransportError):
            httpx.get(url, trust_env=False)
            break
    try:
        yield url
    finally:
        process.terminate()
        process.join()


def measure() -> tuple[list[float], list[float], list[float]]:
    """Seconds from start to result, of a bare round trip, and from start to begin."""
    results, trips, begins = [], [], []
    with service() as url, bare() as reference:
        warm_up(url)
        with (
            raw_client(url) as http,
            httpx.Client(base_url=reference, timeout=60, trust_env=False) as other,
        ):
            for number in range(ROUNDS):
                body = {"target": "one", "params": {"number": number}}
                begun = time.perf_counter()
                run = http.post("/runs", json=body).json()
                ended = http.get(f"/runs/{run['number']}?wait=20").json()
                results.append(time.perf_counter() - begun)
                assert ended["output"] == number
                times = [datetime.fromisoformat(ended[key]) for key in ("created_at", "started_at")]
                begins.append((times[1] - times[0]).total_seconds())
                begun = time.perf_counter()
                other.post("/runs", json=body).json()
                trips.append(time.perf_counter() - begun)
    return results, trips, begins


def measure_chain() -> tuple[list[float], list[float]]:
    """Seconds a step of one chain that runs alone, and of a bare round trip."""
    steps, trips = [], []
    with service() as url, bare() as reference:
        warm_up(url)
        with (
            Client(url) as client,
            httpx.Client(base_url=reference, timeout=60, trust_env=False) as other,
        ):
            for number in range(CHAINS):
                begun = time.perf_counter()
                client.start("chain", number=number).wait(60)
                steps.append((time.perf_counter() - begun) / CHAIN)
                for _ in range(TRIPS):
                    begun = time.perf_counter()
                    other.post("/runs", json={"workflow": "one", "params": {"number": 1}}).json()
                    trips.append(time.perf_counter() - begun)
    return steps, trips


def summary(seconds: list[float]) -> str:
    """Median and 95th percentile in milliseconds."""
    ordered = sorted(seconds)
    return f"{median(ordered) * 1e3:.2f} ms (95%: {ordered[len(ordered) * 95 // 100] * 1e3:.2f} ms)"
