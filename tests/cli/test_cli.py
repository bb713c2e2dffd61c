"""The command, as a process: what it prints, and its exit codes."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from tests.helpers import LOOM, ROOT, Program, ServiceProgram, eventually, run_command, service
from yarnloom import RunFailed
from yarnloom.cli.commands import build_parser
from yarnloom.cli.output import took


def test_a_run_from_start_to_log(served: ServiceProgram) -> None:
    """Start with params, watch, show, list, log: each as a person reads it."""
    url = served.url
    done = run_command("start", "sums", "-p", "number=4", "--watch", url=url)
    assert done.returncode == 0, done.stderr
    assert "✓ done" in done.stdout
    assert "output  6" in done.stdout

    started = run_command("start", "speaks", "-p", "words=0042", "--json", url=url)
    run = json.loads(started.stdout)
    assert run["params"] == {"words": "0042"}
    assert run_command("watch", str(run["number"]), url=url).returncode == 0
    shown = run_command("show", str(run["number"]), url=url)
    assert "speak" in shown.stdout
    step = run_command("show", f"{run['number']}/speak", url=url)
    assert "marks/speak" in step.stdout
    assert "#1" in step.stdout
    log = run_command("log", f"{run['number']}/speak", url=url)
    assert "printed 0042" in log.stdout
    listed = run_command("runs", "--limit", "2", url=url)
    assert listed.stdout.splitlines()[1].startswith(str(run["number"]).rjust(3))


@pytest.mark.parametrize("command", ["runs", "workflows", "tasks", "workers"])
def test_reading_commands_speak_json(served: ServiceProgram, command: str) -> None:
    """For programs; and a table for people."""
    found = json.loads(run_command(command, "--json", url=served.url).stdout)
    table = run_command(command, url=served.url)

    assert command in found
    assert table.returncode == 0
    assert "marks/" in table.stdout or command == "workers"


def test_a_failed_run_exits_with_1(served: ServiceProgram) -> None:
    """And says where, why, and what to look at."""
    done = run_command("start", "misbehaves", "-p", "how=raise", "--watch", url=served.url)

    assert done.returncode == 1
    assert "failed at" in done.stdout
    assert "ValueError: it went wrong" in done.stdout
    assert "yarnloom show" in done.stdout


def test_cancel_from_the_command(served: ServiceProgram, tmp_path: Path) -> None:
    """With a reason; the second time it is refused."""
    started = run_command("start", "heeds", "-p", f"folder={tmp_path}", "--json", url=served.url)
    number = str(json.loads(started.stdout)["number"])
    assert run_command("cancel", number, "--reason", "fog", url=served.url).returncode == 0
    assert run_command("watch", number, url=served.url).returncode == 1
    again = run_command("cancel", number, url=served.url)

    assert again.returncode == 2
    assert "is cancelled, so it cannot be cancelled" in again.stderr


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["strat"], 2, "no command 'strat'; did you mean 'start'?"),
        ([], 2, "yarnloom --help"),
        (["start"], 2, "NAME"),
        (["start", "smus"], 2, "there is no workflow or task 'smus'; did you mean 'sums'?"),
        (["start", "sums"], 2, "/number: missing; expected an integer"),
        (["start", "sums", "-p", "number=x", "-p", "nr=1"], 2, "/number: found 'x'"),
        (["start", "sums", "-p", "number=x", "-p", "nr=1"], 2, "/nr: not expected here"),
        (["start", "sums", "-p", "number"], 2, "expected -p NAME=VALUE"),
        (["start", "sums", "-p", "number=1", "-p", "number=2"], 2, "given twice"),
        (["start", "sums", "--params", "nowhere.json"], 2, "nowhere.json cannot be read"),
        (["start", "sums", "--params", "README.md"], 2, "is not JSON"),
        (["show", "999999"], 2, "there is no run 999999; `yarnloom runs` lists"),
        (["show", "abc"], 2, "expected a run's number"),
        (["watch", "0"], 2, "expected 1 or more"),
        (["publish", "tests.looms:lom"], 2, "did you mean 'loom'?"),
        (["check", "tests.broken_loom:loom"], 2, "ZeroDivisionError"),
        (["check", "tests.wrong_loom:loom"], 2, "w/a.words: found 3; expected text"),
        (["publish", "tests.wrong_loom:loom"], 2, "w/x: len is not a task of this loom"),
        (["runs", "--state", "dune"], 2, "/state"),
    ],
)
def test_mistakes_are_explained(
    served: ServiceProgram, arguments: list[str], code: int, words: str
) -> None:
    """What was found, what is possible, and a stable exit code; never a stack trace."""
    done = run_command(*arguments, url=served.url)

    assert done.returncode == code, done.stderr
    assert words in done.stderr
    assert "Traceback" not in done.stderr


def test_an_unknown_step_offers_the_nearest(served: ServiceProgram) -> None:
    """Of the run that was named."""
    number = served.client().start("sums", number=1).number
    done = run_command("log", f"{number}/secnd", url=served.url)

    assert done.returncode == 2
    assert "has no part 'secnd'; did you mean 'second'?" in done.stderr


def test_check_names_all_mistakes() -> None:
    """Or says how much is fine."""
    wrong = run_command("check", "tests.wrong_loom:loom")
    fine = run_command("check", LOOM)
    as_json = json.loads(run_command("check", "tests.wrong_loom:loom", "--json").stdout)

    assert wrong.stderr.splitlines()[0] == "loom wrong: 3 mistakes"
    assert len(as_json["problems"]) == 3
    assert fine.returncode == 0
    assert "is fine" in fine.stdout


def test_not_reachable_names_the_setting() -> None:
    """Exit code 3, and how to start a service."""
    by_flag = run_command("runs", "--url", "http://127.0.0.1:9")
    by_env = run_command("runs", url="http://127.0.0.1:9")

    assert by_flag.returncode == by_env.returncode == 3
    assert "http://127.0.0.1:9 (from --url)" in by_flag.stderr
    assert "http://127.0.0.1:9 (from YARNLOOM_URL)" in by_env.stderr
    assert "yarnloom serve" in by_env.stderr


def test_a_port_in_use_names_its_holder(tmp_path: Path) -> None:
    """By process and command."""
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = run_command("serve", "--port", str(port), "--data", str(tmp_path / "data"))

    assert done.returncode == 5
    assert f"127.0.0.1:{port} is in use by process {os.getpid()}" in done.stderr
    assert "--port" in done.stderr


def test_a_folder_in_use_names_its_service(tmp_path: Path) -> None:
    """And that it can be given another."""
    with service(tmp_path) as program:
        done = run_command("serve", "--port", "0", "--data", str(tmp_path))

        assert done.returncode == 5
        assert f"in use by the service at {program.url}" in done.stderr


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--data", "/proc/nowhere"], "cannot be written"),
        (["--host", "192.0.2.1"], "cannot listen at 192.0.2.1"),
        (["--load", "tests.looms:lom"], "did you mean 'loom'?"),
        (["--load", "tests.wrong_loom:loom"], "3 mistakes"),
    ],
)
def test_a_service_that_cannot_start_says_why(
    tmp_path: Path, arguments: list[str], words: str
) -> None:
    """With exit code 5."""
    data = [] if "--data" in arguments else ["--data", str(tmp_path)]
    done = run_command("serve", "--port", "0", *data, *arguments)

    assert done.returncode == 5, done.stderr
    assert words in done.stderr
    assert "Traceback" not in done.stderr


def test_a_worker_whose_loom_cannot_be_loaded_says_why() -> None:
    """With exit code 5."""
    done = run_command("worker", "--load", "tests.broken_loom:loom")

    assert done.returncode == 5
    assert "line 3): ZeroDivisionError" in done.stderr


@pytest.mark.slow
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_the_end_of_service_and_workers_is_told(tmp_path: Path, number: int) -> None:
    """They say what they do, in order, and exit with 0."""
    with service(tmp_path, "--load", LOOM, "--workers", "2") as program:
        for name in ("w1", "w2"):
            program.wait_for(f"worker {name}: takes work")
        assert program.end(number) == 0

    order = ["stopping; workers finish", "worker w1: has ended", "the service has ended"]
    assert [program.text.index(words) for words in order] == sorted(
        program.text.index(words) for words in order
    )


@pytest.mark.slow
def test_a_worker_told_to_end_lets_its_step_finish(tmp_path: Path) -> None:
    """A second signal hands it back, and another worker runs it from the start."""
    with service(tmp_path / "data") as program:
        assert run_command("publish", LOOM, url=program.url).returncode == 0
        first = Program("worker", "--load", LOOM, "--url", program.url, "--name", "first")
        run = program.client().start("held", folder=str(tmp_path))
        eventually((tmp_path / "hold").exists)
        first.process.send_signal(signal.SIGTERM)
        first.wait_for("waits up to 10 s for 1 running")
        assert first.end() == 0
        step = json.loads(
            run_command("show", f"{run.number}/hold", "--json", url=program.url).stdout
        )
        assert [attempt["outcome"] for attempt in step["attempts"]] == ["handed_back"]
        assert (step["state"], step["tries"], step["losses"]) == ("ready", 0, 0)

        shown = run_command("show", str(run.number), url=program.url)
        assert "no worker is connected" in shown.stdout

        second = Program("worker", "--load", LOOM, "--url", program.url)
        (tmp_path / "go").touch()
        assert run.wait(60) == "begun, held, finished"
        second.end()


def test_every_command_has_help() -> None:
    """Each says what it does."""
    parser = build_parser()
    commands = next(a.choices for a in parser._actions if a.dest == "command")
    assert commands is not None
    for name, sub in commands.items():
        assert sub.description, name
        assert sub.format_help()


def test_a_shell_completes_commands(tmp_path: Path) -> None:
    """By the command itself, as the shell asks for it."""
    found = tmp_path / "found"
    asked = {"_ARGCOMPLETE": "1", "COMP_LINE": "yarnloom ser", "COMP_POINT": "12", "COMP_TYPE": "9"}
    run_command(env={**asked, "_ARGCOMPLETE_STDOUT_FILENAME": str(found)})
    assert found.read_text().split() == ["serve"]


def test_a_duration_is_that_of_a_browser() -> None:
    """From one whole millisecond to another, as on the line of the run and in the console."""
    begin, end = "2027-01-01T00:00:00.000900Z", "2027-01-01T00:00:00.567600Z"

    assert took(begin, end) == "567 ms"
    assert took("2027-01-01T00:00:00.000100Z", "2027-01-01T00:00:00.566950Z") == "566 ms"


def in_a_pipe(line: str, url: str) -> tuple[list[int], str]:
    """What a shell makes of a line: the exit code of each command of the pipe, and the output."""
    bin_folder = Path(sys.executable).parent
    env = {**os.environ, "YARNLOOM_URL": url, "PATH": f"{bin_folder}:{os.environ['PATH']}"}
    env.pop("COLUMNS", None)
    done = subprocess.run(
        ["bash", "-c", f'{line}; echo "codes ${{PIPESTATUS[*]}}"'],
        env=env,
        capture_output=True,
        text=True,
        check=False,
        cwd=ROOT,
    )
    assert "Traceback" not in done.stderr
    output, _, codes = done.stdout.rpartition("codes ")
    return [int(code) for code in codes.split()], output


def test_a_command_fits_a_pipe(served: ServiceProgram) -> None:
    """The bare number, whole tables, a reader that goes away, and the exit code of a run."""
    codes, number = in_a_pipe(
        "yarnloom start misbehaves -p how=raise 2>/dev/null | cat", served.url
    )
    assert codes == [0, 0]
    assert number.strip().isdigit()
    _, table = in_a_pipe("yarnloom tasks | cat", served.url)
    assert "…" not in table
    assert "marks/misbehave" in table
    assert in_a_pipe("yarnloom runs | head -1", served.url)[0] == [0, 0]
    assert in_a_pipe(f"yarnloom watch {number.strip()} | true", served.url)[0] == [1, 0]


def test_a_workflow_says_its_types_in_words(served: ServiceProgram) -> None:
    """With the defaults as JSON."""
    shown = run_command("workflows", "keyed", url=served.url).stdout

    assert "item: text\n" in shown
    assert 'key: text = "nobody"' in shown


def test_a_traceback_begins_at_the_users_code(served: ServiceProgram) -> None:
    """Neither the worker's frames nor Python's own come first."""
    run = served.client().start("misbehaves", how="raise")
    with pytest.raises(RunFailed):
        run.wait(60)
    shown = run_command("show", f"{run.number}/misbehave", url=served.url)
    lines = shown.stdout.partition("Traceback (most recent call last):\n")[2].splitlines()

    assert "/tests/looms.py" in lines[0]
