"""What the console asks: which runs there are, what goes on, what it was like, over HTTP."""

from __future__ import annotations

import asyncio
import gzip
import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from httpx_sse import connect_sse

from tests import raw_http
from tests.helpers import LOOM, ServiceProgram, eventually, run_command, service
from tests.service.test_events import hub, runs, take
from yarnloom import AsyncClient, Client, Start
from yarnloom.errors import RunFailed

FAR = "2099-01-01T00:00:00Z"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of three processes."""
    with service(tmp_path_factory.mktemp("overview"), "--load", LOOM, "--processes", "3") as found:
        yield found


@pytest.fixture
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw requests."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", timeout=60, trust_env=False) as found:
        yield found


@pytest.fixture
def client(program: ServiceProgram) -> Client:
    """A client."""
    return program.client()


def numbers(http: httpx.Client, **query: Any) -> list[int]:
    """The runs that a list shows."""
    answer = http.get("/runs", params=query)
    assert answer.status_code == 200, answer.text
    return [run["number"] for run in answer.json()["runs"]]


def test_runs_are_found_by_everything_that_is_known_of_them(
    http: httpx.Client, client: Client
) -> None:
    """Text in any of it, upper or lower case; time, starter, key, tag; all together."""
    (number,) = client.start_many(
        [Start("sums", {"number": 4711}, key="k-spring", tags=("syzygy",))]
    )
    client.run(number).wait(60)
    with pytest.raises(RunFailed):
        client.start("misbehaves", how="raise").wait(60)
    who = client.run(number).data["started_by"]
    for query in (
        *({"text": text} for text in ("4711", str(number), "SPRING", "syzy", "marks/SUMS", who)),
        {"key": "k-spring"},
        {"tag": "syzygy"},
        {"who": who, "until": FAR, "since": "2020-01-01T00:00:00+02:00"},
        {"text": "4711", "state": "done", "workflow": "sums"},
    ):
        assert number in numbers(http, **query), query
    for query in ({"text": "100%"}, {"text": "4711", "state": "failed"}, {"since": FAR}):
        assert numbers(http, **query) == [], query
    assert len(numbers(http, text="it went wrong")) == 1
    assert http.get("/runs", params={"since": "yesterday"}).status_code == 422
    assert http.get("/runs", params={"since": "2027-01-01T00:00:00"}).status_code == 422


def test_the_same_filter_acts_on_many(http: httpx.Client, client: Client) -> None:
    """What is listed is what is counted."""
    client.start_many([Start("sums", {"number": 5}, tags=("many",)) for _ in range(3)])
    body = {"action": "cancel", "text": "many", "since": "2020-01-01T00:00:00Z", "reason": ""}

    assert http.post("/runs/actions", json=body).json()["count"] == 3
    assert http.post("/runs/actions", json={**body, "until": "2020-02-01T00:00:00Z"}).json() == {
        "count": 0,
        "done": [],
        "refused": [],
    }


def test_filters_from_python_and_the_command(program: ServiceProgram, client: Client) -> None:
    """By the same names."""
    run = client.start("sums", number=987_654)
    run.wait(60)
    hour = datetime.now(UTC) - timedelta(hours=1)
    assert [one.number for one in client.runs(text="987654", since=hour)] == [run.number]
    assert list(client.runs(text="987654", until=hour)) == []

    async def ask() -> list[int]:
        async with AsyncClient(program.url) as asker:
            return [run.number async for run in asker.runs(text="987654", who="test")]

    assert asyncio.run(ask()) == [run.number]
    command = ("runs", "--text", "987654", "--since", "2h", "--who", "test", "--json")
    listed = json.loads(run_command(*command, url=program.url).stdout)
    assert [one["number"] for one in listed["runs"]] == [run.number]
    old = run_command("runs", "--text", "987654", "--until", "2020-01-01", url=program.url)
    assert "no run fits" in old.stderr
    wrong = run_command("runs", "--since", "long ago", url=program.url)
    assert wrong.returncode == 2
    assert "found 'long ago'; expected so long ago as 30m" in wrong.stderr
    assert "or a time as 2027-03-01" in wrong.stderr


def test_counts_by_state(http: httpx.Client, client: Client) -> None:
    """Every state is there."""
    before = http.get("/runs/counts").json()
    client.start("sums", number=1).wait(60)
    after = http.get("/runs/counts").json()

    assert after["counts"]["done"] == before["counts"]["done"] + 1
    assert {"scheduled", "queued", "paused"} < after["counts"].keys()
    assert after["more"] == []


def test_attempts_and_the_graph_as_it_was(
    http: httpx.Client, client: Client, tmp_path: Path
) -> None:
    """The times of attempts say when to look; what was seen then is seen again."""
    run = client.start("held", folder=str(tmp_path))

    def graph() -> dict[str, Any]:
        found: dict[str, Any] = http.get(f"/runs/{run.number}/graph").json()
        return found

    seen = eventually(lambda: graph() if graph()["parts"][1]["state"] == "running" else None)
    assert seen is not None
    moment = datetime.now(UTC).isoformat()
    (tmp_path / "go").touch()
    run.wait(60)
    told = http.get(f"/runs/{run.number}/attempts").json()
    assert [attempt["address"] for attempt in told["attempts"]] == ["begin", "hold", "finish"]
    assert run.refresh().data["attempts"] == 3
    assert all(
        attempt["worker"] and attempt["begun_at"] <= attempt["ended_at"]
        for attempt in told["attempts"]
    )
    then = http.get(f"/runs/{run.number}/graph", params={"at": moment}).json()
    assert [part["state"] for part in then["parts"]] == [part["state"] for part in seen["parts"]]
    assert [part["state"] for part in then["parts"]] == ["done", "running", "waiting"]
    before = http.get(f"/runs/{run.number}/graph", params={"at": "2020-01-01T00:00:00Z"}).json()
    assert {part["state"] for part in (before, *before["parts"])} == {"waiting"}
    assert http.get(f"/runs/{run.number}/graph", params={"at": "noon"}).status_code == 422
    part = http.get(f"/runs/{run.number}/attempts", params={"address": "hold"})
    assert (part.status_code, "is no item" in part.text) == (422, True)


def test_attempts_of_one_item(http: httpx.Client, client: Client) -> None:
    """By its address, with the addresses of its steps."""
    run = client.start("coast", harbours=["brackwater", "old weir"])
    run.wait(60)
    query = {"address": "harbours[old%20weir]"}
    told = http.get(f"/runs/{run.number}/attempts", params=query).json()["attempts"]

    assert {one["address"] for one in told} == {
        *("harbours[old%20weir]/listen", "harbours[old%20weir]/figures/sum"),
        "harbours[old%20weir]/figures/twice",
    }
    page = http.get(f"/runs/{run.number}/attempts", params={"limit": 3}).json()
    rest = http.get(f"/runs/{run.number}/attempts", params={"cursor": page["next"]}).json()
    assert len(page["attempts"]) + len(rest["attempts"]) == 7


def test_the_overview_says_what_is_stuck(
    http: httpx.Client, client: Client, tmp_path: Path
) -> None:
    """A pool that is paused, a worker that is missing, a run that is paused; not what waits."""
    client.change_pool("narrow", paused=True, reason="ice")
    stopped = client.start("narrows", folder=str(tmp_path))
    unknown = client.start("draws", folder=str(tmp_path))
    paused = client.start("heeds", folder=str(tmp_path))
    eventually((tmp_path / "heed").exists)
    paused.pause("fog")
    eventually(lambda: paused.refresh().state == "paused")
    told = http.get("/overview").json()
    reasons = {one["run"]: " ".join(one["reasons"]) for one in told["stuck"]}
    assert "ice" in reasons[stopped.number]
    assert "gpu" in reasons[unknown.number]
    assert "fog" in reasons[paused.number]
    minute = told["minutes"][-1]
    assert len(told["minutes"]) == 60
    assert sum(one["begun"] for one in told["minutes"]) > 0
    assert minute["at"].endswith(":00.000000Z")
    use = http.get("/pools/narrow/use").json()
    assert use["waits"][0]["run"] == stopped.number
    assert use["waits"][0]["steps"] == 3
    assert use["minutes"][-1]["waiting"] == 3
    assert http.get("/pools/nowhere/use").status_code == 404
    (tmp_path / "go").touch()
    client.change_pool("narrow", as_declared=True, paused=False)
    stopped.wait(60)
    for run in (unknown, paused):
        run.cancel()


def test_workers_say_what_they_have_in_hand(
    http: httpx.Client, client: Client, tmp_path: Path
) -> None:
    """By address, with the attempt's number, and the hash of all their code."""
    run = client.start("narrows", folder=str(tmp_path))
    eventually((tmp_path / "narrow").exists)
    (worker,) = http.get("/workers").json()["workers"]
    mine = [one for one in worker["runs"] if one["run"] == run.number]
    assert [one["address"] for one in mine] == ["all[1]/pass#1"]
    assert len(worker["code"]) == 12
    (tmp_path / "go").touch()
    run.wait(60)


