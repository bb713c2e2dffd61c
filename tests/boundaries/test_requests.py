"""No request takes the service down, holds it up, or gets an answer that is a mistake of ours."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests import raw_http
from tests.boundaries.watching import Watch, answer_to, bare_server, raw, status_of
from tests.helpers import LOOM, ServiceProgram, eventually, run_command, service
from yarnloom.service.http.console_files import PAGES

ROOT = Path(__file__).parent.parent.parent
JSON = {"content-type": "application/json"}


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A service that is attacked."""
    with service(tmp_path_factory.mktemp("attacked"), "--load", LOOM) as one:
        yield one


@pytest.fixture(scope="module")
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """A client that sends what it is told."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", trust_env=False, timeout=60) as found:
        yield found


def head(method: str, path: str, *headers: str) -> bytes:
    """The beginning of a request."""
    lines = [f"{method} {path} HTTP/1.1", "Host: localhost", *headers]
    return ("\r\n".join(lines) + "\r\n\r\n").encode("latin-1")


def nested(depth: int) -> Any:
    """A list in a list, so many deep."""
    value: Any = 1
    for _ in range(depth):
        value = [value]
    return value


def test_what_held_the_service_up_does_not_any_more(
    program: ServiceProgram, http: httpx.Client
) -> None:
    """Large bodies, deep ones, long headers, costly schemas; `/health` is answered meanwhile."""
    port = program.port
    deep = b'{"target":"sums","params":{"number":' + b"[" * 60_000 + b"]" * 60_000 + b"}}"
    wide = json.dumps({"target": "sums", "params": {"x": ["a"] * 180_000}}).encode()
    many = json.dumps(
        {
            "starts": [
                {"target": "sums", "params": {"number": n}, "after": 86_400} for n in range(9_000)
            ]
        }
    )
    pid = program.process.pid
    with bare_server() as bare, Watch(*bare) as reference, Watch(port, pid) as watch:
        # Bodies over the limit, told by the length or found while reading.
        giant = head(
            "POST", "/api/v1/runs", "Content-Type: application/json", f"Content-Length: {2**30}"
        )
        assert status_of(port, giant, *[b"x" * 2**20] * 64) in (413, 0)
        chunk = b"100000\r\n" + b"x" * 2**20 + b"\r\n"
        chunked = head(
            "POST", "/api/v1/runs", "Content-Type: application/json", "Transfer-Encoding: chunked"
        )
        assert status_of(port, chunked, *[chunk] * 40) in (413, 0)
        eight = b'{"target":"sums","params":{"x":"' + b"x" * (8 * 2**20) + b'"}}'
        assert http.post("/runs", content=eight, headers=JSON).status_code == 413
        # Headers without an end, as one or as many.
        assert status_of(port, head("GET", "/health")[:-4], b"\r\nX: ", *[b"x" * 2**20] * 100) in (
            431,
            0,
        )
        assert status_of(port, head("GET", "/health")[:-4], *[b"\r\nX-a: b" * 10_000] * 100) in (
            431,
            0,
        )
        # Values: deep, many, many wrong ones.
        assert http.post("/runs", content=deep, headers=JSON).status_code == 422
        assert http.post("/runs", content=wide, headers=JSON).status_code == 422
        assert http.post("/runs/many", content=many, headers=JSON).status_code == 201
        costly_values(http)
        assert (
            http.post("/session", content=b"{" + b" " * 5_000 + b"}", headers=JSON).status_code
            == 413
        )

    assert len(watch.waits) > 100
    # An answer of the service takes a few turns of a processor, where the bare server's takes one.
    assert watch.worst() < 0.1 + 3 * reference.worst()


def test_who_goes_away_in_the_middle_of_a_body_leaves_no_trace(program: ServiceProgram) -> None:
    """It is no mistake of the service, so its log has nothing of it."""
    for path in ("/api/v1/runs", "/api/v1/workers/none/report"):
        begin = head("POST", path, "Content-Type: application/json", "Content-Length: 1000")
        with raw(program.port) as sock:
            sock.sendall(begin + b'{"half": ')
    assert raw_http.get(f"{program.url}/health", trust_env=False).status_code == 200
    eventually(lambda: raw_http.get(f"{program.url}/ready", trust_env=False).status_code)
    assert "Traceback" not in program.text


def costly_values(http: httpx.Client) -> None:
    """Schemas that made a validator work for seconds: a pattern, wrong items, items that differ."""
    schema = {
        "type": "object",
        "properties": {
            "text": {"type": "string", "pattern": "^(a+)+$"},
            "numbers": {"type": "array", "items": {"type": "integer"}},
            "set": {"type": "array", "uniqueItems": True},
        },
        "additionalProperties": False,
    }
    document = {
        "format": 1,
        "loom": "costly",
        "workflow": "w",
        "params": schema,
        "tasks": {"costly/t": {"input": {"type": "object"}, "output": {}}},
        "plan": {
            "kind": "sequence",
            "parts": [{"kind": "step", "label": "t", "task": "costly/t", "inputs": {}}],
        },
    }
    assert http.post("/workflows", json={"plans": [document]}).status_code == 200
    for params in (
        {"text": "a" * 28 + "b"},
        {"numbers": ["a"] * 60_000},
        {"set": [*({"a": n} for n in range(2_000)), {"a": 1}]},
    ):
        refused = http.post("/runs", json={"target": "costly/w", "params": params})
        assert refused.status_code == 422
        assert 1 <= len(refused.json()["problems"]) <= 20


@pytest.mark.parametrize(
    ("method", "path", "headers", "status"),
    [
        ("GET", "/api/v1/runs", {"Host": "[::1"}, 403),
        ("GET", "/api/v1/runs", {"Origin": "http://[::1"}, 403),
        ("GET", "/api/v1/runs", {"Cookie": 'yarnloom_token="; =;; ,;x'}, 200),
        ("GET", "/api/v1/runs", {"Sec-Fetch-Site": "cross-site"}, 403),
        ("GET", "/api/v1/runs", {"Sec-Fetch-Site": "same-origin"}, 200),
        ("GET", "/health", {"Host": "anything.example"}, 200),
        ("GET", "/ready", {"Host": "anything.example"}, 200),
        ("GET", "/assets/%00", {}, 404),
        ("GET", "/assets/" + "a" * 5_000, {}, 404),
        ("GET", "/assets/..%2findex.html", {}, 404),
        ("GET", "/metrics", {}, 404),
        ("GET", "/healthz", {}, 404),
        ("GET", "/metrics", {"Accept": "text/html"}, 404),
        ("GET", "/runs", {}, 200),
        ("GET", "/runs/1042", {}, 200),
        ("GET", "/runs/nothing", {}, 404),
        ("GET", "/api/v1/nothing", {"Accept": "text/html"}, 404),
        ("GET", "/api/v1/runs?workflw=x", {}, 422),
        ("GET", "/api/v1/runs?limit=true", {}, 422),
        ("GET", "/api/v1/runs?since=9999-12-31T23:59:59-23:00", {}, 422),
        ("GET", "/api/v1/runs?until=0001-01-01T00:00:00%2B23:00", {}, 422),
        ("GET", "/api/v1/runs?cursor=99999999999999999999", {}, 422),
        ("GET", "/api/v1/files?cursor=%C2%B2-x", {}, 200),
        ("GET", "/api/v1/files?cursor=99999999999999999999-x", {}, 200),
        ("DELETE", "/api/v1/runs", {}, 405),
    ],
)
def test_odd_requests_are_answered_as_said(
    program: ServiceProgram, method: str, path: str, headers: dict[str, str], status: int
) -> None:
    """Each was answered with a server error, or with something else than it asked for."""
    given = {"Host": "localhost", "Connection": "close", **headers}
    lines = [f"{method} {path} HTTP/1.1", *(f"{name}: {one}" for name, one in given.items())]
    text = ("\r\n".join(lines) + "\r\n\r\n").encode("latin-1")
    found = answer_to(program.port, text, tcp=status == 403)

    assert int(found.split(b" ", 2)[1]) == status
    assert b"x-content-type-options: nosniff" in found.lower()
    assert b"frame-ancestors 'none'" in found


@pytest.mark.parametrize("key", ["²", "9" * 400, "99999999999999999999", "-1", "٣"])
@pytest.mark.parametrize(
    "path",
    [
        "/runs/{run}/graph?address=harbours[{key}]",
        "/runs/{run}/steps?address=harbours[{key}]/t",
        "/runs/{run}/why?address=harbours[{key}]",
        "/runs/{run}/items?address=harbours[{key}]",
        "/runs/{run}/attempts?address=harbours[{key}]",
        "/runs/{run}/log?address=harbours[{key}]/t%23{key}",
        "/runs/{run}/export?address=harbours[{key}]",
    ],
)
def test_addresses_with_odd_digits_lead_nowhere(
    program: ServiceProgram, http: httpx.Client, path: str, key: str
) -> None:
    """A superscript is a digit to Python, and four hundred nines are a number."""
    run = http.post("/runs", json={"target": "coast", "params": {}}).json().get("number", 1)

    assert http.get(path.format(run=run, key=key)).status_code in (404, 422)


@pytest.mark.parametrize("number", [2**53 + 1, 2**63, -(2**70), True, "1", 1.5])
def test_numbers_that_are_none_are_refused(http: httpx.Client, number: Any) -> None:
    """In reports and effects, beyond what SQLite holds, and `true` anywhere."""
    http.post("/workers", json={"id": "odd", "name": "odd", "places": 0, "tasks": {}})
    item = {"attempt": number, "outcome": "done"}

    assert http.post("/workers/odd/report", json={"items": [item]}).status_code == 422
    effect = {"attempt": number, "what": "x", "call": 1}
    assert http.post("/workers/odd/begin-effect", json=effect).status_code == 422
    start = {"target": "sums", "params": {"number": 1}, "priority": number}
    assert http.post("/runs", json=start).status_code == 422


@pytest.mark.parametrize(
    "body",
    [
        {"plans": [], "tasks": [{}]},
        {"plans": [], "tasks": [{"name": "a/b", "input": {}, "output": {}}]},
        {"plans": [{}]},
        {"plans": [], "pools": [{}]},
        {"plans": [], "schedules": [{}]},
        {"plans": [], "schedules": [{"loom": 1, "name": [], "paused": "yes"}]},
    ],
)
def test_publications_that_are_none_are_refused(http: httpx.Client, body: Any) -> None:
    """With every problem named, and nothing kept."""
    refused = http.post("/workflows", json=body)

    assert refused.status_code == 422
    assert refused.json()["problems"]


def test_mistakes_of_typing_get_the_right_name(http: httpx.Client) -> None:
    """Fields and query parameters alike: what is passed over would change what is meant."""
    found = http.get("/runs", params={"workflw": "sums"}).json()
    assert "did you mean 'workflow'?" in found["problems"][0]["detail"]
    refused = http.post("/runs", json={"target": "sums", "tags": "night"}).json()
    assert refused["problems"][0]["pointer"] == "/tags"


def test_a_slow_loom_is_not_ready_before_it_can_be_started(tmp_path: Path) -> None:
    """`/ready` says why not; once it is true a start finds its workflow and a worker."""
    program = ServiceProgram(tmp_path / "data", "--load", LOOM, "--load", "tests.secret_loom:loom")
    try:
        probe = raw_http.Client(base_url=program.url, trust_env=False)

        def ready() -> bool:
            answer = probe.get("/ready")
            assert answer.status_code == 200 or answer.json()["reason"]
            return answer.status_code == 200

        eventually(ready)
        client = program.client()
        assert client.start("sums", number=1).number == 1
        assert client.start("spill", token="hunter2").wait() == []
        assert run_command("workflows", url=program.url).stdout.count("secrets/") == 3
    finally:
        program.end()


def test_the_console_s_addresses_are_the_ones_it_has() -> None:
    """The service lists them, and the console's own list says the same."""
    text = (ROOT / "console" / "src" / "main.tsx").read_text(encoding="utf-8")
    paths = [path for path in re.findall(r'path: "([^"]+)"', text) if path not in ("/", "*")]

    assert paths
    for path in ["", *paths]:
        filled = path.replace(":number", "1042").replace(":loom", "a").replace(":name", "b")
        assert PAGES.match(filled), path


