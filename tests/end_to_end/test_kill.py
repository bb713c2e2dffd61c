"""Killing: every process, at bad moments. None of these tests calls a stop function first."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from tests.helpers import (
    LOOM,
    Program,
    ServiceProgram,
    eventually,
    processes_with,
    run_command,
    service,
)
from yarnloom import Client, Run
from yarnloom.client import Request
from yarnloom.errors import RunFailed

pytestmark = pytest.mark.slow

OUTPUT = "begun, held, finished"
LAST_ITEM = {"address": "harbours", "cursor": 149}


def marks(folder: Path, name: str) -> list[int]:
    """Which processes left a mark."""
    path = folder / name
    return [int(line) for line in path.read_text().splitlines()] if path.exists() else []


def publish(program: ServiceProgram, loom: str = LOOM) -> None:
    """Publish a loom."""
    done = run_command("publish", loom, url=program.url)
    assert done.returncode == 0, done.stderr


def outcomes(run: Run, step: str) -> list[str | None]:
    """How the attempts of a step ended."""
    found = run._client.call(Request("GET", f"/runs/{run.number}/steps", query={"address": step}))
    return [attempt["outcome"] for attempt in found["attempts"]]


def test_a_run_survives_the_service_killed_right_after_start(tmp_path: Path) -> None:
    """What `start` acknowledged is there after kill -9, and ends."""
    data = tmp_path / "data"
    with service(data) as first:
        publish(first)
        number = first.client().start("sums", number=1).number
        first.kill()
    with service(data, "--load", LOOM, port=first.port) as second:
        output = second.client().run(number).wait(60)

    assert output == 3


def test_a_step_survives_its_process(tmp_path: Path) -> None:
    """A process killed in the middle of a step is a loss; the step runs again and the run ends."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        run = program.client().start("held", folder=str(tmp_path))
        (child,) = eventually(lambda: marks(tmp_path, "hold"))
        os.kill(child, signal.SIGKILL)
        eventually(lambda: len(marks(tmp_path, "hold")) == 2)
        (tmp_path / "go").touch()

        assert run.wait(60) == OUTPUT
        assert outcomes(run, "hold") == ["lost", "done"]
        assert len(marks(tmp_path, "begin")) == 1


def test_a_step_that_always_kills_its_process_fails(tmp_path: Path) -> None:
    """After three losses that are borne, the fourth fails the step, and says so."""
    (tmp_path / "always").touch()
    with service(tmp_path / "data", "--load", LOOM) as program:
        run = program.client().start("dies", folder=str(tmp_path))
        with pytest.raises(RunFailed, match=r"lost 4 times.*SIGKILL"):
            run.wait(60)

        assert outcomes(run, "die") == ["lost"] * 4


def test_a_step_survives_its_worker(tmp_path: Path) -> None:
    """A worker killed with -9 takes all its processes along; another one runs the step."""
    mark = f"YARNLOOM_TEST_MARK={tmp_path}"
    env = {"YARNLOOM_TEST_MARK": str(tmp_path)}
    with service(tmp_path / "data", "--load", LOOM, env=env) as program:
        run = program.client().start("spawns", folder=str(tmp_path))
        (child,) = eventually(lambda: marks(tmp_path, "spawn"))
        grandchildren = eventually(lambda: [p for p in processes_with(mark) if _parent(p) == child])
        os.kill(_parent(child), signal.SIGKILL)
        program.wait_for(r"worker w1 ended with signal 9; another one is started")
        eventually(lambda: len(marks(tmp_path, "spawn")) == 2)
        eventually(lambda: not {child, *grandchildren} & set(processes_with(mark)))

        assert outcomes(run, "spawn") == ["lost", None]
        run.cancel()
    eventually(lambda: not processes_with(mark), "no process is left behind")


def _parent(process: int) -> int:
    return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[1])


def test_a_service_killed_with_its_workers_leaves_no_process_behind(tmp_path: Path) -> None:
    """Workers of a killed service deliver to its successor, and end."""
    mark = f"YARNLOOM_TEST_MARK={tmp_path}"
    env = {"YARNLOOM_TEST_MARK": str(tmp_path)}
    data = tmp_path / "data"
    with service(data, "--load", LOOM, env=env) as first:
        run = first.client().start("held", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path, "hold"))
        first.kill()
    (tmp_path / "go").touch()
    eventually(lambda: marks(tmp_path, "held"))
    with service(data, "--load", LOOM, port=first.port, env=env) as second:
        again = second.client().run(run.number)

        assert again.wait(60) == OUTPUT
        assert outcomes(again, "hold") == ["done"]
        assert len(marks(tmp_path, "hold")) == 1
    eventually(lambda: not processes_with(mark), "no process is left behind")


