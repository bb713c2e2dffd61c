"""Many short items through real processes, which get them together."""

from __future__ import annotations

import contextlib
import os
import re
import signal
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import Program, eventually, service
from tests.long_loom import lines
from yarnloom import Client, Run
from yarnloom.client import Request

pytestmark = pytest.mark.slow

LOOM = "tests.short_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """A service with a worker of two processes, whose tasks are known to be short."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM) as found:
        found.client().start("speaks", folder="", count=300).wait(60)
        yield found


def printed(run: Run, number: int, attempt: str = "") -> list[str]:
    """What an item printed, in its newest attempt if none is named."""
    query = {"address": f"all[{number}]/do{attempt}", "limit": 100}
    answer = run._client.call(Request("GET", f"/runs/{run.number}/log", query=query))
    return [line["text"] for line in answer["lines"]]


def states(run: Run) -> Counter[str]:
    """How many items are in each state."""
    answer = run._client.call(Request("GET", f"/runs/{run.number}/graph"))
    (found,) = (part["counts"] for part in answer["parts"] if part["label"] == "all")
    return Counter({name: count for name, count in found.items() if name != "total"})


def outcomes(run: Run) -> Counter[str]:
    """How the attempts of a run ended."""
    query = {"limit": 2_000}
    answer = run._client.call(Request("GET", f"/runs/{run.number}/attempts", query=query))
    return Counter(attempt["outcome"] for attempt in answer["attempts"])


def test_each_item_has_its_own_lines(program: Program) -> None:
    """Output at system level, too, while a process has many attempts queued."""
    run = program.client().start("speaks", folder="", count=400)
    assert run.wait(60) == list(range(400))
    for number in range(400):
        wanted: list[str] = []
        if number % 7 in (1, 2, 3):
            wanted = [f"{('python', 'system', 'unfinished')[number % 7 - 1]} {number}"]
        elif number % 50 == 5:
            wanted = [f"before {number}", f"program {number}", f"after {number}"]
        assert printed(run, number) == wanted


def test_nobody_waits_behind_a_long_one(program: Program, tmp_path: Path) -> None:
    """What a process was given behind it is given to others at once."""
    run = program.client().start("stays", folder=str(tmp_path), count=300, special=40)
    assert eventually(lambda: len(set(lines(str(tmp_path), "begun"))) == 300, 30)
    assert eventually(lambda: states(run)["done"] == 299, 30)
    # The worker itself took it back: the service had no need to, five seconds later.
    assert run.refresh().data["attempts"] == 301
    run.cancel()
    assert eventually(lambda: run.refresh().state == "cancelled", 30)
    assert len(lines(str(tmp_path), "begun")) == 300, "something ran twice"


def test_nobody_waits_behind_a_stalled_process(tmp_path: Path) -> None:
    """The other process takes its waiting attempts, and all later ones."""
    with service(tmp_path / "data", "--load", LOOM, "--processes", "2") as program:
        program.client().start("stays", folder=str(tmp_path), count=600, special=-1).wait(60)
        run = program.client().start("stays", folder=str(tmp_path), count=4_000, special=-1)
        assert eventually(lambda: run.refresh().data["attempts"] > 200, 30)
        stopped = task_processes(program.process.pid)[0]
        os.kill(stopped, signal.SIGSTOP)
        replaced = re.compile("does not begin|given up")
        eventually(lambda: states(run)["done"] > 3_900 or replaced.search(program.text), 30)
        assert states(run)["done"] > 3_900, "the others stood still until it was replaced"
        with contextlib.suppress(ProcessLookupError):  # it was replaced
            os.kill(stopped, signal.SIGCONT)  # it may have been stopped in the middle of one
        assert run.wait(60) == list(range(4_000))


def task_processes(service_pid: int) -> list[int]:
    """Processes of a service's worker that run one attempt at a time."""

    def below(pid: int) -> list[int]:
        text = Path(f"/proc/{pid}/task/{pid}/children").read_text(encoding="ascii")
        return [int(one) for one in text.split()]

    found = [pid for worker in below(service_pid) for pid in below(worker)]
    return [pid for pid in found if _name_of(pid) == "loom-process"]


def _name_of(pid: int) -> str:
    return Path(f"/proc/{pid}/comm").read_text(encoding="ascii").strip()


@pytest.mark.parametrize("special", [50, 51, 77])
def test_what_a_dying_process_had_in_hand_runs_elsewhere(
    program: Program, tmp_path: Path, special: int
) -> None:
    """Attempts that it had not begun run in another process; what had ended is not run again."""
    run = program.client().start("dies", folder=str(tmp_path), count=300, special=special)
    assert run.wait(60) == list(range(300))
    answer = run._client.call(
        Request("GET", f"/runs/{run.number}/steps", query={"address": f"all[{special}]/do"})
    )
    assert [attempt["outcome"] for attempt in answer["attempts"]] == ["lost", "done"]
    # What had ended and was not sent yet, the worker finds; what had not begun is not handed back.
    ended = lines(str(tmp_path), "ended")
    assert sorted(map(int, ended)) == list(range(300)), "each once"
    assert outcomes(run) == {"done": 301, "lost": 1}  # the list is a step, too
    assert printed(run, special, "#1") == [f"number {special}", "last words"]
    for number in range(300):
        assert printed(run, number)[-1] == f"number {number}"


def test_a_failed_item_is_tried_again(program: Program, tmp_path: Path) -> None:
    """While the others go on as always."""
    run = program.client().start("fails", folder=str(tmp_path), count=200)
    assert run.wait(60) == list(range(200))
    tries = Counter(map(int, lines(str(tmp_path), "tried")))
    assert tries == {number: 1 + (number % 10 == 3) for number in range(200)}


def test_a_pause_in_the_middle_loses_and_repeats_nothing(program: Program, tmp_path: Path) -> None:
    """Again and again."""
    run = program.client().start("fails", folder=str(tmp_path), count=1_500)
    for more in range(1, 4):
        assert eventually(lambda least=more: len(lines(str(tmp_path), "tried")) > 200 * least, 30)
        run.pause()
        assert eventually(lambda: run.refresh().state == "paused", 30)
        tried = lines(str(tmp_path), "tried")
        assert 0 < states(run)["done"] <= len(tried)
        assert lines(str(tmp_path), "tried") == tried, "something begins in a paused run"
        run.resume()
    assert run.wait(120) == list(range(1_500))
    tries = Counter(map(int, lines(str(tmp_path), "tried")))
    assert tries == {number: 1 + (number % 10 == 3) for number in range(1_500)}


def test_a_killed_service_goes_on_where_it_was(tmp_path: Path) -> None:
    """What workers had in hand without rows has them after the start, and is reported as ever."""
    data, folder = tmp_path / "data", str(tmp_path)
    with service(data, "--load", LOOM) as first:
        first.client().start("speaks", folder="", count=300).wait(60)
        run = first.client().start("fails", folder=folder, count=3_000)
        assert eventually(lambda: len(lines(folder, "tried")) > 700, 30)
        first.kill()
    with service(data, "--load", LOOM, port=first.port) as second:
        again = Client(second.url).run(run.number)
        assert again.wait(120) == list(range(3_000))
        step: Any = again._client.call(
            Request("GET", f"/runs/{run.number}/steps", query={"address": "all[2999]/do"})
        )
        assert re.fullmatch("done", step["state"])
