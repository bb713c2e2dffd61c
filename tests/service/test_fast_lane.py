"""Usual requests are answered before the framework, exactly as behind it."""

from __future__ import annotations

import json
from typing import Any

import httpx
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests import raw_http
from tests.helpers import ServiceProgram, much
from yarnloom.protocol.bodies import StartBody
from yarnloom.protocol.worker_bodies import PollBody, ReportBody
from yarnloom.service.routes.fast_lane import _usual

USUAL = "application/json"
UNUSUAL = "application/json; charset=utf-8"
"""The same to the framework, which gets everything that is not the usual kind."""

OF_AN_ANSWER = ("created_at", "started_at", "ended_at", "state", "progress", "outcome", "output")
"""Fields that may have changed when a request is sent a second time."""

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner),
    max_leaves=5,
)
FIELDS = ("target", "params", "priority", "tags", "key", "after", "places", "items")
BODIES = st.one_of(
    st.dictionaries(st.sampled_from((*FIELDS, "received", "ahead", "epoch", "saved")), VALUES),
    VALUES,
).map(json.dumps)
TEXTS = BODIES | st.sampled_from(["", " ", "null", "{", "[" * 300, '{"a": 1, "a": 2}', "\ud800"])
PATHS = st.sampled_from(
    ["/runs", "/workers/nobody/ask", "/workers/nobody/report", f"/workers/{'w' * 101}/ask"]
)


def post(at: ServiceProgram, path: str, body: str, kind: str, **headers: str) -> httpx.Response:
    """Send a body, of some kind."""
    return raw_http.post(
        f"{at.url}/api/v1{path}",
        content=body.encode("utf-8", "surrogatepass"),
        headers={"Content-Type": kind, **headers},
        trust_env=False,
    )


def told(answer: httpx.Response) -> tuple[int, Any, dict[str, str]]:
    """What an answer says, without what another moment changes."""
    found = answer.json()
    if isinstance(found, dict):
        found = {name: value for name, value in found.items() if name not in OF_AN_ANSWER}
    same = {name: value for name, value in answer.headers.items() if name != "date"}
    return answer.status_code, found, {**same, "content-length": ""}


@settings(max_examples=much(25, 150), deadline=None)
@given(path=PATHS, body=TEXTS, who=st.sampled_from(["", "somebody", "n" * 201]))
@example(path="/runs", body='{"target": "there-is-none"}', who="n" * 201)
@example(path="/runs", body='{"target": "there-is-none"}', who="somebody")
@example(path=f"/workers/{'w' * 101}/ask", body='{"epoch": "", "received": []}', who="")
@example(path="/workers/nobody/report", body='{"epoch": "", "received": []}', who="")
def test_both_ways_give_the_same_answer(
    served: ServiceProgram, path: str, body: str, who: str
) -> None:
    """Whatever is sent, right or wrong."""
    headers = {"Yarnloom-Who": who} if who else {}
    ways = [told(post(served, path, body, kind, **headers)) for kind in (USUAL, UNUSUAL)]
    assert ways[0] == ways[1]


@pytest.mark.parametrize("key", ["in the header", "in the body"])
def test_a_start_is_the_same_run_either_way(served: ServiceProgram, key: str) -> None:
    """One start key makes one run, and it is known who started it."""
    body: dict[str, Any] = {"target": "sums", "params": {"number": 20}}
    headers = {"Yarnloom-Who": "somebody"}
    if key == "in the header":
        headers["Idempotency-Key"] = f"direct {served.port}"
    else:
        body["key"] = f"direct body {served.port}"
    ways = [post(served, "/runs", json.dumps(body), kind, **headers) for kind in (USUAL, UNUSUAL)]
    assert [one.status_code for one in ways] == [201, 200]
    assert ways[0].json()["number"] == ways[1].json()["number"]
    assert {one.json()["started_by"] for one in ways} == {"somebody"}
    number = ways[0].json()["number"]
    ended = [
        raw_http.get(f"{served.url}/api/v1/runs/{number}?wait={wait}", trust_env=False).json()
        for wait in ("20", "20.0", "2e1", "020")
    ]
    assert all(one == ended[0] for one in ended)
    assert ended[0]["state"] == "done"


@pytest.mark.parametrize("wait", ["", "?wait=0", "?wait=26", "?wait=-1", "?wait=x", "?wat=1"])
@pytest.mark.parametrize("number", ["0", "999999", "9" * 16, "9" * 30, "x", "1/"])
def test_a_run_that_is_not_there(served: ServiceProgram, number: str, wait: str) -> None:
    """A missing run is a problem, whoever answers; odd requests go to the framework."""
    answer = raw_http.get(f"{served.url}/api/v1/runs/{number}{wait}", trust_env=False)
    assert answer.status_code in (404, 422, 307)


def scope(method: str, path: str, query: bytes = b"", **headers: str) -> dict[str, Any]:
    """What the server says of a request."""
    named = {"content-type": USUAL, "content-length": "10", **headers}
    pairs = [(name.replace("_", "-").encode(), text.encode()) for name, text in named.items()]
    return {"method": method, "path": f"/api/v1{path}", "query_string": query, "headers": pairs}


def test_which_requests_are_usual() -> None:
    """Those of workers, starts and waits; nothing that asks for more, or is large."""
    model = {"/runs": StartBody, "/workers/w1/ask": PollBody, "/workers/w1/report": ReportBody}
    for path, expected in model.items():
        usual = _usual(scope("POST", path))
        assert usual is not None
        assert usual.model is expected
        assert _usual(scope("POST", path, b"wait=1")) is None
        assert _usual(scope("PUT", path)) is None
        assert _usual(scope("POST", path, content_length="200000")) is None
        assert _usual(scope("POST", path, content_length="")) is None
        twice = scope("POST", path)
        twice["headers"].append((b"content-type", USUAL.encode()))
        assert _usual(twice) is None
    for path in ("/runs/7", "/runs/123456789012345"):
        assert _usual(scope("GET", path)) is not None
        assert _usual(scope("GET", path, b"wait=25")) is not None
        assert _usual(scope("GET", path, b"wait=25.5")) is None
    for path in ("/runs", "/runs/", "/runs/x", "/runs/7/graph", "/workers"):
        assert _usual(scope("GET", path)) is None
    for path in ("/runs/many", "/workers/a/b/ask", "/workers//ask", "/workers/w1/drain"):
        assert _usual(scope("POST", path)) is None
