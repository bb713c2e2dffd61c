"""Stops cannot be swallowed, come soon, hit nobody else, and loops carry what they add up."""

from __future__ import annotations

import contextlib
import os
import random
import re
import shlex
import signal
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.helpers import ServiceProgram, eventually, much, run_command, service
from tests.long_loom import nap
from tests.stops_loom import marks
from yarnloom.client import Run
from yarnloom.errors import Conflict, RunCancelled, RunFailed

LOOM = "tests.stops_loom:loom"
STOPS = much(6, 67)
"""How often each loop is paused or killed; 67 of three loops are the 200 that are promised."""

SHORT = 15 * STOPS
"""How many short attempts there are, of which half are stopped at a random moment."""


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    with service(tmp_path_factory.mktemp("stops"), "--load", LOOM, "--processes", "2") as found:
        yield found


def begun(program: ServiceProgram, workflow: str, folder: Path) -> Run:
    """A run whose task has begun."""
    run = program.client().start(workflow, folder=str(folder))
    eventually(lambda: marks(folder, "began"))
    return run


@pytest.mark.parametrize(
    "workflow", ["sleeps", "loops", "computes", "waits-for-a-process", "waits"]
)
def test_what_cannot_hear_is_cancelled_at_once(
    program: ServiceProgram, tmp_path: Path, workflow: str
) -> None:
    """From the command to the end: within 150 ms, in 19 of 20; `finally` runs."""
    waits = []
    for number in range(20):
        folder = tmp_path / str(number)
        folder.mkdir()
        run = begun(program, workflow, folder)
        asked = time.perf_counter()
        run.cancel()
        with pytest.raises(RunCancelled):
            run.wait(30)
        waits.append(time.perf_counter() - asked)
        if workflow in ("sleeps", "loops", "waits"):
            assert len(marks(folder, "finally")) == 1

    assert sorted(waits)[18] < 0.15 * SLACK, waits


SLACK = 4.0
"""A busy machine may take so many times longer; `bench/` measures it on a quiet one."""


def test_what_never_returns_to_python_is_killed(program: ServiceProgram, tmp_path: Path) -> None:
    """A second later, and the worker has a new process."""
    run = begun(program, "never-returns", tmp_path)
    asked = time.perf_counter()
    run.cancel()
    with pytest.raises(RunCancelled):
        run.wait(30)

    assert 0.9 < time.perf_counter() - asked < 1.2 * SLACK
    assert run.step("it").data["state"] == "cancelled"
    assert "killed" in run.step("it").data["attempts"][0]["error"]["message"]


def test_a_time_out_comes_at_its_time(program: ServiceProgram, tmp_path: Path) -> None:
    """A call that hangs is tried again and again within its two seconds; it had one try in 11 s."""
    asked = time.perf_counter()
    run = program.client().start("hangs", folder=str(tmp_path))
    with pytest.raises(RunFailed, match="timeout of 700 ms"):
        run.wait(60)

    assert len(marks(tmp_path, "began")) >= 3
    assert time.perf_counter() - asked < 2.9 * SLACK