def test_a_supply_that_is_refused_changes_nothing(
    program: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """The client gets the refusal, and the step is as it was."""
    client = program.client()
    run = client.start("gather", folder=str(tmp_path), words="")
    eventually(lambda: run.refresh().state == "running")
    (step,) = (one for one in http.get(f"/runs/{run.number}/steps").json()["steps"])
    query = {"address": step["address"]}
    before = http.get(f"/runs/{run.number}/steps", params=query).json()
    for output in (nested(65), "x" * 300_000, nested(250)):
        url = f"/runs/{run.number}/steps/supply"
        refused = http.post(url, params=query, json={"output": output})
        assert refused.status_code in (409, 422)
    after = http.get(f"/runs/{run.number}/steps", params=query).json()

    assert (after["state"], after["output"]) == (before["state"], before["output"])
    run.cancel()


def test_each_start_that_takes_a_key_describes_its_second_answer(http: httpx.Client) -> None:
    """200 with the run that was made before, and 202 while rows are checked."""
    paths = http.get("/openapi.json").json()["paths"]
    for path in ("/runs", "/runs/{number}/rerun", "/schedules/{name}/start"):
        responses = paths[f"/api/v1{path}"]["post"]["responses"]
        assert {"200", "201", "202"} <= responses.keys(), path
