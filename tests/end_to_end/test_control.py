"""Long steps under control, with real processes: stopped, killed, resumed, and never done twice."""

from __future__ import annotations

import os
import random
import signal
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests import raw_http
from tests.end_to_end.test_kill import _parent
from tests.helpers import ServiceProgram, eventually, much, processes_with, service
from tests.long_loom import lines
from yarnloom import Run
from yarnloom.client import Request
from yarnloom.errors import RunFailed, StartKeyTaken

pytestmark = pytest.mark.slow

LOOM = "tests.long_loom:loom"
POINTS = much(6, 50)
EVERY = 5


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    data = tmp_path_factory.mktemp("data")
    with service(data, "--load", LOOM, "--processes", "2") as found:
        yield found


def ask(run: Run, path: str, **query: Any) -> Any:
    """What the service answers about a run."""
    return run._client.call(Request("GET", f"/runs/{run.number}{path}", query=query))


def walked(folder: Path, more_than: int) -> int:
    """How many items were walked, once they are more."""
    return eventually(
        lambda: (
            len(found) > more_than and len(found) if (found := lines(str(folder), "walked")) else 0
        )
    )


def test_a_loop_goes_on_where_it_was_at_fifty_points(tmp_path: Path) -> None:
    """Paused, its process killed, its worker killed: repeats and counts are as the rules say."""
    chance, bound = random.Random(5), 0
    with service(tmp_path / "data", "--load", LOOM, "--processes", "1") as program:
        run = program.client().start(
            "walk", folder=str(tmp_path), count=30 * POINTS, every=EVERY, pause=0.002
        )
        for point in range(POINTS):
            walked(tmp_path, len(lines(str(tmp_path), "walked")) + chance.randrange(20))
            what = ("pause", "child", "worker")[point % 3 if point % 9 else 0]
            child = int(lines(str(tmp_path), "began")[-1])
            if what == "pause":
                run.pause("point")
                eventually(lambda: run.refresh().state == "paused")
                if point % 2:
                    os.kill(child, signal.SIGKILL)
                run.resume()
            elif what == "child":
                os.kill(child, signal.SIGKILL)
            else:
                before = len(lines(str(tmp_path), "began"))
                os.kill(_parent(child), signal.SIGKILL)
                bound += EVERY + 1  # and the item that was under way
                eventually(lambda n=before: len(lines(str(tmp_path), "began")) > n)
        run.wait(120)
        step = run.step("go")

    repeats = Counter(lines(str(tmp_path), "walked"))
    assert sorted(map(int, repeats)) == list(range(30 * POINTS)), "an item was left out"
    kills = sum(attempt["outcome"] == "lost" for attempt in step.data["attempts"])
    # A killed process repeats at most the item that it was at, which had not finished.
    assert sum(repeats.values()) - 30 * POINTS <= bound + kills
    assert step.progress is not None
    assert step.progress.done == 30 * POINTS
    assert (step.progress.added, step.progress.skipped) == (*(30 * POINTS, 15 * POINTS),)


@pytest.mark.parametrize("workflow", ["walk-io", "walk-async"])
def test_tasks_that_share_a_process_are_paused_too(
    program: ServiceProgram, tmp_path: Path, workflow: str
) -> None:
    """Threads and coroutines; where they stopped stays to be seen."""
    run = program.client().start(workflow, folder=str(tmp_path), count=400, pause=0.005)
    walked(tmp_path, 20)
    run.pause()
    eventually(lambda: run.refresh().state == "paused")
    progress = run.step("go").progress
    at = progress.done if progress else None

    assert run.step("go").state == "paused"
    assert at == len(lines(str(tmp_path), "walked"))
    run.resume()
    run.wait(60)
    assert lines(str(tmp_path), "walked") == [str(number) for number in range(400)]