def test_a_step_goes_on_while_the_service_is_away(tmp_path: Path) -> None:
    """The step ends while the service is away, and its result is there afterwards."""
    data = tmp_path / "data"
    with service(data) as first:
        publish(first)
        worker = Program("worker", "--load", LOOM, "--url", first.url, "--name", "steady")
        run = first.client().start("held", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path, "hold"))
        first.kill()
    try:
        worker.wait_for("waiting for the service")
        (tmp_path / "go").touch()
        eventually(lambda: marks(tmp_path, "held"))
        with service(data, port=first.port) as second:
            again = second.client().run(run.number)

            assert again.wait(60) == OUTPUT
            assert outcomes(again, "hold") == ["done"]
            assert [len(marks(tmp_path, name)) for name in ("begin", "hold", "finish")] == [1, 1, 1]
            worker.wait_for("answers again")
    finally:
        assert worker.end() == 0


def test_a_cut_off_worker_ends_what_must_not_overlap(tmp_path: Path) -> None:
    """When its lease has ended, not when the service is back."""
    data = tmp_path / "data"
    with service(data, "--lease", "3") as first:
        publish(first)
        worker = Program("worker", "--load", LOOM, "--url", first.url)
        run = first.client().start("alones", folder=str(tmp_path))
        eventually(lambda: marks(tmp_path, "alone"))
        first.kill()
    try:
        worker.wait_for(r"cut off for a whole lease, ends 1/alone")
        (child,) = marks(tmp_path, "alone")
        eventually(lambda: not Path(f"/proc/{child}").exists())
        with service(data, port=first.port) as second:
            again = second.client().run(run.number)

            assert again.wait(60) == "alone"
            assert outcomes(again, "alone") == ["lost", "done"]
    finally:
        assert worker.end() == 0


def test_a_cancelled_step_that_cannot_hear_is_interrupted(tmp_path: Path) -> None:
    """At once; its process lives on for the next step, and the run is cancelled."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        run = program.client().start("held", folder=str(tmp_path))
        (child,) = eventually(lambda: marks(tmp_path, "hold"))
        assert run.cancel("not needed any more").state == "cancelling"
        eventually(lambda: run.refresh().state == "cancelled")

        assert Path(f"/proc/{child}").exists()
        assert outcomes(run, "hold") == ["cancelled"]
        assert "not needed any more" in run.data["error"]["message"]
        assert not marks(tmp_path, "finish")


def test_a_cancelled_step_that_looks_ends_by_itself(tmp_path: Path) -> None:
    """`ctx.check()` raises, and the process lives on for the next step."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        run = program.client().start("heeds", folder=str(tmp_path))
        (child,) = eventually(lambda: marks(tmp_path, "heed"))
        run.cancel()
        eventually(lambda: run.refresh().state == "cancelled")

        assert outcomes(run, "heed") == ["cancelled"]
        assert Path(f"/proc/{child}").exists()


def test_a_list_survives_the_service(tmp_path: Path) -> None:
    """Killed in the middle of an each, it goes on where it was: every item is done, once."""
    data, harbours = tmp_path / "data", [f"harbour-{number}" for number in range(150)]
    with service(data) as first:
        publish(first)
        worker = Program("worker", "--load", LOOM, env={"YARNLOOM_URL": first.url})
        run = first.client().start("coast", harbours=harbours)

        def progress(client: Client) -> dict[str, int]:
            graph = client.call(Request("GET", f"/runs/{run.number}/graph"))
            found: dict[str, int] = graph["parts"][0]["counts"]
            return found

        eventually(lambda: progress(first.client())["done"] > 20)
        first.kill()
    with service(data, port=first.port) as second:
        client = second.client()
        output = client.run(run.number).wait(120)
        steps = client.call(Request("GET", f"/runs/{run.number}/items", query=LAST_ITEM))
        counts = progress(client)
        worker.end(2)

    assert output == "all is well"
    assert (counts["done"], counts["total"]) == (150, 150)
    assert steps["items"][0]["name"] == "harbour-149"


def test_choices_and_fallbacks_survive_the_service(tmp_path: Path) -> None:
    """Killed among choices, fallbacks and heavy steps, each guest gets the right one."""
    data, loom = tmp_path / "data", "docs.examples.tickets:loom"
    guests = [
        {"name": f"guest-{n}", "seats": 9 if n % 3 == 0 else 2, "way": "desk" if n % 2 else "post"}
        for n in range(150)
    ]
    with service(data) as program:
        publish(program, loom)
        worker = Program("worker", "--load", loom, env={"YARNLOOM_URL": program.url})
        run = program.client().start("send-tickets", guests=guests).number
        port = program.port
        program.kill()
    for least in (20, 60, 100):
        with service(data, port=port) as program:
            client = program.client()

            def is_far(client: Client = client, least: int = least) -> bool:
                graph = client.call(Request("GET", f"/runs/{run}/graph"))
                done: int = graph["parts"][0]["counts"]["done"]
                return done > least

            eventually(is_far)
            program.kill()
    with service(data, port=port) as program:
        output = program.client().run(run).wait(120)
        worker.end(2)
    expected = []
    for guest in guests:
        shown = f"For {guest['name']} / 2 seats" if guest["seats"] == 2 else "no ticket"
        mailed = f"mailed to {guest['name']}: {shown}"
        expected.append(mailed if guest["way"] == "post" else f"kept at the desk: {shown}")
    assert output == expected
    verified = run_command("verify", "--data", str(data))
    assert verified.returncode == 0, verified.stdout + verified.stderr
