"""Composed runs over HTTP: items, parts by address, single tasks, what a task's code was."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from tests import raw_http
from tests.helpers import ServiceProgram

COAST = ["brackwater", "fogwick", "old weir"]


@pytest.fixture
def http(served: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw requests to a shared service."""
    with raw_http.Client(base_url=f"{served.url}/api/v1", timeout=40, trust_env=False) as found:
        yield found


def finished(http: httpx.Client, body: dict[str, Any]) -> dict[str, Any]:
    """Start something, and wait for its end."""
    started = http.post("/runs", json=body)
    assert started.status_code == 201, started.text
    found: dict[str, Any] = http.get(f"/runs/{started.json()['number']}?wait=25").json()
    return found


def test_items_and_their_parts_have_addresses(http: httpx.Client) -> None:
    """Paged and by state; each item is a graph, each step in it can be shown."""
    run = finished(http, {"target": "coast", "params": {"harbours": COAST}})
    at = f"/runs/{run['number']}"
    graph = http.get(f"{at}/graph").json()
    page = http.get(f"{at}/items", params={"address": "harbours", "limit": 2}).json()
    rest = http.get(
        f"{at}/items", params={"address": "harbours", "limit": 2, "cursor": page["next"]}
    ).json()
    failed = http.get(f"{at}/items", params={"address": "harbours", "state": "failed"}).json()
    inside = http.get(f"{at}/graph", params={"address": "harbours[old%20weir]"}).json()
    steps = http.get(f"{at}/steps", params={"inside": "harbours[old%20weir]"}).json()["steps"]
    step = http.get(f"{at}/steps", params={"address": "harbours[old%20weir]/figures/sum"}).json()
    log = http.get(f"{at}/log", params={"address": "harbours[fogwick]/listen#1"}).json()

    assert (run["state"], run["failures_allowed"]) == ("done", 1)
    bundle = graph["parts"][0]
    assert (bundle["counts"]["done"], bundle["counts"]["failed"]) == (2, 1)
    assert [one["address"] for one in bundle["top"]] == ["harbours[fogwick]"]
    assert [one["name"] for one in page["items"]] == ["brackwater", "fogwick"]
    assert [one["address"] for one in rest["items"]] == ["harbours[old%20weir]"]
    assert rest["next"] is None
    assert [one["error"]["message"] for one in failed["items"]] == ["its gauge is silent"]
    assert inside["state"] == "done"
    assert [one["address"].rpartition("/")[2] for one in steps] == ["listen", "sum", "twice"]
    assert (step["output"], step["input"]) == (24, {"left": 16, "right": 8})
    assert step["waits_for"] == ["twice"]
    assert log["lines"][0]["text"] == "listening at fogwick"


def test_a_failed_run_is_followed_up(http: httpx.Client) -> None:
    """The follow-up knows what failed first; the run's error names it too."""
    run = finished(http, {"target": "coast", "params": {"harbours": ["fogwick"]}})
    at = f"/runs/{run['number']}"
    step = http.get(f"{at}/steps", params={"address": "on_failure/notice"}).json()

    assert (run["state"], run["outcome"]) == ("failed", "failed")
    assert run["error"]["step"] == f"{run['number']}/harbours[fogwick]/listen"
    assert step["output"] == "its gauge is silent"
    assert step["input"]["failure"]["first"]["address"] == run["error"]["step"]


@pytest.mark.parametrize(
    ("path", "status", "words"),
    [
        ("graph?address=harbors[x]", 404, "has no part 'harbors'; did you mean 'harbours'?"),
        ("graph?address=harbours[nowhere]", 404, "has no item 'nowhere'"),
        ("graph?address=check[1]", 404, "is a step, it has no items"),
        ("graph?address=harbours/listen", 404, "say which item: harbours[…]/listen"),
        ("graph?address=[[", 404, "is no address; one looks like"),
        ("steps?address=harbours", 404, "is an each, not a step"),
        ("steps?address=harbours[brackwater]", 404, "not a step; steps in it: listen"),
        ("items?address=check", 404, "is a step; expected an each"),
        ("items", 422, "/address"),
        ("items?address=harbours&state=gone", 422, "/state"),
        ("items?address=harbours&limit=0", 422, "/limit"),
    ],
)
def test_an_address_that_leads_nowhere_says_so(
    http: httpx.Client, path: str, status: int, words: str
) -> None:
    """With the nearest right name, or what was expected."""
    run = finished(http, {"target": "coast", "params": {"harbours": ["brackwater"]}})
    answer = http.get(f"/runs/{run['number']}/{path}")

    assert answer.status_code == status
    assert words in answer.text


def test_a_single_task_is_started(http: httpx.Client) -> None:
    """As a run of one step; bad inputs are refused as params are."""
    run = finished(http, {"target": "pair", "params": {"left": 1, "right": 2}})
    wrong = http.post("/runs", json={"target": "pair", "params": {"left": "x"}})
    neither = http.post("/runs", json={"params": {}})

    assert (run["task"], run["workflow"], run["output"]) == ("marks/pair", "marks/pair", 3)
    assert wrong.status_code == 422
    assert {problem["pointer"] for problem in wrong.json()["problems"]} == {"/left", "/right"}
    assert neither.status_code == 422


def test_the_code_that_ran_can_be_read(http: httpx.Client) -> None:
    """By the hash that an attempt shows."""
    run = finished(http, {"target": "pair", "params": {"left": 1, "right": 2}})
    step = http.get(f"/runs/{run['number']}/steps", params={"address": "pair"}).json()
    code = step["attempts"][0]["code_hash"]
    task = http.get("/tasks", params={"name": "pair", "code": code}).json()
    unknown = http.get("/tasks", params={"name": "pair", "code": "0" * 12})

    assert "return left + right" in task["source"]
    assert task["shown_code"] == code == task["code_hash"]
    assert unknown.status_code == 404
