"""One limit for values, at every door: what is let in comes out everywhere, and nothing sticks."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as some

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command, service
from yarnloom.errors import InvalidInput, RunFailed, ValueRefused
from yarnloom.values import (
    CODEC_DEPTH,
    DEPTH_LIMIT,
    VALUE_LIMIT,
    decode,
    depth_problem,
    dump,
    encode,
)

LOOM = "tests.deep_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A service that is given values."""
    with service(tmp_path_factory.mktemp("values"), "--load", LOOM) as one:
        yield one


@pytest.fixture(scope="module")
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """A client that sends what it is told."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", trust_env=False, timeout=60) as found:
        yield found


def nested(depth: int, shape: str = "list", leaf: Any = 1) -> Any:
    """A value that is so deep."""
    value = leaf
    for level in range(depth):
        value = {"a": value} if shape == "dict" or (shape == "both" and level % 2) else [value]
    return value


DEEPEST = {shape: nested(DEPTH_LIMIT, shape) for shape in ("list", "dict", "both")}
LARGEST = "x" * (VALUE_LIMIT - 100)


def in_params(value: Any) -> dict[str, Any]:
    """As the value of a param, with which the params are one level deeper."""
    inner = value[0] if isinstance(value, list) else next(iter(value.values()))
    return {"value": inner}


# Without a service


@given(some.integers(0, CODEC_DEPTH), some.sampled_from(["list", "dict", "both"]))
def test_every_depth_is_written_and_read(depth: int, shape: str) -> None:
    """Up to what the codecs take, which no value that was let in can reach."""
    value = nested(depth, shape)

    assert decode(dump(value)) == value


@pytest.mark.parametrize("text", ["[" * 5_000, "[" * 400 + "]" * 400, '{"a":' * 10_000])
def test_what_is_deeper_is_refused(text: str) -> None:
    """As not readable, and never as a crash."""
    with pytest.raises(ValueRefused):
        decode(text)


@given(some.integers(0, 90), some.sampled_from(["list", "dict", "both"]), some.integers(0, 3))
def test_depth_is_found_with_its_place(depth: int, shape: str, beside: int) -> None:
    """The place is the first that is too deep."""
    value = [*range(beside), nested(depth, shape)]
    problem = depth_problem(value)

    assert (problem is None) == (depth + 1 <= DEPTH_LIMIT)
    if problem is not None:
        assert problem.where.startswith(f"/{beside}/")
        with pytest.raises(ValueRefused, match="nested too deeply"):
            encode(value)


def test_a_value_that_holds_itself_is_refused() -> None:
    """It has no end, so it is too deep."""
    value: list[Any] = []
    value.append(value)

    with pytest.raises(ValueRefused, match="nested too deeply"):
        encode(value)


# Through every door, and back through every list, page and command


@pytest.mark.parametrize("value", [DEEPEST["both"], [LARGEST]], ids=["deepest", "largest"])
def test_what_is_let_in_comes_out_everywhere(
    program: ServiceProgram, http: httpx.Client, value: Any
) -> None:
    """The deepest and the largest value, by every way in, and seen in every answer."""
    client = program.client()
    params = in_params(value)
    run = client.start("use", **params)
    assert run.wait() == params["value"]
    assert client.start("echo", **params).rerun().wait() == params["value"]
    (many,) = client.start_many([start_of(params)])
    assert client.run(many).wait() == params["value"]
    schedule = {"name": "s", "workflow": "echo", "cron": "0 0 1 1 *", "params": params}
    http.delete("/schedules/s")
    assert http.post("/schedules", json=schedule).status_code == 201
    if value != [LARGEST]:  # together two of them are more than a value may have
        assert client.start("compose", **params).wait() > DEPTH_LIMIT

    for path in (
        *("/runs?limit=500", "/schedules", "/tasks", "/workflows", "/workers", "/commands"),
        *(f"/runs/{run.number}", f"/runs/{run.number}/record", f"/runs/{run.number}/published"),
        *(f"/runs/{run.number}/steps?address=use", f"/runs/{run.number}/ledger"),
        *(f"/runs/{run.number}/graph", f"/runs/{run.number}/log?address=use"),
    ):
        answer = http.get(path)
        assert answer.status_code == 200, path
        assert "unreadable" not in answer.text
    for words in (
        *(["runs"], ["runs", "--json"], ["schedules"], ["workflows"], ["commands"]),
        *(["show", f"{run.number}"], ["show", f"{run.number}/use"], ["log", f"{run.number}"]),
        *(["published", f"{run.number}"], ["ledger", f"{run.number}"], ["export", f"{run.number}"]),
    ):
        done = run_command(*words, url=program.url)
        assert (done.returncode, "Traceback" in done.stderr) == (0, False), words


def start_of(params: dict[str, Any]) -> Any:
    """A start of many."""
    from yarnloom.client import Start

    return Start("echo", params)


def doors(run: int) -> list[tuple[str, str, dict[str, Any], Any]]:
    """Every way in of HTTP: method, path, query, and the body around a value."""
    step = {"address": "echo"}
    return [
        ("POST", "/runs", {}, lambda v: {"target": "echo", "params": {"value": v}}),
        (
            "POST",
            "/runs/many",
            {},
            lambda v: {"starts": [{"target": "echo", "params": {"value": v}}]},
        ),
        ("POST", f"/runs/{run}/rerun", {}, lambda v: {"params": {"value": v}}),
        ("POST", f"/runs/{run}/steps/edit", step, lambda v: {"inputs": {"value": v}}),
        ("POST", f"/runs/{run}/steps/supply", step, lambda v: {"output": [v]}),
        ("POST", f"/runs/{run}/ledger", {}, lambda v: {"what": "x", "done": True, "value": [v]}),
        (
            "POST",
            "/schedules",
            {},
            lambda v: {
                "name": "d",
                "workflow": "echo",
                "cron": "* * * * *",
                "params": {"value": v},
            },
        ),
        (
            "POST",
            "/workers",
            {},
            lambda v: {"id": "d", "name": "d", "places": 0, "tasks": {}, "facts": {"value": v}},
        ),
        ("POST", "/workflows", {}, lambda v: {"plans": [plan_with(v)]}),
        (
            "POST",
            "/workers/d/end-effect",
            {},
            lambda v: {"attempt": 1, "what": "x", "done": True, "value": [v]},
        ),
    ]


def plan_with(value: Any) -> dict[str, Any]:
    """A plan in which a value is a constant and the default of a param."""
    schema = {"type": "object", "properties": {"value": {"default": value}}}
    task = {"input": schema, "output": {}}
    inputs = {"value": {"constant": value}}
    step = {"kind": "step", "label": "t", "task": "planned/t", "inputs": inputs}
    plan = {"kind": "sequence", "parts": [step]}
    return {
        "format": 1,
        "loom": "planned",
        "workflow": "w",
        "params": {"type": "object"},
        "tasks": {"planned/t": task},
        "plan": plan,
    }


@pytest.mark.parametrize("depth", [65, 100, 197, 250, 301, 900])
def test_what_is_too_deep_is_refused_at_every_door(
    program: ServiceProgram, http: httpx.Client, depth: int
) -> None:
    """With the place, and every list stays whole for everybody."""
    run = program.client().start("echo", value=1)
    run.wait()
    http.post("/workers", json={"id": "d", "name": "d", "places": 0, "tasks": {}})
    for method, path, query, body in doors(run.number):
        text = json.dumps(body("VALUE")).replace('"VALUE"', "[" * depth + "]" * depth)
        answer = http.request(
            method, path, params=query, content=text, headers={"content-type": "application/json"}
        )
        assert answer.status_code == 422, (path, answer.text[:300])
        assert "deep" in answer.text, path
    for path in ("/runs", "/schedules", "/workflows", "/workers", "/tasks"):
        assert "unreadable" not in http.get(path).text
    assert "Traceback" not in program.text


@pytest.mark.parametrize("levels", [65, 150, 250, 400])
def test_a_task_that_returns_too_much_fails_at_once(program: ServiceProgram, levels: int) -> None:
    """It was handed out for ever."""
    with pytest.raises(RunFailed, match="nested too deeply"):
        program.client().start("fails", value=levels).wait(60)


@pytest.mark.parametrize("workflow", ["spoils", "mumbles"])
def test_a_process_that_says_nonsense_is_replaced(program: ServiceProgram, workflow: str) -> None:
    """Its attempt fails with the reason, and the worker goes on with a new process."""
    client = program.client()
    with pytest.raises(RunFailed, match="said what cannot be read"):
        client.start(workflow).wait(60)

    assert client.start("echo", value=7).wait(60) == 7


def test_one_record_that_cannot_be_shown_does_not_hide_the_others(
    program: ServiceProgram, http: httpx.Client
) -> None:
    """As in a folder from before, or after a bug: the list marks it."""
    import sqlite3

    run = program.client().start("echo", value=1)
    run.wait()
    with sqlite3.connect(program.data / "yarnloom.db", timeout=10) as connection:
        connection.execute("UPDATE runs SET tags = '[' WHERE number = ?", (run.number,))
    listed = http.get("/runs", params={"limit": 500}).json()["runs"]

    (marked,) = (one for one in listed if one["number"] == run.number)
    assert "cannot be shown" in marked["unreadable"]
    assert all("state" in one for one in listed if one is not marked)
    assert run_command("runs", url=program.url).returncode == 0
    with sqlite3.connect(program.data / "yarnloom.db", timeout=10) as connection:
        connection.execute("UPDATE runs SET tags = '[]' WHERE number = ?", (run.number,))


def test_a_worker_gets_no_further_than_its_own_attempts(
    program: ServiceProgram, http: httpx.Client
) -> None:
    """Lines, published values and outcomes for others' attempts change nothing."""
    client = program.client()
    run = client.start("use", value=3)
    run.wait()
    (attempt,) = http.get(f"/runs/{run.number}/steps", params={"address": "use"}).json()["attempts"]
    thief = {"id": "thief", "name": "thief", "places": 0, "tasks": {}}
    lines = [
        {"at": "2027-01-01T00:00:00Z", "stream": "stdout", "text": "stolen"},
        {
            "at": "2027-01-01T00:00:00Z",
            "stream": "published",
            "value": 1,
            "address": f"{run.number}/use",
        },
        {
            "at": "2027-01-01T00:00:00Z",
            "stream": "published",
            "value": 1,
            "address": "9" * 300 + "/x",
        },
    ]
    body = {
        "logs": [{"attempt": attempt["id"], "first": 0, "lines": lines}],
        "items": [{"attempt": attempt["id"], "outcome": "failed"}],
    }
    epoch = http.post("/workers", json=thief).json()["epoch"]
    answer = http.post("/workers/thief/report", json={"epoch": epoch, **body})

    assert answer.json()["refused"][0]["attempt"] == attempt["id"]
    assert "stolen" not in http.get(f"/runs/{run.number}/log", params={"address": "use"}).text
    assert [entry.value for entry in run.published()] == [3]
    assert run.refresh().state == "done"


def test_a_python_client_refuses_what_would_mean_something_else(program: ServiceProgram) -> None:
    """A misspelled filter would return every run, and a text is no list of tags."""
    client = program.client()
    with pytest.raises(TypeError, match="did you mean 'workflow'"):
        client.runs(workflw="echo")  # type: ignore[call-arg]
    with pytest.raises(TypeError, match="expected a list or tuple of texts"):
        client.start("echo", tags="night")  # type: ignore[arg-type]
    with pytest.raises(TypeError, match="expected a whole number"):
        client.start("echo", priority=True)
    with pytest.raises((InvalidInput, ValueRefused)):
        client.start("echo", value=nested(65))
    assert eventually(lambda: list(client.runs(workflow="echo")))
