"""What is around the work, with real processes: wrappers, new code, workers in the background."""

from __future__ import annotations

import json
import os
import signal
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import Program, ServiceProgram, eventually, run_command, service
from yarnloom.client import Client, Request

pytestmark = pytest.mark.slow

AROUND = "tests.around_loom:loom"

CODE = """
import threading
from pathlib import Path
from yarnloom import Loom, each, item, step

loom = Loom("changing")

@loom.task
def work(number: int) -> str:
    Path("begun-{version}").touch()
    if number == 0:
        pause = threading.Event()
        while not Path("go").exists():
            pause.wait(0.01)
    return "{version}"

loom.workflow("one", plan=step("it", work, number={number}))
loom.workflow("many", plan=each("all", over=list(range(1, 60)), do=step("it", work, number=item())))
"""


def noted(folder: Path) -> list[str]:
    """What has happened."""
    path = folder / "noted"
    return path.read_text().splitlines() if path.exists() else []


def write(folder: Path, version: str, number: int = 1) -> None:
    """Write a version of the code, as an editor does: all at once."""
    path = folder / "changing.py"
    text = CODE.replace("{version}", version).replace("{number}", str(number))
    path.with_suffix(".new").write_text(text)
    path.with_suffix(".new").replace(path)


def worker(client: Client, name: str) -> dict[str, Any]:
    """A worker as the service sees it."""
    workers = client.call(Request("GET", "/workers"))["workers"]
    found: dict[str, Any] = next((one for one in workers if one["name"] == name), {})
    return found


def code_of(client: Client, number: int, address: str = "it") -> list[str]:
    """The code that each attempt of a step ran."""
    query = {"address": address}
    step = client.call(Request("GET", f"/runs/{number}/steps", query=query))
    return [attempt["code_hash"] for attempt in step["attempts"] if attempt["begun_at"]]


# Around attempts and processes


def test_every_kind_of_task_is_wrapped_and_processes_are_set_up_and_torn_down(
    tmp_path: Path,
) -> None:
    """A process alone, a thread and a coroutine each see their own session and what is kept."""
    data, env = tmp_path / "data", {"AROUND_FOLDER": str(tmp_path)}
    with service(data, "--load", AROUND, "--processes", "1", env=env) as program:
        client = program.client()
        runs = [client.start("sees") for _ in range(5)]
        for run in runs:
            run.wait(60)
            for label, kept in (("alone", "kept"), ("thread", "kept"), ("async", "async kept")):
                seen = client.call(
                    Request("GET", f"/runs/{run.number}/steps", query={"address": label})
                )["output"]
                address = f"{run.number}/{label}"
                assert seen == [address, f"session of {address}", kept]
    lines = noted(tmp_path)
    # One process that runs one at a time, one that is shared, which sets up both.
    assert sum(line.startswith("set up") for line in lines) == 2
    assert sum(line.startswith("async set up") for line in lines) == 1
    assert sum(line.startswith("torn down") for line in lines) == 2
    assert sum(line.startswith("async torn down") for line in lines) == 1
    assert sum(line.startswith("committed") for line in lines) == 15


def test_errors_in_wrappers_are_shown_as_what_they_are(tmp_path: Path) -> None:
    """Before the task, after it, and beside its own."""
    data, env = tmp_path / "data", {"AROUND_FOLDER": str(tmp_path)}
    with service(data, "--load", AROUND, env=env) as program:
        client = program.client()
        (tmp_path / "refused").touch()
        before = eventually(lambda: _ended(client.start("one")))
        (tmp_path / "refused").unlink()
        (tmp_path / "unclean").touch()
        after = eventually(lambda: _ended(client.start("one")))
        (tmp_path / "unclean").unlink()
        own = eventually(lambda: _ended(client.start("fails")))
        assert "around_attempt 'session' failed before the task was called" in before
        assert "PermissionError: no session" in before
        assert "failed after the task had returned: OSError: the commit failed" in after
        assert own == "the task itself"
        eventually(lambda: "told of 3: the task itself" in noted(tmp_path))
    assert "rolled back 3/it" in noted(tmp_path)


def _ended(run: Any) -> str:
    """Why a run failed."""
    error = eventually(lambda: run.refresh().data["error"])
    return str(error["message"])


def test_a_process_that_cannot_be_set_up_is_tried_again_and_said(tmp_path: Path) -> None:
    """The worker is there with no place; `workers` and `why` say what is wrong; then it heals."""
    data, env = tmp_path / "data", {"AROUND_FOLDER": str(tmp_path)}
    (tmp_path / "down").touch()
    with service(data, "--load", AROUND, env=env) as program:
        client = program.client()
        said = "around_process 'connections' failed to set up: ConnectionError: the database is"
        trouble = eventually(lambda: worker(client, "w1").get("trouble"))
        assert said in trouble
        program.wait_for(said)
        run = client.start("one")
        waits = client.call(Request("GET", f"/runs/{run.number}/why"))["waits"]
        assert waits[0]["reasons"][0]["kind"] == "trouble"
        assert said in waits[0]["reasons"][0]["text"]
        shown = run_command("workers", url=program.url).stdout
        assert "around_process" in shown
        (tmp_path / "down").unlink()
        run.wait(60)
        eventually(lambda: worker(client, "w1")["trouble"] is None)


