"""Tasks that share a process: many at once, each with its own output, and what cannot be killed."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.end_to_end.test_kill import marks
from tests.helpers import LOOM, eventually, service
from yarnloom import Run
from yarnloom.client import Request

pytestmark = pytest.mark.slow


def printed(run: Run) -> set[str]:
    """What the only step of a run printed and logged."""
    found = run._client.call(Request("GET", f"/runs/{run.number}/log", query={"address": "it"}))
    return {line["text"] for line in found["lines"]}


def test_many_async_steps_share_one_process(tmp_path: Path) -> None:
    """More than there are processes, at the same time; what each prints is its own."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        client = program.client()
        runs = [client.start("gather", folder=str(tmp_path), words=f"w{n}") for n in range(12)]
        eventually(lambda: len(marks(tmp_path, "gather")) == 12)
        other = client.start("sums", number=1)
        assert other.wait(60) == 3
        (tmp_path / "go").touch()

        assert len({run.wait(60) for run in runs}) == 1
        for number, run in enumerate(runs):
            assert printed(run) == {f"printed w{number}", f"logged w{number}"}


def test_an_async_step_is_cancelled_without_its_process(tmp_path: Path) -> None:
    """After its grace it leaves at its next await; the others go on."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        client = program.client()
        stays = client.start("gather", folder=str(tmp_path), words="stays")
        goes = client.start("gather", folder=str(tmp_path), words="goes")
        eventually(lambda: len(marks(tmp_path, "gather")) == 2)
        goes.cancel()
        eventually(lambda: goes.refresh().state == "cancelled")
        (tmp_path / "go").touch()

        assert stays.wait(60) == marks(tmp_path, "gather")[0]


def test_a_step_that_cannot_be_stopped_is_abandoned(tmp_path: Path) -> None:
    """It is fenced off; its process takes nothing new, lets the others end, and is replaced."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        client = program.client()
        stuck = client.start("stubborn", folder=str(tmp_path), words="stuck")
        stays = client.start("gather", folder=str(tmp_path), words="stays")
        (old,) = eventually(lambda: marks(tmp_path, "stubborn"))
        eventually(lambda: marks(tmp_path, "gather"))
        stuck.cancel()
        eventually(lambda: stuck.refresh().state == "cancelled")
        program.wait_for("1/it does not stop, and is abandoned")
        path = f"/runs/{stuck.number}/steps"
        (attempt,) = client.call(Request("GET", path, query={"address": "it"}))["attempts"]
        assert "was abandoned" in attempt["error"]["message"]
        newer = client.start("gather", folder=str(tmp_path), words="newer")
        eventually(lambda: len(marks(tmp_path, "gather")) == 2)
        (tmp_path / "go").touch()

        assert stays.wait(60) == old
        assert newer.wait(60) != old
        eventually(lambda: not Path(f"/proc/{old}").exists())
