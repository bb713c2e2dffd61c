"""Processes that are forks of one that has loaded the looms: alike, apart, and without it."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import Program, eventually, processes_with, run_command, service
from yarnloom import Client

pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(sys.platform != "linux", reason="processes are forked on Linux only"),
]

LOOM = "tests.fork_loom:loom"
MARK = "YARNLOOM_TEST_TEMPLATE"
ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1"}
"""NumPy starts threads when it is imported, unless it is told that one is enough."""


def named(name: str, mark: str) -> list[int]:
    """Return the processes of this name below a program with a mark."""
    found = []
    for pid in processes_with(mark):
        if Path(f"/proc/{pid}/comm").read_text().strip() == name:
            found.append(pid)
    return found


def drawn(client: Client, workflow: str) -> list[dict[str, Any]]:
    """Return what twelve steps drew."""
    found: list[dict[str, Any]] = client.start(workflow, count=12).wait(60)
    return found


def test_processes_share_what_was_loaded_and_draw_numbers_of_their_own(tmp_path: Path) -> None:
    """The module is loaded once, by a process that runs no step."""
    with service(tmp_path, "--load", LOOM, "--processes", "2", env=ONE_THREAD) as program:
        found = drawn(program.client(), "draws")
        pids = {one["pid"] for one in found}
        assert len(pids) == 2
        assert len({one["loaded_by"] for one in found} - pids) == 1
        assert len({one["loaded_by"] for one in found}) == 1
        for kind in (0, 1):
            assert len({one["drawn"][kind] for one in found}) == 12


@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("unforked", ""),
        ("threaded", r"threads run once it is loaded \(tide-clock\)"),
        ("opened", r"\S+fork_loom.py is open once it is loaded"),
    ],
)
def test_what_is_not_safe_to_fork_is_loaded_by_each_process(
    tmp_path: Path, name: str, why: str
) -> None:
    """And the worker says why, unless the loom asked for it."""
    options = ("--load", f"tests.fork_loom:{name}", "--processes", "2")
    with service(tmp_path, *options, env=ONE_THREAD) as program:
        found = drawn(program.client(), f"{name}/draws")
        assert all(one["pid"] == one["loaded_by"] for one in found)
        if why:
            program.wait_for(rf"each process loads tests.fork_loom:{name} itself, since {why};")
        else:  # it was asked for
            assert "each process loads" not in program.text


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGSTOP])
def test_what_runs_does_not_need_the_template(tmp_path: Path, number: signal.Signals) -> None:
    """It is killed, or stands still: steps go on, and processes are replaced all the same."""
    mark = f"{tmp_path}"
    env = {MARK: mark, **ONE_THREAD}
    with service(tmp_path / "data", "--load", LOOM, "--processes", "1", env=env) as program:
        client = program.client()
        run = client.start("waits", folder=str(tmp_path))
        waits = eventually(lambda: (tmp_path / "waits").exists() and (tmp_path / "waits"))
        (template,) = named("loom-template", mark)
        os.kill(template, number)
        (tmp_path / "go").touch()
        first = run.wait(60)
        assert first == int(waits.read_text())
        os.kill(first, signal.SIGKILL)
        second = client.start("waits", folder=str(tmp_path)).wait(60)
        assert second != first
        assert eventually(lambda: set(named("loom-template", mark)) - {template})
        program.wait_for("the process of which others are forks has ended; another one is started")


def test_only_the_first_worker_publishes(tmp_path: Path) -> None:
    """The one that takes the place of a killed one does not: code may have changed meanwhile."""
    with service(
        tmp_path / "data", "--load", LOOM, env={MARK: f"{tmp_path}", **ONE_THREAD}
    ) as program:
        program.wait_for("takes work")
        said = program.text.count("forks/draws at version")
        (template,) = named("loom-template", f"{tmp_path}")
        worker = int(Path(f"/proc/{template}/stat").read_text().rpartition(")")[2].split()[1])
        os.kill(worker, signal.SIGKILL)
        eventually(lambda: program.text.count("takes work") == 2)
        assert program.text.count("forks/draws at version") == said == 1


def test_all_of_a_killed_worker_ends(tmp_path: Path) -> None:
    """Its template and its processes, whichever of them is in the way."""
    mark = f"{tmp_path}"
    with service(tmp_path / "data") as program:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        worker = Program(
            "worker", "--load", LOOM, "--url", program.url, env={MARK: mark, **ONE_THREAD}
        )
        worker.wait_for("takes work")
        program.client().start("waits", folder=str(tmp_path))
        eventually((tmp_path / "waits").exists)
        assert len(processes_with(mark)) >= 4
        worker.kill()
        eventually(lambda: not processes_with(mark))


def test_no_orphan_stays_as_a_zombie(tmp_path: Path) -> None:
    """A worker adopts what its processes leave behind, and takes note of its end."""
    with service(tmp_path / "data") as program:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        worker = Program("worker", "--load", LOOM, "--url", program.url, "--processes", "1")
        worker.wait_for("takes work")
        for _ in range(3):
            program.client().start("orphans", folder=str(tmp_path)).wait(60)

        orphans = (tmp_path / "orphans").read_text().split()
        assert len(orphans) == 3
        # A zombie is still listed.
        eventually(lambda: not any(Path(f"/proc/{pid}").exists() for pid in orphans))
        worker.end()


def test_a_loom_that_cannot_be_published_ends_serve(tmp_path: Path) -> None:
    """With exit code 5, and what is wrong with it."""
    (tmp_path / "wrong.py").write_text("from yarnloom import Loom\nloom = Loom('wrong')\n1 / 0\n")
    told = run_command(
        *("serve", "--port", "0", "--data", str(tmp_path / "data"), "--load", "wrong:loom"),
        cwd=tmp_path,
    )
    assert told.returncode == 5
    assert "ZeroDivisionError" in told.stderr
    assert "wrong:loom was not published; see above" in told.stderr


def test_a_worker_publishes_before_it_takes_work(tmp_path: Path) -> None:
    """Told to by `--publish`; what the service refuses ends it."""
    with service(tmp_path / "data") as program:
        options = ("--load", LOOM, "--publish", "--url", program.url)
        worker = Program("worker", *options)
        worker.wait_for("takes work")
        assert worker.text.index("published forks/draws") < worker.text.index("takes work")
        assert len(drawn(program.client(), "draws")) == 12
        worker.end()
