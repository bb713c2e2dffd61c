"""Chains of short steps through real processes, which run them one behind the other."""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import Program, eventually, service
from tests.long_loom import lines
from tests.short_loom import LINKS
from yarnloom import Client, Run
from yarnloom.client import Request
from yarnloom.errors import Conflict

pytestmark = pytest.mark.slow

LOOM = "tests.short_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """A service with a worker of two processes, whose tasks are known to be short."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM) as found:
        warm_up(found.client())
        yield found


def warm_up(client: Client) -> None:
    """See to it that the worker knows that its tasks are short."""
    client.start("speaks", folder="", count=300).wait(60)
    client.start("wide").wait(60)


def start(program: Program, folder: Path, what: str, special: int = 20) -> Run:
    """A chain in which something happens."""
    (folder / "what").write_text(what)
    return program.client().start("chain", folder=str(folder), special=special)


def attempts(run: Run) -> list[dict[str, Any]]:
    """All attempts of a run, as they were given out."""
    answer = run._client.call(Request("GET", f"/runs/{run.number}/attempts", query={"limit": 500}))
    found: list[dict[str, Any]] = answer["attempts"]
    return sorted(found, key=lambda one: int(one["id"]))


def step(run: Run, name: str) -> dict[str, Any]:
    """A step with its values and attempts."""
    call = Request("GET", f"/runs/{run.number}/steps", query={"address": name})
    found: dict[str, Any] = run._client.call(call)
    return found


def test_steps_are_recorded_as_if_each_was_given_out_by_itself(program: Program) -> None:
    """Values, order, times and processes."""
    run = program.client().start("chain")
    assert run.wait(30) == LINKS
    known = attempts(run)
    assert [one["address"].split("/")[-1] for one in known] == [f"c{at}" for at in range(LINKS)]
    assert {one["outcome"] for one in known} == {"done"}
    times = [one[name] for one in known for name in ("handed_at", "begun_at", "ended_at")]
    assert times == sorted(times), "each began when the one before it had ended"
    pids = [step(run, f"c{at}")["attempts"][0]["pid"] for at in range(LINKS)]
    changes = sum(one != other for one, other in pairwise(pids))
    assert changes < 5, "most ran behind another, in the same process"
    found = step(run, "c30")
    assert (found["input"]["number"], found["output"]) == (30, 31)


@pytest.mark.parametrize("what", ["fails", "dies"])
def test_what_goes_wrong_is_told_of_its_own_step(
    program: Program, tmp_path: Path, what: str
) -> None:
    """It is tried again; what had ended before is not, unless its end died with the process."""
    run = start(program, tmp_path, what)
    assert run.wait(30) == LINKS
    counts = Counter(lines(str(tmp_path), "begun"))
    ended = Counter(attempt["outcome"] for attempt in attempts(run))
    if what == "fails":
        assert counts == {str(at): 1 + (at == 20) for at in range(LINKS)}
        assert ended == {"done": LINKS, "failed": 1}
        assert len(step(run, "c20")["attempts"]) == 2
    else:
        assert ended["done"] == LINKS
        assert ended["lost"] >= 1
        assert max(counts.values()) <= 2


def test_a_long_step_in_the_middle_is_seen_to_run_and_to_be_cancelled(
    program: Program, tmp_path: Path
) -> None:
    """No step behind it begins anywhere."""
    run = start(program, tmp_path, "stays")
    assert eventually(lambda: step(run, "c20")["state"] == "running", 20)
    assert step(run, "c19")["state"] == "done"
    run.cancel()
    assert eventually(lambda: run.refresh().state == "cancelled", 20)
    assert set(lines(str(tmp_path), "begun")) == {str(at) for at in range(21)}
    assert eventually(lambda: not any(worker["in_hand"] for worker in workers(program)), 10)


def workers(program: Program) -> list[dict[str, Any]]:
    """The workers as the service knows them."""
    found: list[dict[str, Any]] = program.client().call(Request("GET", "/workers"))["workers"]
    return found


def test_a_pause_holds_a_chain(program: Program, tmp_path: Path) -> None:
    """Nothing begins behind what runs, and all of it once it goes on."""
    for number in range(5):
        folder = tmp_path / str(number)
        folder.mkdir()
        run = start(program, folder, "")
        with contextlib.suppress(Conflict):  # it has ended
            run.pause()
        assert eventually(lambda one=run: one.refresh().state in ("paused", "done"), 20)
        if run.state == "paused":
            done = [one for one in attempts(run) if one["outcome"] == "done"]
            assert len(lines(str(folder), "begun")) == len(done)
            run.resume()
        assert run.wait(30) == LINKS
        assert set(Counter(lines(str(folder), "begun")).values()) == {1}, "something ran twice"


def test_a_decision_about_a_step_waits_for_the_worker(program: Program, tmp_path: Path) -> None:
    """A step gets its output by hand, or has begun: never both."""
    for number in range(5):
        folder = tmp_path / str(number)
        folder.mkdir()
        run = start(program, folder, "")
        try:
            run.step("c35").supply(36)
            supplied = True
        except Conflict:
            supplied = False
        assert run.wait(30) == LINKS
        assert supplied != ("35" in lines(str(folder), "begun"))
        assert len(step(run, "c35")["attempts"]) == (0 if supplied else 1)


def test_lines_are_those_of_their_step(program: Program, tmp_path: Path) -> None:
    """In the order in which they were printed."""
    run = start(program, tmp_path, "prints")
    run.wait(30)
    query = {"address": "c20", "limit": 100}
    answer = run._client.call(Request("GET", f"/runs/{run.number}/log", query=query))
    texts = [line["text"] for line in answer["lines"]]
    assert texts == ["from Python", "from the system", "from a program"]


@pytest.mark.parametrize("size", [10, 60_000, 70_000, 300_000])
def test_what_is_large_goes_by_the_service(program: Program, size: int) -> None:
    """An output that is too large for a value fails its own step."""
    run = program.client().start("wide", size=size)
    if size < 300_000:
        assert run.wait(30) == size + 1
    else:
        assert eventually(lambda: run.refresh().state == "failed", 20)
        assert step(run, "b")["state"] == "failed"
        assert "bytes" in step(run, "b")["error"]["message"]