def test_a_stream_has_the_graphs_that_are_wanted(
    program: ServiceProgram, client: Client, tmp_path: Path
) -> None:
    """All runs change in it, and of some the graphs too; `after` goes on in a new connection."""
    run = client.start("held", folder=str(tmp_path))
    eventually((tmp_path / "hold").exists)
    seen: list[tuple[str, str]] = []
    url = f"{program.url}/api/v1/events"
    with (
        raw_http.Client(timeout=60, trust_env=False) as raw,
        connect_sse(raw, "GET", url, params={"graph": run.number}) as source,
    ):
        events = source.iter_sse()
        first = next(events)
        other = client.start("sums", number=1)
        (tmp_path / "go").touch()
        run.wait(60)
        other.wait(60)
        for event in events:
            seen.append((event.event, json.loads(event.data)["subject"]))
            graph = ("yarnloom.graph.changed", str(run.number))
            if graph in seen and ("yarnloom.run.changed", str(other.number)) in seen:
                break
    assert first.event == "yarnloom.snapshot"
    assert not any(kind.endswith("graph.changed") and of != str(run.number) for kind, of in seen)


def test_a_new_connection_goes_on_behind_an_event() -> None:
    """By `after`, with other graphs than before: nothing is missed, and no snapshot is sent."""

    async def main() -> tuple[list[str], list[tuple[str, str]]]:
        states = {1: "queued", 2: "queued"}
        under_test = hub(states)
        stream = under_test.watch(None, None, [1])
        await take(stream, 1)
        under_test.changed(runs(1))
        first = await take(stream, 2)
        keeper = under_test.watch(None, None)
        await take(keeper, 1)
        await stream.aclose()
        under_test.changed(runs(2))
        await take(keeper, 1)
        again = under_test.watch(None, first[-1]["id"], [1, 2])
        missed = await take(again, 2)
        under_test.changed(runs(2))
        told = await take(again, 2)
        # Whoever wants no graphs gets none.
        assert [one["type"] for one in await take(keeper, 1)] == ["yarnloom.run.changed"]
        return (
            [one["type"] for one in first],
            [(one["type"], one["subject"]) for one in missed + told],
        )

    first, rest = asyncio.run(main())

    assert first == ["yarnloom.run.changed", "yarnloom.graph.changed"]
    assert rest == [("yarnloom.run.changed", "2"), ("yarnloom.graph.changed", "2")] * 2


def test_the_console_is_served_compressed(program: ServiceProgram) -> None:
    """To whoever takes it, and as it is to others; the page of the API beside it."""
    with raw_http.Client(base_url=program.url, trust_env=False) as raw:
        page = raw.get("/api").text
        assert "The API" in page
        name = page.partition('src="')[2].partition('"')[0]
        plain = raw.get(name, headers={"Accept-Encoding": "identity"})
        packed = raw.get(name, headers={"Accept-Encoding": "gzip"})
    assert plain.headers.get("content-encoding") is None
    assert packed.headers["content-encoding"] == "gzip"
    assert packed.content == plain.content
    assert int(packed.headers["content-length"]) < len(gzip.compress(plain.content)) * 1.1
    assert "script-src" not in plain.headers["content-security-policy"]