def test_a_task_hears_of_a_time_out_before_it_comes(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """By a tenth of it, and what it returns then is kept."""
    run = program.client().start("hears-before", folder=str(tmp_path))

    assert run.wait(30) == "in time"
    (began,), (heard,) = marks(tmp_path, "began"), marks(tmp_path, "heard-timeout")
    assert 1.5 < heard - began < 2.0


@pytest.mark.parametrize("how", ["pause", "cancel"])
def test_an_except_around_a_row_swallows_no_stop(
    program: ServiceProgram, tmp_path: Path, how: str
) -> None:
    """It is no error, so `except Exception` lets it through."""
    run = begun(program, "swallows", tmp_path)
    (run.pause if how == "pause" else run.cancel)()
    state = "paused" if how == "pause" else "cancelled"
    eventually(lambda: run.refresh().state == state)
    if how == "pause":
        run.cancel()

    assert marks(tmp_path, "caught") == []


def test_what_swallows_all_is_told_again_and_then_killed(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """At every call of ctx, until its grace and a second are over."""
    run = begun(program, "swallows-all", tmp_path)
    run.cancel()
    with pytest.raises(RunCancelled):
        run.wait(30)

    assert len(marks(tmp_path, "caught")) > 10


def test_being_called_again_is_not_swallowed(program: ServiceProgram, tmp_path: Path) -> None:
    """Neither by a careful loop, nor in silence by a bare except."""
    run = program.client().start("calls-again", folder=str(tmp_path))
    assert run.wait(30) == "called"
    assert len(marks(tmp_path, "began")) == 3
    assert marks(tmp_path, "caught") == []

    bare = program.client().start("calls-again-bare", folder=str(tmp_path))
    with pytest.raises(RunFailed, match="asked to be called again, and then returned"):
        bare.wait(30)


def test_a_stop_in_a_group_is_that_stop(program: ServiceProgram, tmp_path: Path) -> None:
    """A pause of coroutines in a TaskGroup pauses, and fails nothing."""
    run = begun(program, "in-a-group", tmp_path)
    run.pause()
    eventually(lambda: run.refresh().state == "paused")
    (attempt,) = run.step("it").data["attempts"]
    assert attempt["outcome"] == "stopped"
    run.cancel()


@pytest.mark.parametrize("workflow", ["sleeps", "waits"])
def test_a_pause_raises_nothing(program: ServiceProgram, tmp_path: Path, workflow: str) -> None:
    """What cannot hear runs on, also a coroutine."""
    run = begun(program, workflow, tmp_path)
    run.pause()
    for _ in range(100):
        assert run.refresh().state == "pausing"
    assert marks(tmp_path, "finally") == []
    run.cancel()
    with pytest.raises(RunCancelled):
        run.wait(30)


def test_cancel_now_ends_the_grace(program: ServiceProgram, tmp_path: Path) -> None:
    """As a second cancel does; by the command."""
    for words in (["--now"], []):
        folder = tmp_path / ("now" if words else "twice")
        folder.mkdir()
        run = begun(program, "does-not-listen", folder)
        asked = time.perf_counter()
        assert run_command("cancel", str(run.number), *words, url=program.url).returncode == 0
        if not words:
            run.cancel()
        with pytest.raises(RunCancelled):
            run.wait(30)
        assert time.perf_counter() - asked < 8.0


def test_a_suggested_command_can_be_pasted(program: ServiceProgram, tmp_path: Path) -> None:
    """Hostile quotes in it too; it asks for the value that the step uses, and can be corrected."""
    run = program.client().start("dies-in-the-middle", folder=str(tmp_path))
    with pytest.raises(RunFailed) as failed:
        run.wait(30)
    (pasted,) = re.findall(r"`(yarnloom settle .*?) --done --value JSON`", str(failed.value))
    words = shlex.split(pasted)[1:]
    listed = run_command("ledger", str(run.number), url=program.url).stdout
    assert f"{pasted} --done --value JSON" in listed

    refused = run_command(*words, "--done", url=program.url)
    assert (refused.returncode, "null where it gave" in refused.stderr) == (2, True)
    for more in (["--not-done"], ["--done", "--value", "40"], ["--done", "--value", "41"]):
        assert run_command(*words, *more, url=program.url).returncode == 0
    run.mend()
    assert run.wait(30) == 42
    assert len(marks(tmp_path, "sent")) == 1
    too_late = run_command(*words, "--not-done", url=program.url)
    assert (too_late.returncode, "has used that" in too_late.stderr) == (2, True)


@pytest.mark.parametrize("workflow", ["carries", "carries-io", "carries-async"])
def test_what_a_loop_carries_is_right_whatever_stops_it(tmp_path: Path, workflow: str) -> None:
    """Paused and killed at random, again and again: the sum is that of all numbers."""
    chance, count, stops = random.Random(11), 15 * STOPS, 0
    with service(tmp_path / "data", "--load", LOOM, "--processes", "1") as program:
        client = program.client()
        run = client.start(workflow, folder=str(tmp_path), count=count, pause=0.004)
        while stops < STOPS and run.refresh().state not in ("done", "failed"):
            walked = len(marks(tmp_path, "walked"))
            wanted = walked + chance.randrange(1, 18)
            eventually(lambda n=wanted: len(marks(tmp_path, "walked")) >= n or _ended(run))
            stops += 1
            if chance.random() < 0.6:
                with contextlib.suppress(Conflict):  # it has ended meanwhile
                    run.pause()
                    eventually(lambda: run.refresh().state == "paused" or _ended(run))
                    run.resume()
            else:
                text = (tmp_path / "began").read_text().splitlines()[-1]
                _kill(int(text.split()[1]))
        output = run.wait(120)

    assert output["total"] == sum(range(count))
    assert output["seen"] == list(range(count))[-4:]
    assert output["counted"] == {"added": count, "skipped": 0}
    assert stops > 0.6 * STOPS


def _ended(run: Run) -> bool:
    return bool(run.refresh().state in ("done", "failed"))


def _kill(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def test_stops_at_random_moments_hit_nobody_else(tmp_path: Path) -> None:
    """Many short attempts: no neighbour is hit, no frame torn, no effect doubled."""
    chance = random.Random(3)
    with service(tmp_path / "data", "--load", LOOM, "--processes", "2") as program:
        client = program.client()
        folder = tmp_path / "marks"
        folder.mkdir()
        cancelled: set[int] = set()
        runs = []
        for number in range(SHORT):
            run = client.start("short", folder=str(folder), number=number)
            runs.append(run)
            if chance.random() < 0.5:
                nap(chance.random() ** 3 * 0.012)  # most of them early: a begun one may end
                cancelled.add(number)
                _cancel(run)
        states = Counter()
        for number, run in enumerate(runs):
            eventually(lambda r=run: r.refresh().state in ("done", "failed", "cancelled"))
            states[run.state] += 1
            assert run.state != "failed", run.data["error"]
            if number not in cancelled:
                assert run.state == "done"
        doubled = [one.name for one in folder.iterdir() if len(marks(folder, one.name)) > 1]

    assert doubled == []
    assert states["cancelled"] > SHORT / 60, "else nothing was stopped in time"
    assert "cannot be read" not in program.text


def _cancel(run: Run) -> None:
    with contextlib.suppress(Conflict):  # it has ended
        run.cancel(now=True)
