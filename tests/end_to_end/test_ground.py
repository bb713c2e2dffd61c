"""The ground under a service: its folder is moved, removed, replaced, or had by two."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from tests import raw_http
from tests.helpers import LOOM, ServiceProgram, eventually, run_command, service

pytestmark = pytest.mark.slow


def ready(program: ServiceProgram) -> tuple[int, str]:
    """What `/ready` answers: the status, and the reason."""
    found = raw_http.get(f"{program.url}/ready", trust_env=False)
    return found.status_code, found.json().get("reason", "")


def start(program: ServiceProgram, key: str) -> httpx.Response:
    """Try to start a run."""
    return raw_http.post(
        f"{program.url}/api/v1/runs",
        json={"target": "sums", "params": {"number": 1}},
        headers={"Idempotency-Key": key},
        trust_env=False,
    )


def removed(data: Path) -> None:
    """As `rm -rf` does."""
    shutil.rmtree(data)


def replaced(data: Path) -> None:
    """By a file that is another, with the same in it."""
    shutil.copy(data / "yarnloom.db", data / "copy")
    (data / "copy").replace(data / "yarnloom.db")


@pytest.mark.parametrize("take", [removed, replaced])
def test_nothing_is_acknowledged_on_records_that_were_taken_away(
    tmp_path: Path, take: Callable[[Path], None]
) -> None:
    """No start is; it is said once, and `/ready` says why; the folder is not made again."""
    data = tmp_path / "data"
    with service(data, "--load", LOOM) as program:
        assert start(program, "before").status_code == 201
        eventually(lambda: ready(program)[0] == 200)
        take(data)
        for number in range(6):
            refused = start(program, f"after-{number}")
            assert refused.status_code == 503
            assert refused.json()["type"] == "urn:yarnloom:cannot-store"
        status, reason = ready(program)
        assert (status, "while the service has it open" in reason) == (503, True)
        told = run_command("cancel", "1", url=program.url)
        assert (told.returncode, len(told.stderr.strip().splitlines())) == (5, 1)
        assert program.text.count("nothing can be stored, so nothing is accepted") == 1
        if take is removed:
            assert not data.exists()


def test_a_folder_that_is_moved_and_put_back_is_gone_on_with(tmp_path: Path) -> None:
    """Meanwhile nothing is accepted, and reading goes on."""
    data = tmp_path / "data"
    with service(data, "--load", LOOM) as program:
        run = program.client().start("sums", number=1)
        assert run.wait(60) == 3
        data.rename(tmp_path / "elsewhere")
        assert start(program, "away").status_code == 503
        assert run_command("show", str(run.number), url=program.url).returncode == 0
        (tmp_path / "elsewhere").rename(data)
        eventually(lambda: ready(program)[0] == 200)
        assert start(program, "back").status_code == 201
        assert "changes can be stored again" in program.text


def test_removing_other_files_lets_no_second_service_in(tmp_path: Path) -> None:
    """The lock is on the database itself."""
    data = tmp_path / "data"
    with service(data) as program:
        for name in ("holder", "lock", "numbers.json"):
            (data / name).unlink(missing_ok=True)
        second = run_command("serve", "--data", str(data), "--port", "0")
        assert second.returncode == 5
        assert second.stderr.strip().splitlines() == [
            f"yarnloom serve: the data folder {data} is in use by another service. "
            "Stop that one, or give another folder with --data."
        ]
        assert list(program.client().runs()) == []
    # And a copy of a folder is nobody's.
    shutil.copytree(data, tmp_path / "copy")
    with service(tmp_path / "copy") as program:
        assert ready(program)[0] == 200