# New code


def test_new_code_runs_with_the_next_attempt_and_none_is_lost(tmp_path: Path) -> None:
    """What runs finishes with the old; each attempt shows the code that it ran."""
    write(tmp_path, "old")
    arguments = ("--load", "changing:loom", "--processes", "2", "--reload")
    with service(tmp_path / "data", *arguments, cwd=tmp_path) as program:
        program.wait_for("watches the code in")
        client = program.client()
        client.call(Request("GET", "/workers"))
        holding = client.start("work", number=0)
        eventually((tmp_path / "begun-old").exists)
        write(tmp_path, "new", number=2)
        program.wait_for("new code is loaded")
        eventually(lambda: client.start("one").wait(60) == "new")
        assert next(client.runs(workflow="one")).data["params"] == {}
        assert holding.refresh().state == "running"
        (tmp_path / "go").touch()
        assert holding.wait(60) == "old"
        newest = next(client.runs(workflow="one")).number
        old, new = code_of(client, holding.number, "work"), code_of(client, newest)
        assert (len(old), len(new)) == (1, 1)
        assert old != new
        for number, label, code, version in (
            (holding.number, "work", old[0], "old"),
            (newest, "it", new[0], "new"),
        ):
            query = {"name": "changing/work", "code": code}
            assert (
                f'return "{version}"'
                in client.call(Request("GET", "/tasks", query=query))["source"]
            )
            assert code_of(client, number, label) == [code]


def test_a_change_while_the_code_is_loaded_is_not_missed(tmp_path: Path) -> None:
    """Processes have read the file as it was before."""
    holds = """
while Path("hold").exists():
    Path("loading").touch()
    threading.Event().wait(0.01)
"""
    held = CODE.replace("loom = Loom", f"{holds}loom = Loom").replace("{number}", "1")
    (tmp_path / "changing.py").write_text(held.replace("{version}", "old"))
    with service(tmp_path / "data") as program:
        loom = "changing:loom"
        assert run_command("publish", loom, url=program.url, cwd=tmp_path).returncode == 0
        (tmp_path / "hold").touch()
        options = ("--load", loom, "--processes", "1", "--reload", "--url", program.url)
        worker = Program("worker", *options, cwd=tmp_path)
        eventually((tmp_path / "loading").exists)
        write(tmp_path, "new")
        (tmp_path / "hold").unlink()
        eventually(lambda: program.client().start("one").wait(60) == "new")
        assert worker.end() == 0


def test_a_change_within_the_second_of_the_last_is_loaded(tmp_path: Path) -> None:
    """Also where it has as many characters: compiled code of the other must not be taken for it."""
    arguments = ("--load", "changing:loom", "--processes", "2", "--reload")
    write(tmp_path, "v1")
    path = tmp_path / "changing.py"
    with service(tmp_path / "data", *arguments, cwd=tmp_path) as program:
        program.wait_for("watches the code in")
        client = program.client()
        for version in ("v2", "v3"):
            before = path.stat()
            write(tmp_path, version)
            os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns + 1_000))
            assert path.stat().st_size == before.st_size
            eventually(lambda v=version: client.start("one").wait(60) == v)


def test_many_changes_under_load_lose_nothing(tmp_path: Path) -> None:
    """While runs go on the code changes again and again; each step ends once, with some version."""
    write(tmp_path, "v0")
    arguments = ("--load", "changing:loom", "--processes", "2", "--reload")
    with service(tmp_path / "data", *arguments, cwd=tmp_path) as program:
        program.wait_for("watches the code in")
        client = program.client()
        runs = []
        for change in range(1, 4):
            runs += [client.start("many") for _ in range(4)]
            write(tmp_path, f"v{change}")
            eventually(lambda c=change: program.text.count("new code is loaded") >= c)
        found = {value for run in runs for value in run.wait(120)}
        assert found <= {"v0", "v1", "v2", "v3"}
        assert len(found) > 1
        items = client.call(
            Request("GET", f"/runs/{runs[-1].number}/items", query={"address": "all", "limit": 500})
        )["items"]
        assert {item["state"] for item in items} == {"done"}
        # A change can be seen twice, so the third time that code was loaded need not be the last.
        eventually(lambda: set(client.start("many").wait(60)) == {"v3"})
        assert set(client.start("many").wait(60)) == {"v3"}


