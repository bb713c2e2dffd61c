"""Control over raw HTTP: every cell of the table, steps, the ledger, lists, links and records."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command, service
from tests.long_loom import lines
from yarnloom import Run
from yarnloom.errors import Conflict

pytestmark = pytest.mark.slow

LOOM = "tests.long_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM, "--processes", "2") as found:
        yield found


@pytest.fixture
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw requests."""
    headers = {"Yarnloom-Who": "raw"}
    with raw_http.Client(
        base_url=f"{program.url}/api/v1", headers=headers, trust_env=False
    ) as found:
        yield found


def start(program: ServiceProgram, folder: Path, name: str = "walk", **params: Any) -> Run:
    """A run of a loop that goes on for long."""
    params = {"count": 10_000, "pause": 0.01, **params}
    if name != "walk":
        params = {}
    return program.client().start(name, folder=str(folder), **params)


def reach(program: ServiceProgram, folder: Path, wanted: str) -> Run:
    """A run in a state."""
    match wanted:
        case "done":
            run = start(program, folder, count=1)
            run.wait(60)
            return run
        case "failed":
            run = start(program, folder)
            eventually(lambda: lines(str(folder), "walked"))
            run.step("go").cancel()
        case "pausing" | "cancelling":
            run = start(program, folder, "stubborn")
            eventually(lambda: lines(str(folder), "stubborn"))
            run.pause() if wanted == "pausing" else run.cancel()
        case _:
            run = start(program, folder)
            eventually(lambda: lines(str(folder), "walked"))
            if wanted == "paused":
                run.pause()
            if wanted == "cancelled":
                run.cancel()
    eventually(lambda: run.refresh().state == wanted)
    return run


TABLE = [
    ("running", "pausing", "running", "cancelling", 409),
    ("pausing", "pausing", "running", "cancelling", 409),
    ("paused", "paused", "running", "cancelled", 409),
    ("cancelling", 409, 409, "cancelling", 409),
    ("done", 409, 409, 409, 409),
    ("failed", 409, 409, 409, "running"),
    ("cancelled", 409, 409, 409, "running"),
]


@pytest.mark.parametrize(
    ("before", "command", "after"),
    [
        (before, command, after)
        for before, *cells in TABLE
        for command, after in zip(("pause", "resume", "cancel", "mend"), cells, strict=True)
    ],
)
def test_every_cell_of_the_table(
    program: ServiceProgram,
    http: httpx.Client,
    tmp_path: Path,
    before: str,
    command: str,
    after: str | int,
) -> None:
    """200 with the run, or 409 with its present state, which stays."""
    run = reach(program, tmp_path, before)
    answer = http.post(f"/runs/{run.number}/{command}", json={"reason": "table"})
    if isinstance(after, int):
        assert answer.status_code == after
        assert answer.json()["type"] == "urn:yarnloom:conflict"
        # What was already told to stop may stop at any moment.
        assert before in ("pausing", "cancelling") or run.refresh().state == before
    else:
        assert (answer.status_code, answer.json()["state"]) == (200, after)
        said = http.get("/commands", params={"run": run.number, "limit": 1}).json()["commands"][0]
        if (before, command) not in (
            ("running", "resume"),
            ("pausing", "pause"),
            ("paused", "pause"),
        ):
            assert (said["who"], said["what"], said["reason"]) == ("raw", command, "table")
    with contextlib.suppress(Conflict):
        run.cancel()  # unless it has ended, maybe at this moment


def test_a_queued_run_is_paused_cancelled_and_queued_again(tmp_path: Path) -> None:
    """Without a worker nothing begins."""
    with service(tmp_path / "data") as program:
        client = program.client()
        from tests.long_loom import loom
        from yarnloom.client import Request

        client.call(Request("POST", "/workflows", loom.publication()))
        run = client.start("walk", folder=str(tmp_path))
        with raw_http.Client(base_url=f"{program.url}/api/v1", trust_env=False) as http:
            states = []
            for command in ("mend", "resume", "pause", "pause", "resume", "pause", "cancel"):
                answer = http.post(f"/runs/{run.number}/{command}")
                states.append(answer.json().get("state") or answer.status_code)
    assert states == ["queued", "queued", "paused", "paused", "queued", "paused", "cancelled"]