def test_each_letter_is_sent_once_whatever_happens(tmp_path: Path) -> None:
    """Cancelled, mended, its process and worker killed in the middle of sending."""
    folder = str(tmp_path)
    with service(tmp_path / "data", "--load", LOOM, "--processes", "1") as program:
        client = program.client()
        run = client.start("mail-all", folder=folder, count=60, pause=0.01)
        for point in range(8):
            eventually(lambda n=point: len(lines(folder, "mailbox")) >= 6 * n + 3)
            child = eventually(lambda: _running_child(run))
            match point % 4:
                case 0:
                    os.kill(child, signal.SIGKILL)
                case 1:
                    run.cancel("in the middle")
                    eventually(lambda: run.refresh().state == "cancelled")
                    run.mend("go on")
                case 2:
                    os.kill(_parent(child), signal.SIGKILL)
                    program.wait_for("another one is started")
                case _:
                    run.pause()
                    eventually(lambda: run.refresh().state == "paused")
                    run.resume()
        run.wait(120)
        ledger = ask(run, "/ledger")

    sent = Counter(line.split()[0] for line in lines(folder, "mailbox"))
    assert sent == {str(number): 1 for number in range(60)}
    assert {effect["state"] for effect in ledger["effects"]} == {"done"}
    assert len(ledger["effects"]) == 60


def _running_child(run: Run) -> int | None:
    attempts = run.step("go").data["attempts"]
    return attempts[-1]["pid"] if attempts and attempts[-1]["outcome"] is None else None


def test_what_is_saved_by_hand_is_restored(program: ServiceProgram, tmp_path: Path) -> None:
    """A checkpoint is where it stops, and where it goes on."""
    run = program.client().start("remembers", folder=str(tmp_path))
    eventually(lambda: len(lines(str(tmp_path), "saved")) > 10)
    run.pause()
    eventually(lambda: run.refresh().state == "paused")
    run.resume()
    eventually(lambda: len(lines(str(tmp_path), "restored")) == 2)
    run.cancel()

    first, second = lines(str(tmp_path), "restored")
    assert first == "None"
    assert int(second) >= 10


