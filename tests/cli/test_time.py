"""Later, many and by the clock, typed."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from tests.helpers import LOOM, ServiceProgram, run_command, service
from yarnloom.cli.schedules import time_of
from yarnloom.errors import InvalidInput


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service without a worker."""
    with service(tmp_path_factory.mktemp("time")) as found:
        run_command("publish", LOOM, url=found.url)
        yield found


NOW = datetime.fromisoformat("2027-03-01T07:00+01:00")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("7:30", "2027-03-01T07:30+01:00"),
        ("07:00", "2027-03-02T07:00+01:00"),
        ("6:59", "2027-03-02T06:59+01:00"),
        ("2027-05-01T12:00+05:30", "2027-05-01T12:00+05:30"),
        ("2027-05-01T12:00Z", "2027-05-01T12:00+00:00"),
    ],
)
def test_times_as_people_type_them(text: str, expected: str) -> None:
    """An hour is the next one; without an offset it is by this machine's clock."""
    assert time_of(text, "--at", NOW) == datetime.fromisoformat(expected)
    here = time_of("2027-05-01T12:00", "--at")
    assert here.replace(tzinfo=None) == datetime(2027, 5, 1, 12)
    assert here.utcoffset() is not None
    for wrong in ("noon", "25:00", "7:3x", "2027-13-01"):
        with pytest.raises(InvalidInput, match="expected a time"):
            time_of(wrong, "--at", NOW)


def test_a_run_is_started_later(program: ServiceProgram) -> None:
    """It says when; `why`, `runs` and `show` do too."""
    start = ("start", "sums", "-p", "number=1")
    later = run_command(*start, "--after", "2h", "--tag", "later", url=program.url)
    assert later.stdout.strip().isdigit()
    assert "is scheduled" in later.stderr
    assert "it starts in " in later.stderr
    by = (datetime.now().astimezone() + timedelta(days=3)).isoformat()
    at = run_command(*start, "--at", "7:30", "--start-by", by, "--json", url=program.url)
    run = json.loads(at.stdout)
    assert (run["state"], run["start_by"] is not None) == ("scheduled", True)
    listed = run_command("runs", "--tag", "later", url=program.url).stdout
    assert "scheduled" in listed
    assert " h " in listed
    why = run_command("why", str(run["number"]), url=program.url).stdout
    assert "starts at 20" in why
    assert "ends as expired" in why
    shown = run_command("show", str(run["number"]), url=program.url).stdout
    assert "or it ends as expired" in shown


def test_many_runs_from_a_file(program: ServiceProgram, tmp_path: Path) -> None:
    """All or none; mistakes by line; -p holds for each."""
    path = tmp_path / "many.jsonl"
    path.write_text('{"number": 1}\n\n{"number": 2}\n{"nummer": 3}\n')
    start = ("start", "sums", "--many", str(path), "-p", "step=5", "--tag", "many")
    wrong = run_command(*start, url=program.url)
    assert wrong.returncode == 2
    assert "line 4, /number: missing" in wrong.stderr
    assert "did you mean 'number'" in wrong.stderr
    path.write_text('{"number": 1}\n{"number": 2}\n')
    done = run_command(*start, "--json", url=program.url)
    numbers = json.loads(done.stdout)["runs"]
    assert len(numbers) == 2
    runs = json.loads(run_command("runs", "--tag", "many", "--json", url=program.url).stdout)
    assert [run["params"] for run in runs["runs"]] == [
        {"number": 2, "step": 5},
        {"number": 1, "step": 5},
    ]
    said = run_command(*start, url=program.url)
    assert said.stdout.split() == [str(numbers[1] + 1), str(numbers[1] + 2)]
    assert "2 runs of sums" in said.stderr


def test_a_schedule_from_its_times_to_its_end(program: ServiceProgram) -> None:
    """First when it would come, then made, changed, paused, started, removed."""
    name = ("schedule", "nightly")
    times = run_command(*name, "--times", "--cron", "30 2 * * *", url=program.url).stdout
    assert times.count("02:30 +0000") == 10
    cron = ("--cron", "30 2 * * *", "--zone", "Europe/Lisbon", "--note", "each night")
    made = run_command(
        *name, "--make", "--workflow", "sums", *cron, "-p", "number=4", url=program.url
    )
    assert made.returncode == 0, made.stderr
    assert "30 2 * * *  Europe/Lisbon" in made.stdout
    assert '{"number": 4}' in made.stdout
    assert made.stdout.count("02:30 +0") == 5
    paused = run_command(
        *name, "--pause", "--reason", "storm", "--if-busy", "skip", url=program.url
    ).stdout
    assert ": storm" in paused
    assert "by hand       if_busy skip" in paused
    assert "let it go on: yarnloom schedule nightly --resume" in paused
    started = run_command(*name, "--start", url=program.url)
    number = started.stdout.strip()
    assert "is queued" in started.stderr
    assert (
        "by       schedule nightly, planned for"
        in run_command("show", number, url=program.url).stdout
    )
    listed = run_command("schedules", url=program.url).stdout
    assert "paused" in listed
    runs = run_command("runs", "--schedule", "nightly", url=program.url).stdout
    assert "marks/sums" in runs
    assert run_command(*name, "--resume", "--as-declared", url=program.url).returncode == 0
    told = run_command("commands", "--what", "change_schedule", url=program.url).stdout
    assert "nightly" in told
    assert "storm" in told
    removed = run_command(*name, "--remove", url=program.url)
    assert removed.stdout == "schedule nightly is removed; its runs stay\n"
    assert "no schedules; declare one" in run_command("schedules", url=program.url).stderr


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        (["schedule", "x"], "there is no schedule 'x'"),
        (["schedule", "x", "--make", "--workflow", "sums"], "/cron: missing"),
        (["schedule", "x", "--make", "--cron", "0 0 * * *"], "/workflow: missing"),
        (["schedule", "x", "--times", "--cron", "9 9 9"], "expected five fields"),
        (["schedule", "x", "--start"], "there is no schedule 'x'"),
        (["schedule", "x", "--missed", "some"], "no 'some'"),
        (["start", "sums", "-p", "number=1", "--at", "noon"], "expected a time"),
        (["start", "sums", "-p", "number=1", "--at", "7:00", "--after", "1h"], "not allowed with"),
        (["start", "sums", "--many", "nothing.jsonl"], "cannot be read"),
        (["start", "sums", "--many", "pyproject.toml"], "line 1 of pyproject.toml"),
        (["worker", "status", "--load", "x"], "no workers are in the background"),
        (["worker", "stop"], "expected `worker stop NAME`"),
        (["relay"], "give a SQLite file"),
        (["relay", "a.db", "--connect", "b:c"], "give a SQLite file, or --connect"),
    ],
)
def test_mistakes_are_said(program: ServiceProgram, typed: list[str], said: str) -> None:
    """In a line, without a stack trace."""
    done = run_command(*typed, url=program.url)
    assert done.returncode == (0 if "status" in typed else 2), done
    assert said in done.stderr
    assert "Traceback" not in done.stderr
