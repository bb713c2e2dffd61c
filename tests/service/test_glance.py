"""A run at a glance over HTTP: the line, what failed by kind, and what flows through each box."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command, service
from yarnloom.errors import RunFailed

LOOM = "tests.glance_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    with service(tmp_path_factory.mktemp("glance"), "--load", LOOM, "--processes", "2") as found:
        yield found


def get(program: ServiceProgram, path: str) -> Any:
    """What the service answers."""
    answer = raw_http.get(f"{program.url}/api/v1{path}")
    assert answer.status_code == 200, answer.text
    return answer.json()


def box(program: ServiceProgram, run: int, label: str) -> Any:
    """A step inside the each of a run."""
    (each,) = get(program, f"/runs/{run}/graph")["parts"]
    return next(part for part in each["do"]["parts"] if part["label"] == label)


def pieces_of(glance: Any, what: str) -> list[str]:
    """The texts of the pieces of a line of one sort."""
    return [piece["text"] for piece in glance["pieces"] if piece["what"] == what]


def running_in(graph: Any) -> list[str]:
    """The texts that a line has about the boxes of a graph in which steps run."""
    (each,) = graph["parts"]
    steps = each["do"]["parts"]
    numbers = {step["label"]: step["counts"].get("running", 0) for step in steps}
    busy = sorted(numbers.items(), key=lambda entry: -entry[1])
    texts = [f"{number} running in {label}" for label, number in busy if number]
    under_way = each["counts"].get("running", 0)
    return texts or ([f"{under_way} sacks under way"] if under_way else [])


def test_what_holds_a_run_up_is_said_and_where(program: ServiceProgram) -> None:
    """How far, what waits in which box for which pool, and how long yet is not known."""
    run = program.client().start("stock", slow=30.0)
    held = eventually(lambda: get(program, f"/runs/{run.number}/glance")["held"])
    assert held["address"] == "sacks/label"
    assert held["text"] == "held by pool scale, 1 of 1 in use"
    eventually(lambda: box(program, run.number, "label")["counts"]["running"] == 1)
    eventually(lambda: box(program, run.number, "label")["counts"]["ready"] == 39)
    glance = get(program, f"/runs/{run.number}/glance")
    said = {piece["what"]: piece for piece in glance["pieces"]}
    assert said["running"] == {
        "what": "running",
        "text": "1 running in label",
        "address": "sacks/label",
    }
    assert said["moving"]["text"].startswith("0 of 40 sacks")
    assert said["left"]["text"] == "no estimate yet"
    assert " · 1 running in label · held by pool scale, 1 of 1 in use · " in glance["text"]
    weigh = box(program, run.number, "weigh")
    assert weigh["counts"]["done"] == weigh["counts"]["total"] == weigh["took"]["ended"] == 40
    assert 0 < weigh["took"]["median"] <= weigh["took"]["longest"]
    run.cancel()
    eventually(lambda: run.refresh().state == "cancelled")
    glance = get(program, f"/runs/{run.number}/glance")
    assert glance["held"] is None
    assert glance["text"].startswith("cancelled in ")


def test_the_line_comes_with_the_graph_that_it_is_made_of(program: ServiceProgram) -> None:
    """Every graph has its line, with its counts; the last line is that of the end."""
    run = program.client().start("stock", torn=3, slow=0.05)
    for event in program.client().events(run.number):
        told = event.get("data") or {}
        if "graph" in told:
            assert pieces_of(told["glance"], "running") == running_in(told["graph"])
        # The graph is read behind the run: one that has just ended may be ahead of it.
        if told.get("graph", {}).get("state") == "failed" and "glance" in told:
            break
    assert told["glance"] == get(program, f"/runs/{run.number}/glance")
    assert told["glance"]["text"].startswith("failed at ")


def test_failures_are_grouped_and_some_are_mended(program: ServiceProgram) -> None:
    """By step, error and message, but for numbers; over HTTP, from Python, and by the command."""
    run = program.client().start("stock", torn=10, heavy=7)
    with pytest.raises(RunFailed):
        run.wait(60)
    found = get(program, f"/runs/{run.number}/failures")
    assert found["failed"] == len(found["steps"]) == 17
    torn, heavy = found["kinds"]
    assert (torn["type"], torn["said"], torn["number"]) == ("ValueError", "torn sack …", 10)
    assert (heavy["type"], heavy["said"], heavy["number"]) == ("OSError", "too heavy", 7)
    assert torn["first"] == "sacks[0]/weigh"
    assert torn["in_items"]
    glance = get(program, f"/runs/{run.number}/glance")
    assert "at 23 of 40 sacks · 17 failed: 10 torn sack …, 7 too heavy" in glance["text"]
    counts = box(program, run.number, "label")["counts"]
    assert (counts["done"], counts["skipped"], counts["waiting"]) == (23, 17, 0)

    only = {name: torn[name] for name in ("address", "type", "pattern")}
    run.mend(only=only)
    with pytest.raises(RunFailed):
        run.wait(60)
    path = f"/runs/{run.number}/steps?address=sacks"
    rounds = [get(program, f"{path}[{sack}]/weigh") for sack in (0, 12)]
    assert [one["attempts"][-1]["round"] for one in rounds] == [2, 1]


def test_looking_back_boxes_are_as_they_were(program: ServiceProgram) -> None:
    """Before the first item nothing is done, and at the end what is done now."""
    run = program.client().start("stock")
    run.wait(60)
    data = run.refresh().data
    path = f"/runs/{run.number}/graph"
    begun = get(program, f"{path}?at={data['created_at']}")["parts"][0]["do"]["parts"]
    assert [one.get("counts", {}).get("done", 0) for one in begun] == [0, 0]
    now = get(program, path)["parts"][0]["do"]["parts"]
    then = get(program, f"{path}?at={data['ended_at']}")["parts"][0]["do"]["parts"]
    assert [one["counts"] for one in now] == [one["counts"] for one in then]
    assert now[0]["counts"]["done"] == 40


def test_a_workflow_says_how_it_went(program: ServiceProgram) -> None:
    """Over HTTP and by the command; an unknown one is refused."""
    program.client().start("stock", torn=1)
    found = eventually(
        lambda: [
            row
            for row in get(program, "/workflows/over-time?name=stock&days=1")["steps"]
            if row["address"] == "sacks/weigh" and row["failure_rate"]
        ]
    )
    assert 0 < found[0]["median"] <= found[0]["p95"]
    shown = run_command("workflows", "stock", url=program.url)
    assert "torn: whole number = 0" in shown.stdout
    assert "sacks/weigh" in shown.stdout
    assert "runs on 20" in shown.stdout
    refused = run_command("workflows", "stok", url=program.url)
    assert refused.returncode != 0
    assert "stock" in refused.stderr
