"""Control from the command: as it is typed, with what is printed, and the typical mistakes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.helpers import ServiceProgram, eventually, run_command, service
from tests.long_loom import lines

pytestmark = pytest.mark.slow

LOOM = "tests.long_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM, "--processes", "1") as found:
        yield found


def test_a_long_run_from_pause_to_rerun(program: ServiceProgram, tmp_path: Path) -> None:
    """Pause, why, show, resume, a step edited and tried again, mend, rerun, and who did it."""

    def say(*words: str, code: int = 0) -> str:
        done = run_command(*words, url=program.url)
        assert done.returncode == code, done.stderr
        return done.stdout + done.stderr

    params = ["-p", f"folder={tmp_path}", "-p", "count=3000", "-p", "pause=0.01"]
    say("start", "walk", *params)
    eventually(lambda: len(lines(str(tmp_path), "walked")) > 5)
    assert "stops at its next checkpoint" in say("pause", "1", "--reason", "low tide")
    eventually(lambda: program.client().run(1).state == "paused")
    shown = say("show", "1")
    assert "stopped at" in shown
    assert "of 3,000" in shown
    why = say("why", "1")
    assert "low tide" in why
    assert "its run is paused" in why
    say("resume", "1")
    say("step", "1/go", "cancel", "--reason", "too slow")
    eventually(lambda: program.client().run(1).state == "failed")
    assert "too slow" in say("show", "1")
    say("step", "1/go", "edit", "-p", "count=20", "-p", "pause=0")
    assert "round 2" in say("mend", "1")
    eventually(lambda: program.client().run(1).state == "done")
    assert "#3 (round 2)" in say("show", "1/go") or "(round 2)" in say("show", "1/go")
    assert "run 2 of long/walk" in say("rerun", "1", "-p", "count=2", "-p", "pause=0")
    commands = say("commands", "--run", "1")
    for word in ("mend", "edit", "cancel", "resume", "pause", "start", "low tide"):
        assert word in commands


def test_the_ledger_and_what_was_published(program: ServiceProgram, tmp_path: Path) -> None:
    """Listed for people, and as JSON."""

    def say(*words: str) -> str:
        done = run_command(*words, url=program.url)
        assert done.returncode == 0, done.stderr
        return done.stdout

    run = program.client().start("mail-all", folder=str(tmp_path), count=5)
    run.wait(60)
    assert say("ledger", str(run.number)).count("done") == 5
    noisy = program.client().start("noisy", folder=str(tmp_path))
    assert "from C" in say("log", f"{noisy.number}/go", "--follow")
    published = say("published", str(noisy.number), "--json").splitlines()
    assert [json.loads(one)["value"] for one in published] == [{"part": 1}, "the end"]
    link = json.loads(say("link", str(noisy.number), "--for", "5m", "--json"))
    assert link["path"].startswith("/api/v1/links/")


def test_many_runs_are_not_acted_on_unasked(program: ServiceProgram, tmp_path: Path) -> None:
    """How many they are is said; --yes says yes."""
    client = program.client()
    for _ in range(2):
        client.start("walk", folder=str(tmp_path), count=9_999, pause=0.01, tags=("cli",))
    unasked = run_command("cancel", "--tag", "cli", url=program.url)
    assert unasked.returncode == 2
    assert "that would cancel 2 runs; say so with --yes" in unasked.stderr
    done = run_command("cancel", "--tag", "cli", "--yes", url=program.url)
    assert "2 runs told to be cancelled" in done.stdout
    assert run_command("cancel", "--tag", "none", "--yes", url=program.url).returncode == 0


def test_a_key_that_is_none_is_refused_at_the_start(tmp_path: Path) -> None:
    """With how to make one."""
    env = {"YARNLOOM_SECRET_KEY": "short"}
    done = run_command("serve", "--data", str(tmp_path), "--port", "0", env=env)

    assert done.returncode == 5
    assert "YARNLOOM_SECRET_KEY is no key" in done.stderr


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["pause"], "say which: yarnloom pause 1042"),
        (["pause", "1", "--state", "running"], "not both"),
        (["pause", "999"], "there is no run 999"),
        (["step", "1", "retry"], "expected a step, as 1042/fetch"),
        (["step", "1/go", "dance"], "no command 'dance'"),
        (["step", "1/go", "skip", "-p", "a=1"], "--param is for edit, not for skip"),
        (["step", "1/go", "supply"], "give the output: --output JSON"),
        (["step", "1/nothing", "skip"], "no part 'nothing'"),
        (["settle", "1/go", "letter"], "--done --not-done is required"),
        (["settle", "1/go", "letter", "--done"], "has no 'letter'"),
        (["log", "1/go#1", "--text", "x"], "leave the attempt's number out"),
        (["link", "1", "--for", "soon"], "--for"),
        (["rerun", "1", "-p", "count"], "expected -p NAME=VALUE"),
    ],
)
def test_mistakes_are_explained(program: ServiceProgram, words: list[str], said: str) -> None:
    """In a line, with exit code 2, and without a stack trace."""
    done = run_command(*words, url=program.url)

    assert done.returncode == 2, done
    assert said in done.stderr
    assert "Traceback" not in done.stderr