def test_code_that_cannot_be_loaded_leaves_the_old_at_work(tmp_path: Path) -> None:
    """It is said, and the next that can be loaded takes over."""
    write(tmp_path, "old")
    arguments = ("--load", "changing:loom", "--processes", "1", "--reload")
    with service(tmp_path / "data", *arguments, cwd=tmp_path) as program:
        program.wait_for("watches the code in")
        client = program.client()
        (tmp_path / "changing.py").write_text("def broken(:\n")
        program.wait_for("the changed code cannot be loaded; what was loaded goes on")
        assert client.start("one").wait(60) == "old"
        write(tmp_path, "new")
        program.wait_for("new code is loaded")
        eventually(lambda: client.start("one").wait(60) == "new")


def test_two_generations_stand_side_by_side_while_one_is_drained(tmp_path: Path) -> None:
    """A rolling update: new workers come, old ones are drained, and every step ends once."""
    folders = {version: tmp_path / version for version in ("old", "new")}
    for version, folder in folders.items():
        folder.mkdir()
        write(folder, version)
    with service(tmp_path / "data") as program:
        env = {"YARNLOOM_URL": program.url}
        client = program.client()
        begun = {}
        for version, folder in folders.items():
            load = ("worker", "--load", "changing:loom", "--name", version, "--processes", "1")
            publish = ("--publish",) if version == "old" else ()
            begun[version] = Program(*load, *publish, env=env, cwd=folder)
            begun[version].wait_for("takes work from")
        runs = [client.start("many") for _ in range(3)]
        eventually((folders["new"] / "begun-new").exists)
        eventually((folders["old"] / "begun-old").exists)
        assert run_command("worker", "drain", "old", url=program.url).returncode == 0
        assert begun["old"].process.wait(60) == 0
        values = [value for run in runs for value in run.wait(60)]
        assert len(values) == 3 * 59
        assert set(values) == {"old", "new"}
        assert client.start("one").wait(60) == "new"
        # A worker that comes makes nothing current; publishing does.
        assert client.run(runs[0].number).data["version"] == client.start("many").data["version"]
        begun["new"].end()


# In the background


def test_a_worker_in_the_background_works_is_listed_and_ends(tmp_path: Path) -> None:
    """The command that began it returns; its name is taken meanwhile; a kill is noticed."""
    write(tmp_path, "old")
    with service(tmp_path / "data", cwd=tmp_path) as program:
        more = {
            "url": program.url,
            "cwd": tmp_path,
            "env": {"XDG_STATE_HOME": str(tmp_path / "state")},
        }
        load = ("worker", "--load", "changing:loom", "--publish", "--detach", "--name", "back")
        begun = run_command(*load, **more)
        assert begun.returncode == 0, begun.stderr
        assert "in the background and takes work" in begun.stdout
        assert program.client().start("one").wait(60) == "old"
        assert "is there already" in run_command(*load, **more).stderr
        listed = json.loads(run_command("worker", "status", "--json", **more).stdout)["workers"]
        assert [one["name"] for one in listed] == ["back"]
        assert "takes work from" in Path(listed[0]["log"]).read_text()
        stopped = run_command("worker", "stop", "back", **more)
        assert (stopped.returncode, stopped.stdout) == (0, "worker back has ended\n")
        assert run_command("worker", "status", "back", **more).returncode == 1
        assert "no worker back is" in run_command("worker", "stop", "back", **more).stderr

        assert run_command(*load, **more).returncode == 0
        listed = json.loads(run_command("worker", "status", "--json", **more).stdout)["workers"]
        os.kill(listed[0]["pid"], signal.SIGKILL)
        eventually(lambda: run_command("worker", "status", "back", **more).returncode == 1)


def test_a_worker_that_cannot_begin_says_why(tmp_path: Path) -> None:
    """With the end of its log."""
    more = {"cwd": tmp_path, "env": {"XDG_STATE_HOME": str(tmp_path / "state")}}
    begun = run_command("worker", "--load", "nothing:loom", "--detach", "--name", "x", **more)
    assert begun.returncode == 5
    assert "there is no module 'nothing'" in begun.stderr
    assert run_command("worker", "status", "x", **more).returncode == 1
    assert (
        "letters, digits"
        in run_command(
            *("worker", "--load", "nothing:loom", "--detach", "--name", "../x"), **more
        ).stderr
    )


# By the clock, for real


def test_a_schedule_fires_and_a_run_starts_later_through_a_kill(tmp_path: Path) -> None:
    """What is planned within the minute comes although the service was killed before."""
    data = tmp_path / "data"
    program = ServiceProgram(data, "--load", "tests.looms:loom")
    client = program.client()
    later = client.start("sums", number=1, after="2s")
    assert later.state == "scheduled"
    minutely = client.make_schedule("sums", name="minutely", cron="* * * * *", params={"number": 5})
    program.kill()
    with service(data, "--load", "tests.looms:loom", port=program.port) as program:
        client = program.client()
        assert client.run(later.number).wait(60) == 3
        (fired,) = eventually(lambda: list(client.runs(schedule="minutely")), patience=90)
        assert fired.wait(60) == 7
        assert fired.details.planned_at == minutely.next_at
