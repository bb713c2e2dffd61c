"""Tries, time-outs, memory, and workers that end: with real processes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.end_to_end.test_kill import marks, outcomes
from tests.helpers import LOOM, Program, ServiceProgram, eventually, run_command, service
from yarnloom import Run
from yarnloom.client import Request
from yarnloom.errors import RunFailed

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes, each used for three attempts."""
    with service(tmp_path_factory.mktemp("limits") / "data") as found:
        run_command("publish", LOOM, url=found.url)
        worker = start_worker(found, "--processes", "2", "--replace-after", "3", "--name", "main")
        yield found
        worker.end()


def start_worker(program: ServiceProgram, *arguments: str) -> Program:
    """A worker of its own."""
    worker = Program("worker", "--load", LOOM, *arguments, env={"YARNLOOM_URL": program.url})
    worker.wait_for("takes work from")
    return worker


def attempts(run: Run) -> list[dict[str, Any]]:
    """The attempts of a run's only step."""
    call = Request("GET", f"/runs/{run.number}/steps", query={"address": "it"})
    found: list[dict[str, Any]] = run._client.call(call)["attempts"]
    return found


def test_tries_and_what_a_task_chooses(program: ServiceProgram, tmp_path: Path) -> None:
    """Errors are known by their classes; a task that asks for time gets it; each is kept."""
    run = program.client().start("flakys", folder=str(tmp_path))

    assert run.wait(60) == [4, 4]
    errors = [attempt["error"] and attempt["error"]["type"] for attempt in attempts(run)]
    assert errors == [*["ConnectionResetError"] * 2, "TryLater", None]
    assert "cut off" in attempts(run)[0]["error"]["traceback"]


def test_a_hanging_try_is_killed_after_its_grace_and_tried_again(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """In a process that looks at nothing."""
    run = program.client().start("hangs", folder=str(tmp_path))

    assert run.wait(60) == marks(tmp_path, "hang")[1]
    first, second = attempts(run)
    assert (first["outcome"], first["error"]["type"]) == ("failed", "TimedOut")
    assert (second["outcome"], second["tries"]) == ("done", 2)


def test_an_attempt_that_takes_too_much_memory_is_ended(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """It fails, saying how much it had; its process is replaced."""
    run = program.client().start("gorges", folder=str(tmp_path))
    with pytest.raises(RunFailed, match=r"MemoryExceeded: its process used .* at most 120 MB"):
        run.wait(60)

    assert attempts(run)[0]["memory_bytes"] > 120 * 2**20
    (pid,) = marks(tmp_path, "gorge")
    eventually(lambda: not Path(f"/proc/{pid}").exists())


def test_processes_are_replaced_after_so_many_attempts(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """So what they leak does not pile up."""
    client = program.client()
    for number in range(12):
        client.start("held", folder=str(tmp_path))
        (tmp_path / "go").touch()
        eventually(lambda n=number: len(marks(tmp_path, "finish")) > n)
    pids = marks(tmp_path, "begin") + marks(tmp_path, "hold") + marks(tmp_path, "finish")

    assert max(pids.count(pid) for pid in pids) <= 3


def test_a_worker_says_what_it_has_and_ends_when_nothing_is_left(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """Steps that need it go there; then it ends by itself."""
    run = program.client().start("draws", folder=str(tmp_path))
    (entry,) = run.why().waits
    assert entry.reasons[0].text == "worker main has no gpu (only_on)"
    worker = start_worker(program, "--has", "fast,gpu", "--until-idle", "--name", "painter")

    assert run.wait(60) == 1
    assert worker.process.wait(60) == 0
    eventually(lambda: "nothing is left to do, ending" in worker.text)
    assert worker.end() == 0


def test_a_drained_worker_lets_what_runs_finish(program: ServiceProgram, tmp_path: Path) -> None:
    """It takes nothing new, and ends when that has ended; the step is done once."""
    client = program.client()
    other = start_worker(program, "--processes", "1", "--pools", "narrow", "--name", "narrow")
    done = run_command("worker", "drain", "main", "--reason", "new code", url=program.url)
    assert "takes nothing new" in done.stdout
    run = client.start("narrows", folder=str(tmp_path))
    eventually(lambda: len(marks(tmp_path, "narrow")) == 1)
    again = run_command("worker", "drain", "narrow", "--json", url=program.url)
    assert '"draining": true' in again.stdout
    other.wait_for("waits for 1 running attempt")
    (tmp_path / "go").touch()

    assert other.process.wait(60) == 0
    assert outcomes(run, "all[1]/pass") == ["done"]
    (entry, *_) = run.why().waits
    assert entry.reasons[0].kind in ("no_worker", "draining")
    start_worker(program, "--until-idle").process.wait(60)
    assert run.wait(60) == [1, 2, 3]


def test_an_abandoned_step_keeps_its_place_until_its_process_has_ended(tmp_path: Path) -> None:
    """A pool of one begins no other while a thread that cannot be stopped goes on."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        client = program.client()
        client.change_pool("rail", limit=1)
        stays = client.start("gather", folder=str(tmp_path), words="stays")
        eventually(lambda: marks(tmp_path, "gather"))
        first = client.start("clings", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path, "cling"))
        first.cancel()
        eventually(lambda: first.refresh().state == "cancelled")
        second = client.start("clings", folder=str(tmp_path))
        (entry,) = second.why().waits
        assert entry.reasons[0].text == (
            f"waits for pool rail (1 of 1 in use by run {first.number})"
        )
        assert attempts(first)[0]["abandoned"]
        (tmp_path / "free").touch()
        eventually(lambda: len(marks(tmp_path, "cling")) == 2)
        (tmp_path / "go").touch()

        assert second.wait(60)
        assert stays.wait(60)
