"""What stands still: processes that are stopped, not killed, and looms that take long to load."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from tests.helpers import Program, ServiceProgram, eventually, run_command, service
from tests.still_loom import HOLD

LOOM = "tests.still_loom:loom"

pytestmark = pytest.mark.slow


def told(program: ServiceProgram, run: int) -> str:
    """What `why` says of a run, in one line."""
    return " ".join(run_command("why", str(run), url=program.url).stdout.split())


@pytest.mark.parametrize("workflow", ["who", "who-shared"])
def test_a_process_that_stands_still_makes_place(tmp_path: Path, workflow: str) -> None:
    """What it was given and did not begin runs in another, though no other worker is there."""
    with service(tmp_path, "--load", LOOM, "--processes", "1") as program:
        client = program.client()
        still = client.start(workflow).wait(60)
        os.kill(still, signal.SIGSTOP)
        run = client.start(workflow)
        assert run.wait(60) != still
        first, second = run.step("who").data["attempts"]
        assert (first["outcome"], first["error"]["type"]) == ("handed_back", "NotBegun")
        assert first["error"]["message"] == f"process {still} did not begin it, and was replaced"
        assert (second["outcome"], second["number"]) == ("done", 2)


def test_work_goes_only_to_processes_that_have_loaded(tmp_path: Path) -> None:
    """However long that takes: what waits meanwhile is no attempt, and `why` says for what."""
    hold = tmp_path / "hold"
    with service(tmp_path / "data") as program:
        client = program.client()
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        options = ("--load", LOOM, "--url", program.url, "--processes", "1", "--replace-after", "1")
        worker = Program("worker", *options, env={HOLD: str(hold)})
        worker.wait_for("takes work")
        hold.touch()
        first = client.start("who").wait(60)
        run = client.start("who")
        eventually(lambda: "no process of" in told(program, run.number))
        assert run.step("who").data["attempts"] == []
        hold.unlink()
        assert run.wait(60) != first
        assert len(run.step("who").data["attempts"]) == 1
        assert worker.end() == 0
