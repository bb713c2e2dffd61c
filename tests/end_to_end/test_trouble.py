"""Finding trouble and changing one's mind, over HTTP, with the client and on the command line."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command, service
from yarnloom import Client
from yarnloom.errors import Conflict

LOOM = "tests.trouble_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service whose worker has one place."""
    with service(tmp_path_factory.mktemp("trouble"), "--load", LOOM, "--processes", "1") as found:
        yield found


@pytest.fixture
def client(program: ServiceProgram) -> Iterator[Client]:
    """A client of it."""
    with program.client() as found:
        yield found


def stuck(program: ServiceProgram) -> dict[int, list[str]]:
    """By run the reasons for which the overview says that it is stuck."""
    found = raw_http.get(f"{program.url}/api/v1/overview", trust_env=False).json()["stuck"]
    return {one["run"]: one["reasons"] for one in found}


def test_a_task_that_waits_for_a_run_on_the_only_place_is_named(
    program: ServiceProgram, client: Client
) -> None:
    """By `why`, and in the overview; with another place both go on."""
    outer = client.start("outer", url=program.url)
    inner = eventually(lambda: list(client.runs(workflow="inner")))[0]
    said = eventually(lambda: stuck(program).get(inner.number))
    assert f"held by run {outer.number}, in which a task waits for this run" in said[0]
    told = run_command("why", str(inner.number), url=program.url)
    assert "can never begin: the only place is held" in " ".join(told.stdout.split())
    told = run_command("why", str(outer.number), url=program.url)
    assert f"waits for run {inner.number}" in told.stdout
    outer.cancel(now=True)
    assert inner.wait(60) == 7


def test_a_task_that_says_nothing_is_shown_as_stuck(
    program: ServiceProgram, client: Client
) -> None:
    """With how far it was; and a worker that has nothing to do says since when."""
    run = client.start("ponders")
    said = eventually(lambda: stuck(program).get(run.number))
    assert said[0].startswith("is stuck: no word of progress for")
    assert said[0].endswith(", at 3")
    assert run.refresh().progress.text == "3 of 12 pages"
    run.cancel()
    assert run.wait(60) == 1  # it came to an end within its grace
    told = run_command("workers", url=program.url).stdout
    assert f"ran {run.number}/ponder#1 last" in told
    assert "idle" in told


def test_one_that_hangs_silently_is_stopped_and_tried_again(
    program: ServiceProgram, client: Client
) -> None:
    """In the middle of a call that hears nothing."""
    run = client.start("hangs-once")
    assert run.wait(60) == 2
    first = run.step("hang").data["attempts"][0]
    assert (first["outcome"], first["error"]["type"]) == ("failed", "Quiet")


def test_progress_is_told_everywhere_and_to_links_without_labels(
    program: ServiceProgram, client: Client
) -> None:
    """In the run, lists, `show`, `follow` and links the same."""
    run = client.start("reads")
    eventually(lambda: run.refresh().progress.seconds_left and run.progress.per_second)
    found = run.data["progress"]
    assert found["text"].endswith("of 10,000 pages, slowly")
    assert (found["address"], found["total"]) == ("read", 10_000)
    assert 0 <= found["fraction"] < 0.6
    assert (next(client.runs(workflow="reads")).progress.address) == "read"
    shown = run_command("show", str(run.number), url=program.url).stdout
    assert " left" in shown
    assert "of 10,000 pages, slowly" in " ".join(shown.split())
    assert "of 10,000 pages" in run_command("runs", url=program.url).stdout
    followed = next(iter(run.follow()))
    assert followed.progress.address == "read"
    link = run.link("5m").path.removesuffix("/events")
    linked = raw_http.get(program.url + link, trust_env=False).json()["progress"]
    assert linked["text"].endswith("of 10,000 pages, slowly")
    assert linked["address"] == ""
    run.pause()
    eventually(lambda: run.refresh().state == "paused")
    assert (run.progress.per_second, run.progress.seconds_left) == (None, None)
    run.cancel()


def test_a_run_is_changed_before_it_begins(program: ServiceProgram, client: Client) -> None:
    """Moved, preferred, tagged, and begun now."""
    later = datetime.now(UTC) + timedelta(hours=3)
    started = run_command("start", "inner", "--after", "1h", url=program.url)
    assert started.returncode == 0, started.stderr
    run = next(client.runs(states=("scheduled",)))
    run.change(at=later, priority=4, tags=["spring"])
    assert run.data["start_at"].startswith(f"{later:%Y-%m-%dT%H:%M:%S}")
    assert (run.data["priority"], run.data["tags"]) == (4, ["spring"])
    nothing = run_command("change", str(run.number), url=program.url)
    assert (nothing.returncode, "say what to change" in nothing.stderr) == (2, True)
    told = run_command("change", str(run.number), "--now", url=program.url)
    assert told.returncode == 0, told.stderr
    assert run.wait(60) == 7
    with pytest.raises(Conflict, match="is done, and cannot be changed any more"):
        run.change(priority=1)
    refused = raw_http.patch(f"{program.url}/api/v1/runs/{run.number}", json={}, trust_env=False)
    assert refused.status_code == 422


def test_a_failed_follow_up_is_found_and_retried(program: ServiceProgram, client: Client) -> None:
    """It stands beside its run, which is done."""
    run = client.start("tells")
    assert run.wait(60) == 7
    assert run.refresh().data["followups_failed"] == 1
    found = list(client.runs(followups_failed=True))
    assert [one.number for one in found] == [run.number]
    listed = run_command("runs", "--followups-failed", url=program.url).stdout
    assert str(run.number) in listed
    shown = run_command("show", str(run.number), url=program.url).stdout
    assert f"yarnloom step {run.number}/deliver/on_end/tell retry" in " ".join(shown.split())
    again = run_command("step", f"{run.number}/deliver/on_end/tell", "retry", url=program.url)
    assert again.returncode == 0, again.stderr
    eventually(lambda: run.refresh().state == "done")
    assert run.step("deliver/on_end/tell").data["attempts"][-1]["number"] == 2
    assert run.data["followups_failed"] == 1
