"""What stands still: processes that are stopped, not killed, and looms that take long to load."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
from pathlib import Path

import pytest

from tests.helpers import Program, ServiceProgram, eventually, run_command, service
from tests.proxy import proxied
from tests.still_loom import HOLD
from yarnloom.client import Request

LOOM = "tests.still_loom:loom"

pytestmark = pytest.mark.slow


def told(program: ServiceProgram, run: int) -> str:
    """The answer of `why` over HTTP: the command would take longer under load."""
    return json.dumps(program.client().call(Request("GET", f"/runs/{run}/why")))


@pytest.mark.parametrize("workflow", ["who", "who-shared"])
def test_a_process_that_stands_still_makes_place(tmp_path: Path, workflow: str) -> None:
    """What it was given and did not begin runs in another, though no other worker is there."""
    with service(tmp_path, "--load", LOOM, "--processes", "1") as program:
        client = program.client()
        still = client.start(workflow).wait(60)
        os.kill(still, signal.SIGSTOP)
        run = client.start(workflow)
        assert run.wait(60) != still
        # On a busy machine the new process may have no time to begin it either.
        first, *_, last = run.step("who").data["attempts"]
        assert (first["outcome"], first["error"]["type"]) == ("handed_back", "NotBegun")
        assert first["error"]["message"] == f"process {still} did not begin it, and was replaced"
        assert (last["outcome"], last["number"] >= 2) == ("done", True)


def marks(folder: Path) -> dict[int, list[float]]:
    """By attempt when it left marks: it leaves one every 20 ms while it lives."""
    found: dict[int, list[float]] = {}
    path = folder / "alive"
    for line in path.read_text().splitlines() if path.exists() else []:
        number, at = line.split()
        found.setdefault(int(number), []).append(float(at))
    return found


def children_of(pid: int) -> list[int]:
    """The processes that a process started, by number."""
    path = Path(f"/proc/{pid}/task/{pid}/children")
    return [int(one) for one in path.read_text().split()]


def is_guardian(pid: int) -> bool:
    """Whether a process is a worker's guardian."""
    return "guardian.py" in Path(f"/proc/{pid}/cmdline").read_text()


@pytest.mark.parametrize(
    "trouble", ["stopped", "stopped with its process", "cut off", "killed with its guardian"]
)
def test_tasks_that_must_not_overlap_do_not(tmp_path: Path, trouble: str) -> None:
    """A worker stands still, is cut off, or dies with its guardian: its processes end before.

    One runs a task alone, and one among others that it may have.
    """
    folders = {name: tmp_path / name for name in ("alone", "alone-shared")}
    for folder in folders.values():
        folder.mkdir()
    with service(tmp_path / "data", "--lease", "2") as program, proxied(program.port) as through:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        url = through.url
        options = ("--load", LOOM, "--processes", "2", "--url")
        first = Program("worker", *options, url)
        first.wait_for("takes work")
        client = program.client()
        runs = [client.start(name, folder=str(folder)) for name, folder in folders.items()]
        eventually(lambda: all(marks(folder) for folder in folders.values()))
        second = Program("worker", *options, program.url)
        second.wait_for("takes work")
        ours = [one for one in children_of(first.process.pid) if not is_guardian(one)]
        match trouble:
            case "stopped with its process":
                for one in (*ours, first.process.pid):
                    os.kill(one, signal.SIGSTOP)
            case "stopped":
                os.kill(first.process.pid, signal.SIGSTOP)
            case "cut off":
                through.cut()
            case _:
                guardians = [one for one in children_of(first.process.pid) if is_guardian(one)]
                os.kill(first.process.pid, signal.SIGSTOP)
                for one in (*guardians, first.process.pid):
                    os.kill(one, signal.SIGKILL)
        eventually(lambda: all(len(marks(folder)) == 2 for folder in folders.values()))
        for one in ours:
            with contextlib.suppress(ProcessLookupError):
                os.kill(one, signal.SIGCONT)  # there would be nothing to wake
        for folder in folders.values():
            (folder / "go").touch()
        assert [run.wait(60) for run in runs] == ["went", "went"]
        for folder in folders.values():
            one, two = marks(folder).values()
            assert max(one) < min(two)
        first.kill()
        assert second.end() == 0


def test_a_worker_that_is_killed_is_noticed_at_once(tmp_path: Path) -> None:
    """On the same machine: its steps run elsewhere before its lease is over, and `why` says why."""
    with service(tmp_path / "data", "--lease", "3600") as program:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        options = ("--load", LOOM, "--processes", "1", "--url", program.url)
        first = Program("worker", *options)
        first.wait_for("takes work")
        run = program.client().start("alone", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path))
        first.kill()
        eventually(lambda: "no worker is connected" in told(program, run.number))
        (attempt,) = run.step("alone").data["attempts"]
        assert attempt["outcome"] == "lost"
        assert f"its process {first.process.pid} on this machine has ended" in str(attempt["error"])
        second = Program("worker", *options)
        (tmp_path / "go").touch()
        assert run.wait(60) == "went"
        assert second.end() == 0


def test_a_worker_that_breaks_its_connection_and_lives_is_kept(tmp_path: Path) -> None:
    """Its lease decides; and `why` says since when it was not heard of."""
    with service(tmp_path / "data", "--lease", "8") as program, proxied(program.port) as through:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        worker = Program("worker", "--load", LOOM, "--processes", "1", "--url", through.url)
        worker.wait_for("takes work")
        run = program.client().start("alone", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path))
        through.cut()
        silent = "was not heard of for .*, and is given up at"
        eventually(lambda: re.search(silent, told(program, run.number)))
        through.heal()
        (tmp_path / "go").touch()
        assert run.wait(60) == "went"
        assert [attempt["outcome"] for attempt in run.step("alone").data["attempts"]] == ["done"]
        assert worker.end() == 0


def test_a_guardian_that_is_killed_is_replaced(tmp_path: Path) -> None:
    """And the new one does what the old would have."""
    with service(tmp_path / "data") as program:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        worker = Program("worker", "--load", LOOM, "--processes", "1", "--url", program.url)
        worker.wait_for("takes work")
        child = program.client().start("who").wait(60)
        (guardian,) = [one for one in children_of(worker.process.pid) if is_guardian(one)]
        os.kill(guardian, signal.SIGKILL)
        worker.wait_for("its guardian was killed; another one is there")
        # A process that has just begun another program shows no arguments for a moment.
        eventually(lambda: any(is_guardian(one) for one in children_of(worker.process.pid)))
        worker.kill()
        eventually(lambda: not Path(f"/proc/{child}").exists())


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
