"""Pools and reasons over HTTP, as anybody would use them."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from httpx_sse import connect_sse

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command, service
from yarnloom import AsyncClient, Client, Rate
from yarnloom.errors import InvalidInput, NotFound
from yarnloom.protocol.setting_answers import RateAnswer


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the tests' loom published, and no worker."""
    with service(tmp_path_factory.mktemp("limits")) as found:
        run_command("publish", "tests.looms:loom", url=found.url)
        yield found


@pytest.fixture
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw requests."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", timeout=40, trust_env=False) as found:
        yield found


def test_pools_that_looms_declare_are_there(http: httpx.Client) -> None:
    """With where their limits come from."""
    pools = {pool["name"]: pool for pool in http.get("/pools").json()["pools"]}
    narrow = pools["narrow"]

    assert (narrow["limit"], narrow["in_use"], narrow["note"]) == (1, 0, "one at a time")
    assert narrow["declared"] == [
        {"loom": "marks", "limit": 1, "rate": None, "note": "one at a time"}
    ]
    assert pools["rail"]["limit"] is None


def test_a_pool_by_hand_from_making_to_removing(http: httpx.Client) -> None:
    """201, 200, 204; null is no limit, what is not given stays."""
    body = {"name": "made", "limit": 5, "rate": {"count": 3, "per": 2}, "reason": "a test"}
    made = http.post("/pools", json=body)
    assert made.status_code == 201, made.text
    paused = http.patch("/pools/made", json={"paused": True, "reason": "storm"}).json()
    changed = http.patch("/pools/made", json={"rate": None}).json()
    again = http.patch("/pools/made", json={"paused": False, "limit": None}).json()

    assert made.json()["rate"] == {"count": 3, "per": 2.0}
    assert (paused["paused"]["by"], paused["paused"]["reason"]) == ("http", "storm")
    assert (changed["limit"], changed["rate"]) == (5, None)
    assert changed["paused"] is not None
    assert (again["limit"], again["paused"]) == (None, None)
    assert again["by_hand"] == {"limit": None, "rate": None}
    assert http.delete("/pools/made").status_code == 204
    assert http.get("/pools/made").status_code == 404


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "detail"),
    [
        ("POST", "/pools", {"name": "narrow"}, 409, "change it instead"),
        ("POST", "/pools", {"name": "a b"}, 422, "a name has letters"),
        ("POST", "/pools", {"name": "x", "limit": -1}, 422, "not as expected"),
        ("POST", "/pools", {"name": "x", "rate": {"count": 0}}, 422, "not as expected"),
        ("PATCH", "/pools/narow", {"limit": 1}, 404, "did you mean 'narrow'"),
        ("PATCH", "/pools/narrow", {"limt": 1}, 422, "not as expected"),
        ("DELETE", "/pools/narrow", None, 409, "so it cannot be removed"),
        ("GET", "/pools/nobody", None, 404, "there is no pool 'nobody'"),
        ("POST", "/workers/nobody/drain", {}, 404, "there is no worker 'nobody'"),
        ("GET", "/runs/99999/why", None, 404, "there is no run 99999"),
    ],
)
def test_what_is_refused(
    http: httpx.Client, method: str, path: str, body: Any, status: int, detail: str
) -> None:
    """As problem details, with what to do."""
    answer = http.request(method, path, json=body)

    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    assert detail in answer.json()["detail"] or answer.json()["problems"]


def test_a_publication_with_a_pool_that_is_wrong_changes_nothing(http: httpx.Client) -> None:
    """Each mistake has a pointer."""
    pools = [{"loom": "x", "name": "n o", "limit": -2, "rate": {"count": 0}}]
    answer = http.post("/workflows", json={"plans": [], "pools": pools})

    assert answer.status_code == 422
    pointers = [problem["pointer"] for problem in answer.json()["problems"]]
    assert pointers == ["/pools/0/name", "/pools/0/limit", "/pools/0/rate"]


def test_why_over_http_and_its_part(http: httpx.Client) -> None:
    """For a run, a part of it, and nothing that is there."""
    body = {"target": "narrows", "params": {"folder": "/nowhere"}}
    number = http.post("/runs", json=body).json()["number"]
    whole = http.get(f"/runs/{number}/why").json()
    one = http.get(f"/runs/{number}/why", params={"address": "all[2]/pass"}).json()
    nothing = http.get(f"/runs/{number}/why", params={"address": "al"})

    assert [wait["address"] for wait in whole["waits"]] == [f"all[{i}]/pass" for i in (1, 2, 3)]
    assert [wait["address"] for wait in one["waits"]] == ["all[2]/pass"]
    assert one["waits"][0]["reasons"][0]["kind"] == "no_worker"
    assert nothing.status_code == 404
    http.post(f"/runs/{number}/cancel")
    ended = http.get(f"/runs/{number}/why").json()
    assert ended["reasons"][0]["kind"] == "ended"


def test_what_runs_says_since_when_it_has_been_silent(
    served: ServiceProgram, tmp_path: Path
) -> None:
    """A lease says that the worker lives, not that the task moves."""
    run = served.client().start("held", folder=str(tmp_path))
    (entry,) = eventually(
        lambda: [w for w in run.why("hold").waits if "last_line_at" in w.model_fields_set]
    )
    (tmp_path / "go").touch()
    run.wait(60)

    assert entry.last_line_at is None
    assert entry.reasons[0].text.startswith("has run on worker w1 for ")


def test_pools_are_told_live(http: httpx.Client) -> None:
    """To whoever watches all, as CloudEvents."""
    with connect_sse(http, "GET", "/events") as source:
        events = source.iter_sse()
        assert next(events).event == "yarnloom.snapshot"
        http.patch("/pools/rail", json={"limit": 7})
        event = next(event for event in events if event.event == "yarnloom.pool.changed")
    told = json.loads(event.data)

    assert (told["subject"], told["data"]["pool"]["limit"]) == ("rail", 7)
    http.patch("/pools/rail", json={"as_declared": True})


def test_pools_from_python(program: ServiceProgram) -> None:
    """Sync and async alike."""
    with Client(program.url) as client:
        changed = client.change_pool("rail", limit=3, rate=Rate(5, "2s"), reason="a test")
        assert (changed.limit, changed.rate) == (3, RateAnswer(count=5, per=2.0))
        with pytest.raises(NotFound, match="did you mean 'rail'"):
            client.change_pool("rai", limit=1)
        with pytest.raises(InvalidInput):
            client.change_pool("rail", limit=-1)

    async def main() -> list[Any]:
        async with AsyncClient(program.url) as client:
            back = await client.change_pool("rail", as_declared=True)
            run = await client.start("draws", folder="/nowhere")
            why = await run.why()
            await run.cancel()
            return [back.limit, [one.name for one in await client.pools()], why.waits]

    limit, names, waits = asyncio.run(main())
    assert (limit, names) == (None, ["narrow", "rail"])
    assert waits[0].address == "it"