def test_work_is_called_again_and_old_attempts_are_folded(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """What it carries comes back; only the newest twenty are shown."""
    run = program.client().start("page", folder=str(tmp_path))

    assert run.wait(60) == 30
    step = run.step("go").data
    assert (len(step["attempts"]), step["folded"]) == (21, 9)
    assert [attempt["outcome"] for attempt in step["attempts"][-2:]] == ["called_again", "done"]


def test_a_stubborn_step_is_killed_with_all_that_it_started(tmp_path: Path) -> None:
    """After its grace; what it started goes with it, also where the step itself heard at last."""
    mark = f"YARNLOOM_TEST_MARK={tmp_path}"
    env = {"YARNLOOM_TEST_MARK": str(tmp_path)}
    with service(tmp_path / "data", "--load", LOOM, env=env) as program:
        run = program.client().start("stubborn", folder=str(tmp_path))
        (child,) = eventually(lambda: lines(str(tmp_path), "stubborn"))
        below = eventually(lambda: [p for p in processes_with(mark) if _parent(p) == int(child)])
        run.step("go").cancel("it hangs")
        eventually(lambda: run.refresh().state == "failed")
        eventually(lambda: not {int(child), *below} & set(processes_with(mark)))

        assert run.data["error"]["message"].endswith("it hangs")


def test_everything_that_is_printed_belongs_to_its_attempt(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """By Python, C code, a subprocess and a thread; and what is published is kept apart too."""
    run = program.client().start("noisy", folder=str(tmp_path))
    run.wait(60)
    found = ask(run, "/log", address="go")["lines"]

    texts = {(one["stream"], one["text"]) for one in found}
    assert texts >= {
        ("stdout", "from Python"),
        ("stderr", "from Python, as an error"),
        ("stdout", "from C"),
        ("stdout", "from a subprocess"),
        ("stdout", "from a thread"),
        ("log", "from the log"),
        ("published", '{"part": 1}'),
    }
    assert [entry.value for entry in run.published()] == [{"part": 1}, "the end"]


def test_what_prints_without_end_slows_only_itself(tmp_path: Path) -> None:
    """Others of the same worker go on, and what was dropped is said."""
    with service(tmp_path / "data", "--load", LOOM, "--processes", "2") as program:
        client = program.client()
        run = client.start("flood", folder=str(tmp_path))
        eventually(lambda: lines(str(tmp_path), "flood"))
        others = [client.start("walk", folder=str(tmp_path), count=20) for _ in range(5)]
        for other in others:
            assert other.wait(60) == 20

        def said() -> bool:
            return any(one["stream"] == "yarnloom" for one in _last(run))

        eventually(said)
        run.cancel()
        eventually(lambda: run.refresh().state == "cancelled")
        assert sum(len(one["text"]) for one in _whole(run)) < 5 * 2**20


def _whole(run: Run) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    while page := ask(run, "/log", address="go", after=len(found), limit=10_000)["lines"]:
        found += page
    return found


def _last(run: Run) -> list[dict[str, Any]]:
    return _whole(run)[-3:]


@pytest.mark.parametrize("leak", ["raise", "return", "print"])
def test_a_secret_is_nowhere_in_clear(tmp_path: Path, leak: str) -> None:
    """Not in what is printed, raised, returned, shown or stored; the task itself gets it."""
    secret = "sea-serpent-417"
    data = tmp_path / "data"
    with service(data, "--load", LOOM) as program:
        client = program.client()
        run = client.start(f"secret-{leak}", folder=str(tmp_path), phrase=secret)
        if leak == "print":
            assert run.wait(60) == "kept"
        else:
            with pytest.raises(RunFailed):
                run.wait(60)
        again = run.rerun(folder=str(tmp_path))
        eventually(lambda: again.refresh().state in ("done", "failed"))
        same = {"folder": str(tmp_path), "phrase": secret}
        assert client.start(f"secret-{leak}", same, key=run.data["key"]).number == run.number
        with pytest.raises(StartKeyTaken) as taken:
            client.start(f"secret-{leak}", same | {"phrase": "another"}, key=run.data["key"])
        shown = [run.refresh().data, run.step("go").data, list(run.published()), _whole(run)]
        shown += [taken.value.facts, ask(run, "/graph"), ask(run, "/commands"), again.data]

    assert lines(str(tmp_path), "length") == [str(len(secret))] * 2
    assert secret not in repr(shown)
    assert "•••" in repr(shown)
    stored = [path for path in data.rglob("*") if path.is_file()]
    assert not [path for path in stored if secret.encode() in path.read_bytes()]


def test_a_lost_connection_of_a_browser_misses_nothing(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """A link gives state and what is published, from where it was cut off, and only of its run."""
    from httpx_sse import connect_sse

    run = program.client().start("noisy", folder=str(tmp_path))
    run.wait(60)
    link = run.link("1h")
    base = program.url

    def events(last: str = "") -> list[tuple[str, str, Any]]:
        headers = {"Origin": "http://shop.example", **({"Last-Event-ID": last} if last else {})}
        found = []
        with (
            raw_http.Client() as http,
            connect_sse(http, "GET", base + link.path, headers=headers) as source,
        ):
            assert source.response.headers["Access-Control-Allow-Origin"] == "*"
            for event in source.iter_sse():
                found.append((event.event, event.id, event.json()["data"]))
                if (
                    event.event == "yarnloom.published"
                    and event.json()["data"]["value"] == "the end"
                ):
                    return found
        return found

    everything = events()
    assert [kind for kind, _, _ in everything] == [
        "yarnloom.run.changed",
        "yarnloom.published",
        "yarnloom.published",
    ]
    assert "params" not in everything[0][2]
    first = everything[1]
    assert [data for _, _, data in events(first[1])][1:] == [everything[2][2]]
    number, _, rest = link.token.partition(".")
    other = f"{int(number) + 1}.{rest}"
    for token in (other, "1.99999999999.x", "nonsense"):
        assert raw_http.get(f"{base}/api/v1/links/{token}/events").status_code == 403
    soon = raw_http.post(f"{base}/api/v1/runs/{run.number}/links", json={"seconds": 0.001}).json()
    eventually(lambda: raw_http.get(f"{base}{soon['path']}").status_code == 403)


def test_a_cancel_is_heard_soon(program: ServiceProgram, tmp_path: Path) -> None:
    """By a step that looks; the bench says how soon."""
    run = program.client().start("watches", folder=str(tmp_path))
    eventually(lambda: lines(str(tmp_path), "watches"))
    run.cancel()
    eventually(lambda: lines(str(tmp_path), "heard") == ["cancel"])
    eventually(lambda: run.refresh().state == "cancelled")
