"""What a thousand watchers of one run cost the engine.

A run of no-op steps changes more than a thousand times a second. Measured are its steps a second
from resume to end, in turn without watchers and with a thousand open event streams, which a process
of low priority reads. Each watcher must end with the run's true final state.
"""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
from datetime import datetime
from urllib.parse import urlsplit

from bench.running import service, warm_up
from yarnloom import Client, local_socket
from yarnloom.client import Request

WATCHERS = 1_000
STEPS = 8_000
ROUNDS = 3


def measure() -> list[tuple[float, float, int]]:
    """Steps a second without and with watchers, and how many of these saw the end."""
    found = []
    with service() as url, Client(url) as client:
        warm_up(url)
        for _ in range(ROUNDS):
            alone, _none = _round(client, url, 0)
            watched, saw = _round(client, url, WATCHERS)
            found.append((alone, watched, saw))
    return found


def _round(client: Client, url: str, watchers: int) -> tuple[float, int]:
    run = client.start("many", number=STEPS)
    run.pause()
    while run.refresh().state != "paused":
        pass
    parts = client.call(Request("GET", f"/runs/{run.number}/graph"))["parts"]
    left = STEPS - (parts[1].get("progress") or {"done": 0})["done"]
    reader = None
    if watchers:
        command = [sys.executable, "-m", "bench.watchers", url, str(run.number), str(watchers)]
        reader = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert reader.stdout
        assert reader.stdout.readline().strip() == "ready"
    run.resume()
    run.wait(300)
    # By the service's own clock: what watchers are told of the end is not the engine's work.
    query = {"run": run.number, "what": "resume"}
    (resumed,) = client.call(Request("GET", "/commands", query=query))["commands"]
    ended, begun = (datetime.fromisoformat(at) for at in (run.data["ended_at"], resumed["at"]))
    spent = (ended - begun).total_seconds()
    saw = int(reader.communicate(timeout=60)[0]) if reader else 0
    return left / spent, saw


async def watch(url: str, number: int, count: int) -> None:
    """Open so many streams, say when they stand, and then how many saw the end."""
    os.nice(19)
    parts = urlsplit(url)
    standing, saw = asyncio.Semaphore(0), 0

    async def one() -> None:
        nonlocal saw
        path = local_socket.socket_of(url)
        reader, writer = await asyncio.open_unix_connection(path, limit=2**22)
        request = f"GET /api/v1/events?run={number} HTTP/1.1\r\nHost: {parts.netloc}\r\n\r\n"
        writer.write(request.encode())
        seen = False
        while line := await reader.readline():
            if not seen and line.startswith(b"data:"):
                seen = True
                standing.release()
            changed = line.startswith(b"data:") and b"yarnloom.run.changed" in line
            if changed and json.loads(line[5:])["data"]["run"]["state"] == "done":
                saw += 1
                break
        writer.close()

    tasks = [asyncio.create_task(one()) for _ in range(count)]
    for _ in range(count):
        await standing.acquire()
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    await asyncio.wait(tasks, timeout=45)
    sys.stdout.write(f"{saw}\n")


if __name__ == "__main__":
    asyncio.run(watch(sys.argv[1], int(sys.argv[2]), int(sys.argv[3])))
