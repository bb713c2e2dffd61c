"""Later, many and by the clock, over HTTP and with both clients."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from httpx_sse import connect_sse

from tests import raw_http
from tests.helpers import LOOM, ServiceProgram, run_command, service
from yarnloom import AsyncClient, Client, Start
from yarnloom.client import Request
from yarnloom.errors import InvalidInput, NotFound, StartKeyTaken, ValueRefused

MANY = 10_000
SUMS = {"workflow": "sums", "cron": "30 2 * * *", "params": {"number": 1}}


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the tests' loom published, and no worker."""
    with service(tmp_path_factory.mktemp("time")) as found:
        run_command("publish", LOOM, url=found.url)
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


def pointers(answer: httpx.Response) -> set[str]:
    """What an answer says is wrong."""
    assert answer.status_code == 422, answer.text
    return {problem["pointer"] for problem in answer.json()["problems"]}


# Later


def test_a_start_time_is_kept_and_shown(http: httpx.Client) -> None:
    """By time with an offset, or by seconds from now; the same start is the same run."""
    body = {"target": "sums", "params": {"number": 1}, "key": "later"}
    at = "2099-01-01T08:00:00+02:00"
    first = http.post("/runs", json={**body, "at": at, "start_by": "2099-02-01T00:00:00Z"})
    assert first.status_code == 201, first.text
    run = first.json()
    assert (run["state"], run["start_at"]) == ("scheduled", "2099-01-01T06:00:00.000000Z")
    assert run["start_by"] == "2099-02-01T00:00:00.000000Z"
    assert run["counts"]["total"] == 0
    assert http.post("/runs", json=body).json()["number"] == run["number"]
    assert http.get(f"/runs/{run['number']}/graph").json()["state"] == "waiting"
    assert http.get(f"/runs/{run['number']}/steps").status_code == 200
    soon = http.post("/runs", json={**body, "key": "soon", "after": 3_600}).json()
    assert soon["state"] == "scheduled"
    listed = http.get("/runs", params={"state": "scheduled"}).json()["runs"]
    assert {run["number"], soon["number"]} <= {one["number"] for one in listed}


@pytest.mark.parametrize(
    ("times", "where"),
    [
        ({"at": "2099-01-01T08:00:00"}, "/at"),  # whose clock?
        ({"at": "soon"}, "/at"),
        ({"after": -1}, "/after"),
        ({"after": 1e12}, "/after"),
        ({"at": "2099-01-01T08:00:00Z", "after": 1}, ""),
        ({"start_by": "2001-01-01T00:00:00Z"}, "/start_by"),
        ({"start_by": "2098-01-01T00:00:00Z", "at": "2099-01-01T00:00:00Z"}, "/start_by"),
    ],
)
def test_times_that_make_no_sense(http: httpx.Client, times: dict[str, Any], where: str) -> None:
    """Are refused, and nothing is started."""
    body = {"target": "sums", "params": {"number": 1}, "key": "nonsense", **times}
    assert where in pointers(http.post("/runs", json=body))
    assert http.get("/runs", params={"key": "nonsense"}).json()["runs"] == []


def test_the_client_says_when(client: Client) -> None:
    """In Python's own words; a time without a zone is refused before it is sent."""
    at = datetime.now(UTC) + timedelta(days=2)
    assert client.start("sums", number=1, at=at).state == "scheduled"
    run = client.start("add", number=1, more=2, after="2h", start_by=at)
    assert run.state == "scheduled"
    for wrong in ({"at": datetime(2099, 1, 1)}, {"after": "a while"}):
        with pytest.raises(ValueRefused, match="start time"):
            client.start("sums", number=1, **wrong)  # type: ignore[arg-type]


# Many


