"""The HTTP API, spoken raw to a real service."""

from __future__ import annotations

import json
import uuid
from typing import Any

import httpx
import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually


@pytest.fixture(params=["served", "served_threaded"])
def http(request: pytest.FixtureRequest) -> httpx.Client:
    """Raw requests to a shared service: every promise holds on the loop and on the thread."""
    program: ServiceProgram = request.getfixturevalue(request.param)
    return raw_http.Client(base_url=program.url, timeout=40, trust_env=False)


def start(http: httpx.Client, workflow: str = "sums", **params: Any) -> dict[str, Any]:
    """Start a run."""
    answer = http.post("/api/v1/runs", json={"target": workflow, "params": params})
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def test_a_run_is_started_shown_and_ends(http: httpx.Client) -> None:
    """201 with the run; `wait` holds the answer until the run has ended."""
    run = start(http, number=40)
    shown = http.get(f"/api/v1/runs/{run['number']}", params={"wait": 20}).json()

    assert run["state"] == "queued"
    assert (shown["state"], shown["output"]) == ("done", 42)
    assert shown.keys() == run.keys()
    assert shown["created_at"] <= shown["started_at"] <= shown["ended_at"]


def test_an_idempotency_key_makes_one_run(http: httpx.Client) -> None:
    """201, then 200 with the same run, then 409 for other params."""
    body = {"target": "sums", "params": {"number": 1}}
    headers = {"Idempotency-Key": uuid.uuid4().hex}
    first = http.post("/api/v1/runs", json=body, headers=headers)
    second = http.post("/api/v1/runs", json=body, headers=headers)
    other = http.post("/api/v1/runs", json={**body, "params": {"number": 2}}, headers=headers)

    assert [first.status_code, second.status_code, other.status_code] == [201, 200, 409]
    assert first.json()["number"] == second.json()["number"] == other.json()["run"]
    assert other.json()["type"] == "urn:yarnloom:start-key-taken"
    assert (other.json()["first"]["number"], other.json()["given"]["number"]) == (1, 2)


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "kind"),
    [
        ("GET", "/runs/999999", None, 404, "not-found"),
        ("GET", "/runs/0", None, 422, "invalid-input"),
        ("GET", "/runs/x", None, 422, "invalid-input"),
        ("GET", "/runs/99999999999999999999", None, 422, "invalid-input"),
        ("GET", "/runs/999999/graph", None, 404, "not-found"),
        ("GET", "/runs/999999/steps", None, 404, "not-found"),
        ("GET", "/runs/999999/commands", None, 404, "not-found"),
        ("GET", "/events?run=999999", None, 404, "not-found"),
        ("POST", "/runs/999999/cancel", {}, 404, "not-found"),
        ("POST", "/runs", {"target": "nothing"}, 404, "not-found"),
        ("POST", "/runs", {}, 422, "invalid-input"),
        ("POST", "/runs", {"target": "sums", "parms": {}}, 422, "invalid-input"),
        ("POST", "/runs", {"target": "sums", "priority": "high"}, 422, "invalid-input"),
        ("POST", "/workflows", {"plans": [{"format": 7}]}, 422, "invalid-input"),
        ("POST", "/workers/nobody/ask", {"epoch": "e"}, 404, "worker-unknown"),
        ("GET", "/workflows?name=sms", None, 404, "not-found"),
        ("GET", "/nothing", None, 404, "not-found"),
        ("DELETE", "/runs", None, 405, "method-not-allowed"),
    ],
)
def test_every_refusal_is_a_problem(
    http: httpx.Client, method: str, path: str, body: Any, status: int, kind: str
) -> None:
    """RFC 9457, with a type of ours, and words that say what to do."""
    answer = http.request(method, f"/api/v1{path}", json=body)
    problem = answer.json()

    assert (answer.status_code, problem["type"]) == (status, f"urn:yarnloom:{kind}"), problem
    assert answer.headers["content-type"] == "application/problem+json"
    assert problem["status"] == status
    assert problem["detail"]


def test_bad_params_are_all_named_by_pointer(http: httpx.Client) -> None:
    """Missing, mistyped and surplus at once."""
    body = {"target": "sums", "params": {"step": "two", "more": 1}}
    problem = http.post("/api/v1/runs", json=body).json()

    assert {one["pointer"] for one in problem["problems"]} == {"/number", "/step", "/more"}


def test_nan_is_refused(http: httpx.Client) -> None:
    """Although Python's JSON would take it."""
    content = b'{"target": "sums", "params": {"number": NaN}}'
    answer = http.post(
        "/api/v1/runs", content=content, headers={"Content-Type": "application/json"}
    )

    assert answer.status_code == 422


def test_integers_stay_exact(http: httpx.Client) -> None:
    """Beyond what a double holds, through params, a step, and the output."""
    number = 2**70
    run = start(http, number=number)
    shown = http.get(f"/api/v1/runs/{run['number']}", params={"wait": 20})

    assert json.loads(shown.text)["output"] == number + 2


def test_runs_page_by_cursor(http: httpx.Client) -> None:
    """Every run once, newest first."""
    newest = [start(http, number=n)["number"] for n in range(5)][::-1]
    first = http.get("/api/v1/runs", params={"limit": 2}).json()
    second = http.get("/api/v1/runs", params={"limit": 3, "cursor": first["next"]}).json()

    assert [run["number"] for run in first["runs"] + second["runs"]] == newest