def test_steps_are_decided_about_by_address(
    program: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """What is wrong is said with its place, and nothing changes."""
    run = start(program, tmp_path)
    eventually(lambda: run.step("go").state == "running")
    path = f"/runs/{run.number}/steps"
    where = {"address": "go"}

    busy = http.post(f"{path}/edit", params=where, json={"inputs": {"count": 3}})
    assert (busy.status_code, busy.json()["state"]) == (409, "running")
    http.post(f"{path}/pause", params=where, json={"reason": "look"})
    eventually(lambda: run.step("go").state == "paused")
    wrong = http.post(f"{path}/edit", params=where, json={"inputs": {"count": "x", "n": 1}})
    assert {problem["pointer"] for problem in wrong.json()["problems"]} == {
        "/inputs/count",
        "/inputs/n",
    }
    assert http.post(f"{path}/dance", params=where).status_code == 422
    assert http.post(f"{path}/skip", params={"address": "nothing"}).status_code == 404
    bad = http.post(f"{path}/supply", params=where, json={"output": "text"})
    assert bad.json()["problems"][0]["pointer"].startswith("/output")
    edited = http.post(f"{path}/edit", params=where, json={"inputs": {"count": 3}}).json()
    assert (edited["input"]["count"], edited["paused_by_hand"]) == (3, True)
    http.post(f"{path}/resume", params=where)

    assert run.wait(60) == 3


def test_a_list_is_acted_on_when_its_count_was_said(
    program: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """First asked, then done; not if there are more or fewer by now."""
    runs = []
    for index in range(3):
        body = {
            "target": "walk",
            "params": {"folder": str(tmp_path), "count": 9_999, "pause": 0.01},
            "tags": ["flock"],
            "key": f"flock {tmp_path} {index}",
        }
        runs.append(http.post("/runs", json=body).json()["number"])
    body = {"action": "cancel", "tag": "flock", "states": ["queued", "running"], "reason": "enough"}

    asked = http.post("/runs/actions", json=body).json()
    assert asked == {"count": 3, "done": [], "refused": []}
    assert http.post("/runs/actions", json={**body, "count": 2}).status_code == 409
    done = http.post("/runs/actions", json={**body, "count": 3}).json()
    assert (sorted(done["done"]), done["refused"]) == (runs, [])
    for number in runs:
        eventually(lambda n=number: http.get(f"/runs/{n}").json()["state"] == "cancelled")
    page = http.get("/runs", params={"tag": "flock"}).json()["runs"]
    assert [one["number"] for one in page] == runs[::-1]
    again = http.post("/runs/actions", json={**body, "states": ["cancelled"], "count": 3}).json()
    assert len(again["refused"]) == 3


def test_a_rerun_has_the_params_but_for_what_is_changed(
    program: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """Sent twice with one key it is one run."""
    run = start(program, tmp_path, count=2, pause=0.0)
    run.wait(60)
    body = {"params": {"count": 4}, "key": f"again {tmp_path}"}
    first = http.post(f"/runs/{run.number}/rerun", json=body)
    second = http.post(f"/runs/{run.number}/rerun", json=body)

    assert (first.status_code, second.status_code) == (201, 200)
    assert first.json()["params"] == {**run.data["params"], "count": 4}
    assert program.client().run(first.json()["number"]).wait(60) == 4
    wrong = http.post(f"/runs/{run.number}/rerun", json={"params": {"count": "x"}})
    assert wrong.status_code == 422


def test_logs_and_what_is_published_come_live(
    program: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """A reader that was cut off goes on behind its last id; the stream ends with the step."""
    run = start(program, tmp_path, "noisy")
    whole = [line.text for line in run.lines("go")]
    assert "from C" in whole
    first = next(iter(run.published(follow=True)))
    assert (first.value, first.address) == ({"part": 1}, f"{run.number}/go")
    headers = {"Last-Event-ID": f"1-{len(whole) - 1}"}
    with http.stream(
        "GET", f"/runs/{run.number}/log/live", params={"address": "go"}, headers=headers
    ) as answer:
        text = answer.read().decode()
    assert text.count("event: yarnloom.line") == 1


def test_an_unchanged_publication_is_no_command(
    program: ServiceProgram, http: httpx.Client
) -> None:
    """As a worker with `--reload` does; of two looms the one that is new is one."""

    def publications() -> int:
        return len(http.get("/commands", params={"what": "publish"}).json()["commands"])

    before = publications()
    for _ in range(2):
        assert run_command("publish", LOOM, url=program.url).returncode == 0
    assert publications() - before <= 1
    before = publications()
    for looms in ([LOOM, "tests.huge_loom:loom"], [LOOM], [LOOM]):
        assert run_command("publish", *looms, url=program.url).returncode == 0
    assert publications() - before == 1


def test_commands_can_be_filtered(program: ServiceProgram, http: httpx.Client) -> None:
    """By run, by who and by what, page by page."""
    found = http.get("/commands", params={"what": "publish"}).json()["commands"]
    assert {one["what"] for one in found} == {"publish"}
    page = http.get("/commands", params={"who": "raw", "limit": 1}).json()
    after = http.get("/commands", params={"who": "raw", "cursor": page["next"]}).json()
    assert page["commands"][0] not in after["commands"]
    assert {one["who"] for one in after["commands"]} == {"raw"}
