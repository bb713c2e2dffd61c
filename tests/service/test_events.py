"""Live events: CloudEvents, in order, resumable, and harmless to the engine."""

from __future__ import annotations

import asyncio
import json
from typing import Any

from httpx_sse import connect_sse

from tests import raw_http
from tests.helpers import ServiceProgram
from yarnloom.service.runs.events import BACKLOG, Hub, Subject


def runs(*numbers: int) -> set[Subject]:
    """What an event is about, for some runs."""
    return {("run", number) for number in numbers}


def hub(states: dict[int, str]) -> Hub:
    """A hub over made-up runs."""

    async def look(subject: Subject, closely: bool) -> dict[str, Any] | None:
        run = int(subject[1])
        return (
            {"run": {"number": run, "state": states[run]}, "graph": {}} if run in states else None
        )

    return Hub("/services/test", look, lambda: 1_800_000_000_000_000)


async def take(stream: Any, count: int) -> list[dict[str, Any]]:
    """The next events of a stream."""
    found: list[dict[str, Any]] = []
    while len(found) < count:
        chunk = (await asyncio.wait_for(anext(stream), 20)).decode()
        for event in chunk.split("\r\n\r\n")[:-1]:
            place, _, data = (line.partition(": ")[2] for line in event.split("\r\n"))
            found.append({"id": place, **json.loads(data)})
    assert len(found) == count
    return found


def test_events_are_cloudevents() -> None:
    """Each has what CloudEvents 1.0 asks for."""

    async def main() -> list[dict[str, Any]]:
        states = {1: "queued"}
        under_test = hub(states)
        stream = under_test.watch(1, None)
        first = await take(stream, 1)
        states[1] = "running"
        under_test.changed(runs(1))
        return first + await take(stream, 2)

    snapshot, change, graph = asyncio.run(main())

    assert snapshot["type"] == "yarnloom.snapshot"
    assert snapshot["data"]["run"]["state"] == "queued"
    assert (change["specversion"], change["source"]) == ("1.0", "/services/test")
    assert (change["type"], change["subject"]) == ("yarnloom.run.changed", "1")
    assert change["data"]["run"]["state"] == "running"
    assert graph["type"] == "yarnloom.graph.changed"


def test_a_watcher_goes_on_where_it_was() -> None:
    """With the last id it saw; an id that is not known gets a snapshot."""

    async def main() -> tuple[list[str], list[str], list[str]]:
        states = {1: "queued"}
        under_test = hub(states)
        steady = under_test.watch(None, None)
        leaving = under_test.watch(None, None)
        await take(steady, 1)
        (last,) = await take(leaving, 1)
        await leaving.aclose()
        states[1] = "done"
        under_test.changed(runs(1))
        await take(steady, 1)
        back = await take(under_test.watch(None, last["id"]), 1)
        other = await take(under_test.watch(None, "elsewhere-5"), 1)
        ahead = await take(under_test.watch(None, last["id"].split("-")[0] + "-99"), 1)
        return [e["type"] for e in back], [e["type"] for e in other], [e["type"] for e in ahead]

    back, other, ahead = asyncio.run(main())

    assert back == ["yarnloom.run.changed"]
    assert other == ahead == ["yarnloom.snapshot"]


def test_a_slow_watcher_is_resynchronised() -> None:
    """Its queue is bounded; a snapshot takes the place of what it missed."""

    async def main() -> list[dict[str, Any]]:
        states = dict.fromkeys(range(BACKLOG * 2), "queued")
        under_test = hub(states)
        stream = under_test.watch(None, None)
        await take(stream, 1)
        watcher = next(iter(under_test._watchers))
        under_test.changed(runs(*states))
        while not watcher.late:
            await asyncio.sleep(0)
        assert len(watcher.frames) <= BACKLOG
        return await take(stream, 1)

    (event,) = asyncio.run(main())

    assert event["type"] == "yarnloom.snapshot"


def test_a_watcher_is_sent_the_newest_state_only() -> None:
    """What a slow watcher has not read yet is replaced by what is newer."""

    async def main() -> list[dict[str, Any]]:
        states = {1: "queued", 2: "queued"}
        under_test = hub(states)
        steady, slow = under_test.watch(None, None), under_test.watch(None, None)
        await take(steady, 1)
        await take(slow, 1)
        for state in ("running", "pausing", "done"):
            states[1] = state
            under_test.changed(runs(1, 2))
            await take(steady, 2)
        return await take(slow, 2)

    events = asyncio.run(main())

    assert [(e["subject"], e["data"]["run"]["state"]) for e in events] == [
        ("1", "done"),
        ("2", "queued"),
    ]


def test_nothing_is_read_while_nobody_watches() -> None:
    """A change without watchers costs nothing."""
    looked = []

    async def main() -> None:
        async def look(subject: Subject, closely: bool) -> None:
            looked.append(subject)

        under_test = Hub("/services/test", look, lambda: 0)
        under_test.changed(runs(1, 2, 3))
        await asyncio.sleep(0)

    asyncio.run(main())

    assert looked == []


def test_a_real_stream_ends_with_the_true_state(served: ServiceProgram) -> None:
    """From the start of a run to its end, over HTTP."""
    with raw_http.Client(base_url=served.url, timeout=40, trust_env=False) as http:
        run = http.post("/api/v1/runs", json={"target": "sums", "params": {"number": 1}}).json()
        states = []
        with connect_sse(http, "GET", f"/api/v1/events?run={run['number']}") as source:
            for event in source.iter_sse():
                data = json.loads(event.data).get("data") or {}
                if "run" in data:
                    states.append(data["run"]["state"])
                if states and states[-1] == "done":
                    break

    assert states[-1] == "done"
