"""From raising a pool's limit until the steps that may run then have begun, against round trips.

Forty steps wait in a pool; its limit goes from 1 to 10 with one `PATCH`. Measured is from before
that request until the last of the nine has begun, by the worker's own report. The reference is a
bare HTTP round trip in the same run. Also counted: what began after a pause was answered.
"""

from __future__ import annotations

import tempfile
import time
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx

from bench.latency import bare
from bench.looms import WAITING
from bench.running import raw_client, service

ROUNDS = 20


def measure() -> tuple[list[float], list[float], int]:
    """Seconds until nine more have begun, seconds of a bare round trip, and begins in a pause."""
    raises, trips, begun_in_pause = [], [], 0
    with (
        service() as url,
        bare() as reference,
        tempfile.TemporaryDirectory() as folder,
        raw_client(url) as http,
        httpx.Client(base_url=reference, timeout=60, trust_env=False) as other,
    ):
        for number in range(ROUNDS):
            http.patch("/pools/gate", json={"limit": 1, "paused": False})
            body = {"target": "stays", "params": {"path": f"{folder}/{number}"}}
            run = http.post("/runs", json=body).json()["number"]
            _wait_until_begun(http, run, 1)
            raised_at = time.time()
            http.patch("/pools/gate", json={"limit": 10})
            begun = _wait_until_begun(http, run, 10)
            raises.append(max(begun) - raised_at)
            http.patch("/pools/gate", json={"paused": True})
            paused_at = time.time()
            http.patch("/pools/gate", json={"limit": 20})
            Path(folder, str(number)).touch()  # those that run end, and make room
            while http.get("/pools/gate").json()["in_use"]:
                pass
            begun_in_pause += sum(at > paused_at for at in _begun(http, run))
            http.post(f"/runs/{run}/cancel")
            begun_at = time.perf_counter()
            other.post("/runs", json={"workflow": "x", "params": {}}).json()
            trips.append(time.perf_counter() - begun_at)
    return raises, trips, begun_in_pause


def _begun(http: httpx.Client, run: int) -> list[float]:
    """When the steps of a run began, as far as they have."""
    found = []
    for item in range(WAITING):
        step: dict[str, Any] = http.get(
            f"/runs/{run}/steps", params={"address": f"all[{item}]/stay"}
        ).json()
        found += [
            datetime.fromisoformat(one["begun_at"]).timestamp()
            for one in step["attempts"]
            if one["begun_at"]
        ]
    return found


def _wait_until_begun(http: httpx.Client, run: int, count: int) -> list[float]:
    while len(found := _begun(http, run)) < count:
        pass
    return found