def test_ten_thousand_in_one_request(tmp_path: Path) -> None:
    """All are there when it is answered; others are served while they are looked at; kill -9."""
    data = tmp_path / "data"
    program = ServiceProgram(data)
    run_command("publish", LOOM, url=program.url)
    client = program.client()
    starts = [
        Start("sums", {"number": n}, key=f"many-{n}", share="large", tags=("many",))
        for n in range(MANY)
    ]
    found: list[list[int]] = []
    starting = threading.Thread(target=lambda: found.append(client.start_many(starts)))
    starting.start()
    other, served = program.client(), 0
    while starting.is_alive():
        other.call(Request("GET", "/service"))
        served += 1
    program.kill()
    (numbers,) = found
    assert numbers == list(range(1, MANY + 1))
    assert served > 10
    with service(data, "--load", LOOM, port=program.port) as program:
        client = program.client()
        # Somebody else's single run is done long before they all are.
        assert client.start("sums", number=1, share="small").wait(60) == 3
        assert client.run(MANY).state != "done"
        assert client.start_many(starts[:3]) == [1, 2, 3]
        assert client.run(10).wait(120) == 9 + 2


def test_of_many_all_or_none(client: Client) -> None:
    """Mistakes by their place; a key of another; too many."""
    good = [Start("sums", {"number": 1}, key=f"none-{n}") for n in range(60)]
    bad = [*good, Start("sums", {"nummer": 1}), Start("nothing")]
    with pytest.raises(InvalidInput) as refused:
        client.start_many(bad)
    where = {problem.where for problem in refused.value.problems}
    assert where == {"/starts/60/params/number", "/starts/60/params/nummer", "/starts/61/target"}
    client.start("sums", number=7, key="none-3")
    with pytest.raises(StartKeyTaken, match="start 3"):
        client.start_many(good)
    assert list(client.runs(key="none-1")) == []
    with pytest.raises(InvalidInput, match="10000"):
        client.start_many(Start("sums", {"number": 1}) for _ in range(MANY + 1))
    with pytest.raises(InvalidInput):
        client.start_many([])


def test_many_with_rows_are_checked_first(program: ServiceProgram, client: Client) -> None:
    """As one is: where rows have errors nothing is started; else all are."""
    run_command("publish", "tests.files_loom:loom", url=program.url)
    good = client.upload(b"harbour,address\nsaltmere,a@b\n", "good.csv")
    bad = client.upload(b"harbour,address\nsaltmere,nowhere\n", "bad.csv")
    starts = [Start("letters", {"contacts": one}) for one in (good, bad)]
    with pytest.raises(InvalidInput, match=r"bad\.csv: 1 error"):
        client.start_many(starts)
    assert list(client.runs(workflow="letters")) == []
    numbers = client.start_many([starts[0]] * 2)
    assert [run.number for run in client.runs(workflow="letters")] == numbers[::-1]


# Schedules


def test_a_schedule_from_making_to_removing(http: httpx.Client) -> None:
    """201, 200, 204; next times in its zone; the record of who did it."""
    body = {"name": "nightly", **SUMS, "zone": "Europe/Lisbon", "note": "n", "reason": "why"}
    made = http.post("/schedules", json=body)
    assert made.status_code == 201, made.text
    schedule = made.json()
    assert len(schedule["next_times"]) == 5
    assert schedule["next_times"][0] == schedule["next_at"]
    assert "T02:30:00" in schedule["next_at"]
    assert (schedule["workflow"], schedule["loom"]) == ("marks/sums", None)
    changed = http.patch("/schedules/nightly", json={"cron": "0 4 * * *", "paused": True}).json()
    assert (changed["cron"], changed["next_at"]) == ("0 4 * * *", None)
    assert changed["by_hand"] == {"cron": "0 4 * * *"}
    started = http.post("/schedules/nightly/start", json={"key": "k", "reason": "now"})
    again = http.post("/schedules/nightly/start", json={"key": "k"})
    assert (started.status_code, again.status_code) == (201, 200)
    assert (started.json()["schedule"], started.json()["started_by"]) == ("nightly", "http")
    runs = http.get("/runs", params={"schedule": "nightly"}).json()["runs"]
    assert [one["number"] for one in runs] == [started.json()["number"]]
    assert http.delete("/schedules/nightly", params={"reason": "done"}).status_code == 204
    assert http.get("/schedules/nightly").status_code == 404
    what = [one["what"] for one in http.get("/commands").json()["commands"]]
    assert {"make_schedule", "change_schedule", "remove_schedule"} <= set(what)


