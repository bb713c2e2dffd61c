"""What steps print and publish, in one file beside the records."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import LOOM, eventually, run_command, service
from yarnloom import Client, Run
from yarnloom.client import Request

pytestmark = pytest.mark.slow


def lines_of(run: Run, address: str) -> list[dict[str, Any]]:
    """Return what a step printed."""
    query = {"address": address, "limit": 10_000}
    answer = run._client.call(Request("GET", f"/runs/{run.number}/log", query=query))
    lines: list[dict[str, Any]] = answer["lines"]
    return lines


def start_coast(client: Client, count: int) -> Run:
    """Start a run of which each of many items prints one line."""
    return client.start("coast", harbours=[f"harbour {n}" for n in range(count)], careful=False)


def test_steps_that_print_make_no_files(tmp_path: Path) -> None:
    """300 items that print leave as many files as one; each item's line is its own."""
    data = tmp_path / "data"
    with service(data, "--load", LOOM) as program:
        start_coast(program.client(), 1).wait(60)
        before = sorted(path.name for path in data.rglob("*"))
        run = start_coast(program.client(), 300)
        run.wait(120)
        for number in (0, 7, 299):
            (line,) = lines_of(run, f"harbours[harbour {number}]/listen")
            assert line["text"] == f"listening at harbour {number}"
        assert sorted(path.name for path in data.rglob("*")) == before
    with service(data) as program:
        again = program.client().run(run.number)
        (line,) = lines_of(again, "harbours[harbour 7]/listen")
        assert line["text"] == "listening at harbour 7"


def test_what_was_published_survives_a_kill(tmp_path: Path) -> None:
    """An end that the service acknowledged has its published values on disk, each once."""
    data = tmp_path / "data"
    with service(data, "--load", "tests.long_loom:loom") as first:
        run = first.client().start("noisy", folder=str(tmp_path))
        run.wait(60)
        first.kill()
    with service(data, port=first.port) as second:
        again = second.client().run(run.number)
        assert [entry.value for entry in again.published()] == [{"part": 1}, "the end"]


def test_log_lines_that_cannot_be_kept_cost_nothing_else(tmp_path: Path) -> None:
    """The step that printed them is done; it is said once; later lines are kept again."""
    data = tmp_path / "data"
    with service(data, "--load", LOOM) as program:
        client = program.client()
        client.start("speaks", words="high water").wait(60)
        for path in data.glob("logs.db*"):
            path.unlink()
        (data / "logs.db").mkdir()
        lost = [client.start("speaks", words="low water") for _ in range(3)]
        for run in lost:
            run.wait(60)
        told = run_command("log", f"{lost[0].number}/speak", url=program.url)
        assert (told.returncode, len(told.stderr.strip().splitlines())) == (5, 1), told
        assert "logs.db" in told.stderr
        assert lost[0].why().state == "done"
        (data / "logs.db").rmdir()
        kept = client.start("speaks", words="ebb")
        kept.wait(60)
        assert "printed ebb" in [line["text"] for line in lines_of(kept, "speak")]
        eventually(lambda: re.search("logs.db was moved or removed", program.text))
        assert program.text.count("log lines are lost") == 1
        assert "Traceback" not in program.text


def test_a_damaged_log_file_is_said_at_the_start(tmp_path: Path) -> None:
    """With one line that says what to do, and exit code 5; it is not touched."""
    data = tmp_path / "data"
    with service(data):
        pass
    (data / "logs.db").write_bytes(b"high water " * 1_000)
    told = run_command("serve", "--data", str(data), "--port", "0")
    assert told.returncode == 5
    assert re.fullmatch(r"yarnloom serve: the logs in \S+ cannot be opened: .*\n", told.stderr)
    found = run_command("verify", "--data", str(data))
    assert "logs.db is damaged" in found.stdout + found.stderr
    assert (data / "logs.db").read_bytes() == b"high water " * 1_000