def test_runs_are_filtered(http: httpx.Client) -> None:
    """By state and workflow; the short name does."""
    run = start(http, "misbehaves", how="raise")
    http.get(f"/api/v1/runs/{run['number']}", params={"wait": 20})
    query: dict[str, Any] = {"state": ["failed"], "workflow": "misbehaves"}
    found = http.get("/api/v1/runs", params=query).json()["runs"]

    assert run["number"] in [one["number"] for one in found]
    assert {(one["state"], one["workflow"]) for one in found} == {("failed", "marks/misbehaves")}


def test_a_step_shows_its_values_attempts_and_log(http: httpx.Client) -> None:
    """Print, stderr, logging and a subprocess's output, each with its stream."""
    run = start(http, "speaks", words="ebb")
    number = run["number"]
    http.get(f"/api/v1/runs/{number}", params={"wait": 20})
    step = http.get(f"/api/v1/runs/{number}/steps", params={"address": "speak"}).json()
    lines = http.get(f"/api/v1/runs/{number}/log", params={"address": "speak#1"}).json()["lines"]

    assert (step["state"], step["input"], step["output"]) == ("done", {"words": "ebb"}, "ebb")
    (attempt,) = step["attempts"]
    assert attempt["outcome"] == "done"
    assert attempt["memory_bytes"] > 10_000_000
    assert 0 <= attempt["cpu_seconds"] < 60
    assert attempt["begun_at"] <= attempt["ended_at"]
    assert {(line["stream"], line["text"]) for line in lines} == {
        ("stdout", "printed ebb"),
        ("stderr", "complained ebb"),
        ("log", "logged ebb"),
        ("stdout", "echoed ebb"),
    }


@pytest.mark.parametrize(
    ("address", "status", "words"),
    [
        ("speek", 404, "did you mean 'speak'"),
        ("speak#9", 404, "has no attempt #9"),
        ("speak#x", 422, "expected an attempt's number"),
    ],
)
def test_addresses_that_name_nothing(
    http: httpx.Client, address: str, status: int, words: str
) -> None:
    """Each with what there is."""
    number = start(http, "speaks", words="ebb")["number"]
    answer = http.get(f"/api/v1/runs/{number}/log", params={"address": address})

    assert answer.status_code == status
    assert words in answer.json()["detail"]


@pytest.mark.parametrize(
    ("how", "kind", "words"),
    [
        ("raise", "ValueError", "it went wrong"),
        ("give up", "GiveUp", "it never will"),
        ("nan", "ValueRefused", "/levels/1: found nan"),
        ("object", "ValueRefused", "does not fit its annotation"),
        ("large", "ValueRefused", "at most 262,144"),
        ("exit", "SystemExit", "3"),
    ],
)
def test_each_way_to_go_wrong_is_said(http: httpx.Client, how: str, kind: str, words: str) -> None:
    """Type and message of what happened; the process lives on."""
    run = start(http, "misbehaves", how=how)
    ended = http.get(f"/api/v1/runs/{run['number']}", params={"wait": 20}).json()

    assert ended["state"] == "failed"
    assert ended["error"]["type"] == kind
    assert words in ended["error"]["message"]


def test_who_did_what_is_kept(http: httpx.Client, tmp_path: Any) -> None:
    """Start and cancel, with the reason."""
    run = start(http, "heeds", folder=str(tmp_path))
    path = f"/api/v1/runs/{run['number']}"
    headers = {"Yarnloom-Who": "harbour master"}
    http.post(f"{path}/cancel", json={"reason": "fog"}, headers=headers)
    eventually(lambda: http.get(path).json()["state"] == "cancelled")
    found = http.get(f"{path}/commands").json()["commands"]

    assert [(one["what"], one["who"], one["reason"]) for one in found] == [
        ("start", "http", ""),
        ("cancel", "harbour master", "fog"),
    ]
    again = http.post(f"{path}/cancel", json={})
    assert again.status_code == 409
    assert again.json()["state"] == "cancelled"


def test_openapi_describes_every_route(http: httpx.Client) -> None:
    """And the schema is served."""
    document = http.get("/api/v1/openapi.json").json()

    assert "/api/v1/runs/{number}/cancel" in document["paths"]
    assert all(
        operation.get("summary") or operation.get("description")
        for methods in document["paths"].values()
        for operation in methods.values()
    )


def test_hostile_names_reach_nothing(http: httpx.Client) -> None:
    """Paths out of the console's folder, and names that look like markup or SQL."""
    assert http.get("/assets/../../../etc/passwd").status_code in (404, 200)
    assert http.get("/assets/%2e%2e/%2e%2e/__init__.py").status_code == 404
    name = "x'); DROP TABLE runs;--<script>"
    answer = http.post("/api/v1/runs", json={"target": name})
    assert answer.status_code == 404
    assert answer.headers["content-type"] == "application/problem+json"


def test_a_huge_input_is_refused(http: httpx.Client) -> None:
    """With its size and the limit."""
    body = {"target": "speaks", "params": {"words": "x" * 300_000}}
    answer = http.post("/api/v1/runs", json=body)

    assert answer.status_code == 422
    assert "at most 262,144" in answer.json()["detail"]
