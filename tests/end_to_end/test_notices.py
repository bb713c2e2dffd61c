"""What `serve` and `worker` write on their terminals."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

from tests.helpers import LOOM, Program, eventually, service
from yarnloom import RunFailed, Start


def test_runs_are_said_where_somebody_looks(tmp_path: Path) -> None:
    """Begun, done and failed, with how long and why; what tasks print if asked for."""
    with service(tmp_path, "--load", LOOM, "--show-prints") as program:
        client = program.client()
        client.start("sums", number=1).wait(60)
        with contextlib.suppress(RunFailed):
            client.start("misbehaves", how="raise").wait(60)
        client.start("speaks", words="ebb").wait(60)
        program.wait_for(r"run 1 of marks/sums is done in (?!<1 ms)")
        program.wait_for(r"run 2 of marks/misbehaves failed after .* at 2/misbehave: ValueError: ")
        program.wait_for(r"3/\S+: printed ebb")
        client.start_many(Start("sums", {"number": number}) for number in range(60))
        program.wait_for(r"and \d+ more")


def test_a_worker_says_how_attempts_end(tmp_path: Path) -> None:
    """Unless it is quiet; the service says nothing then, either."""
    with service(tmp_path, "--quiet") as program:
        words = ("worker", "--load", LOOM, "--publish", "--url", program.url, "--name", "far")
        worker = Program(*words)
        try:
            worker.wait_for("takes work")
            program.client().start("sums", number=1).wait(60)
            worker.wait_for(r"worker far: 1/\S+ is done in ")
            held = program.client().start("held", folder=str(tmp_path))
            eventually((tmp_path / "hold").exists)
            begun = time.monotonic()
            eventually(lambda: time.monotonic() - begun > 0.1)
            (tmp_path / "go").touch()
            held.wait(60)
            worker.wait_for(r"2/hold is done in (?!<1 ms)")
        finally:
            worker.end()

        assert "run 1 of" not in program.text