def test_every_mistake_of_a_schedule_is_named(http: httpx.Client) -> None:
    """With its pointer; nothing is made."""
    body = {"name": "a b", "workflow": "sums", "cron": "99 * * * *", "zone": "X", "missed": "all"}
    assert pointers(http.post("/schedules", json=body)) == {"/name", "/cron", "/zone", "/missed"}
    params = {**SUMS, "name": "x", "params": {"nummer": 1}}
    assert pointers(http.post("/schedules", json=params)) == {"/params/nummer", "/params/number"}
    assert pointers(http.post("/schedules", json={**SUMS, "name": "x", "crom": 1})) == {"/crom"}
    assert http.post("/schedules/none/start").status_code == 404
    assert http.get("/schedules").json()["schedules"] == []


def test_next_times_before_anything_is_saved(http: httpx.Client) -> None:
    """As many as are asked for; a mistake is said."""
    query = {"cron": "0 12 29 2 *", "zone": "Europe/Lisbon", "count": 3}
    times = http.get("/next-times", params=query).json()["times"]
    years = [datetime.fromisoformat(time).year for time in times]
    assert years == [years[0], years[0] + 4, years[0] + 8]
    assert pointers(http.get("/next-times", params={"cron": "x"})) == {"/cron"}
    wrong = {"cron": "* * * * *", "zone": "Nowhere"}
    assert pointers(http.get("/next-times", params=wrong)) == {"/zone"}


def test_a_change_of_a_schedule_is_an_event(http: httpx.Client) -> None:
    """With the schedule as it is then."""
    with connect_sse(http, "GET", "/events") as source:
        frames = source.iter_sse()
        next(frames)
        http.post("/schedules", json={"name": "watched", **SUMS})
        found: dict[str, Any] = {}
        while found.get("type") != "yarnloom.schedule.changed":
            frame = next(frames)
            found = json.loads(frame.data) if frame.data else {}
    http.delete("/schedules/watched")
    assert found["subject"] == "watched"
    assert found["data"]["schedule"]["cron"] == "30 2 * * *"


def test_both_clients_keep_schedules(program: ServiceProgram, client: Client) -> None:
    """Make, list, change, start; what does not exist is said."""
    sums: dict[str, Any] = {"params": {"number": 1}, "paused": True}
    made = client.make_schedule("sums", name="by-client", cron="0 * * * *", **sums)
    assert made.paused.by == "test"
    assert [schedule.name for schedule in client.schedules()] == ["by-client"]
    with pytest.raises(InvalidInput, match="/params/number"):
        client.change_schedule("by-client", params={"nummer": 1})
    assert client.change_schedule("by-client", params={"number": 2}, paused=False).next_at

    async def later() -> None:
        async with AsyncClient(program.url, who="test") as other:
            run = await other.start_schedule("by-client", reason="now")
            assert run.data["params"]["number"] == 2
            assert (await anext(other.runs(schedule="by-client"))).number == run.number
            numbers = await other.start_many([Start("sums", {"number": 1}, key="async")])
            assert (await anext(other.runs(key="async"))).number == numbers[0]
            with pytest.raises(NotFound):
                await other.change_schedule("none", note="x")
            assert await other.make_schedule("sums", name="b", cron="* * * * *", **sums)
            assert len(await other.schedules()) == 2

    asyncio.run(later())
    for name in ("by-client", "b"):
        client.call(Request("DELETE", f"/schedules/{name}"))
