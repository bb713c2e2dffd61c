"""What began and what did not, when a worker is killed: only what began is charged."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import Program, ServiceProgram, eventually, service
from tests.long_loom import lines
from yarnloom import Run
from yarnloom.client import Request

pytestmark = pytest.mark.slow

LOOM = "tests.begun_loom:loom"
STEPS, PROCESSES = 8, 2


@pytest.fixture
def program(tmp_path: Path) -> Iterator[ServiceProgram]:
    """A service without workers."""
    with service(tmp_path / "data") as one:
        yield one


def worker(service_program: ServiceProgram) -> Program:
    """A worker of two processes that has published its loom."""
    options = (
        "--load",
        LOOM,
        "--publish",
        "--processes",
        str(PROCESSES),
        "--url",
        service_program.url,
    )
    program = Program("worker", *options)
    program.wait_for("takes work")
    return program


def attempts(run: Run) -> list[dict[str, Any]]:
    """All attempts of a run."""
    collected: list[dict[str, Any]] = []
    cursor = "0"
    while cursor:
        query = {"limit": 2_000, "cursor": cursor}
        answer = run._client.call(Request("GET", f"/runs/{run.number}/attempts", query=query))
        collected, cursor = collected + answer["attempts"], answer["next"]
    return collected


def ended(runs: list[Run]) -> list[Run]:
    """The same when all have ended."""
    return eventually(
        lambda: (
            [run.refresh() for run in runs]
            if all(run.refresh().state in ("done", "failed") for run in runs)
            else None
        )
    )


def killed_in_the_middle(
    program: ServiceProgram, folder: Path, workflow: str, runs: int, at: int, **params: Any
) -> list[Run]:
    """Runs in whose middle their worker was killed, ended by another."""
    first = worker(program)
    client = program.client()
    (folder / "warm").mkdir()
    few = dict.fromkeys(params, 20)
    ended([client.start(workflow, folder=str(folder / "warm"), **few) for _ in range(3)])
    runs_under_way = [
        client.start(workflow, folder=str(folder), name=f"r{number}", **params)
        for number in range(runs)
    ]
    eventually(lambda: len(lines(str(folder), "begun")) >= at)
    first.kill()
    second = worker(program)
    try:
        return ended(runs_under_way)
    finally:
        second.kill()


@pytest.mark.parametrize("workflow", ["charges", "alone", "ledger"])
def test_what_must_not_run_twice_does_not(
    program: ServiceProgram, tmp_path: Path, workflow: str
) -> None:
    """With `losses=0` or the ledger each begin is recorded first: it is charged, and no other."""
    runs = killed_in_the_middle(program, tmp_path, workflow, 24, 60)

    begun = Counter(lines(str(tmp_path), "begun"))
    assert max(begun.values()) == 1, begun.most_common(3)
    lost = [attempt for run in runs for attempt in attempts(run) if attempt["outcome"] == "lost"]
    assert len(lost) < 10, "what ran, and what had ended a moment ago"
    assert all(attempt["begun_at"] for attempt in lost)
    for number, run in enumerate(runs):
        mine = [line for line in begun if line.startswith(f"r{number}/")]
        assert (len(mine) == STEPS) or run.state == "failed"


def test_what_never_began_is_handed_back(program: ServiceProgram, tmp_path: Path) -> None:
    """Of an each only items whose line is there count as lost; all are done in the end."""
    (run,) = killed_in_the_middle(program, tmp_path, "many", 1, 150, count=1_500)

    assert run.state == "done"
    begun = set(lines(str(tmp_path), "begun"))
    lost = [attempt for attempt in attempts(run) if attempt["outcome"] == "lost"]
    assert lost, "it was killed in the middle"
    assert not any(attempt["guess"] for attempt in lost)
    assert {attempt["address"].partition("[")[2].partition("]")[0] for attempt in lost} <= begun
    counted = Counter(lines(str(tmp_path), "begun"))
    twice = sum(count - 1 for count in counted.values())
    assert len(lost) == twice, "each second line of an item is of one whose first attempt was lost"


def test_steps_that_ran_ahead_of_their_turn_are_among_the_attempts(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """For every line there is an attempt that began, also where its end was never reported.

    One that was killed between its begin and its line has none: at most one in each process.
    """
    runs = killed_in_the_middle(program, tmp_path, "marks", 24, 60)

    begun = Counter(lines(str(tmp_path), "begun"))
    without_line = 0
    for number, run in enumerate(runs):
        assert run.state == "done"
        counted = Counter(
            f"r{number}/{attempt['address']}" for attempt in attempts(run) if attempt["begun_at"]
        )
        mine = Counter(
            {line: count for line, count in begun.items() if line.startswith(f"r{number}/")}
        )
        assert mine <= counted
        without_line += (counted - mine).total()
    assert without_line <= PROCESSES
