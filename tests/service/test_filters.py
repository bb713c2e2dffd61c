"""Saved filters: kept by name, and used by the list, by commands for many runs, and by name."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests import raw_http
from tests.helpers import LOOM, ServiceProgram, run_command, service

LONG = "tests.long_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service of its own, with three runs."""
    looms = ("--load", LOOM, "--load", LONG)
    with service(tmp_path_factory.mktemp("filters"), *looms) as found:
        client = found.client()
        for words, tag in (("ebb", "night"), ("flood", "night"), ("slack", "day")):
            client.start("speak-often", words=[words], tags=(tag,)).wait(60)
        yield found


@pytest.fixture
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw HTTP."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", trust_env=False, timeout=60) as client:
        yield client


def numbers(http: httpx.Client, **query: str) -> list[int]:
    """The runs that a list shows."""
    return [run["number"] for run in http.get("/runs", params=query).json()["runs"]]


def test_a_list_is_what_the_saved_filter_says(http: httpx.Client) -> None:
    """Other fields count more; one that is saved again is replaced."""
    said = {"states": ["done"], "tag": "night", "within": "24h"}
    kept = http.put("/filters/nights", json=said).json()
    assert kept["wanted"] == said
    assert numbers(http, saved="nights") == [2, 1]
    assert numbers(http, saved="nights", tag="day") == [3]
    assert numbers(http, saved="nights", text="flood") == [2]
    assert http.put("/filters/nights", json={"tag": "day"}).status_code == 200
    assert numbers(http, saved="nights") == [3]
    assert [one["name"] for one in http.get("/filters").json()["filters"]] == ["nights"]
    assert http.delete("/filters/nights", params={"reason": "old"}).status_code == 204
    answer = http.get("/runs", params={"saved": "nights"})
    assert answer.status_code == 404
    what = [one["what"] for one in http.get("/commands").json()["commands"][:3]]
    assert what == ["drop_filter", "save_filter", "save_filter"]


@pytest.mark.parametrize(
    ("name", "body", "said"),
    [
        ("a/b", {}, "/name"),
        ("x" * 61, {}, "/name"),
        ("-x", {}, "/name"),
        ("x", {"tga": "night"}, "/tga"),
        ("x", {"within": "7 tides"}, "found '7 tides'; expected a duration"),
        ("x", {"states": ["gone"]}, "/states/0"),
        ("x", {"since": "yesterday"}, "/since"),
    ],
)
def test_a_filter_that_means_nothing_is_not_saved(
    http: httpx.Client, name: str, body: dict[str, object], said: str
) -> None:
    """The answer names the mistake."""
    answer = http.put(f"/filters/{name}", json=body)
    assert answer.status_code == 422
    assert said in answer.text
    assert "Value error" not in answer.text


def test_no_more_are_saved_than_can_be_listed(http: httpx.Client) -> None:
    """Those that are there can be replaced."""
    for index in range(200):
        assert http.put(f"/filters/{index}", json={}).status_code == 200
    assert http.put("/filters/200", json={}).status_code == 409
    assert http.put("/filters/7", json={"tag": "day"}).status_code == 200
    for index in range(200):
        http.delete(f"/filters/{index}")


def test_a_command_for_many_runs_takes_every_filter(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """By text, by who, by time, by a saved filter; the rest stays as it is."""
    client = program.client()
    walks = [
        client.start("walk", folder=str(tmp_path), count=9_999, pause=0.01, tags=(tag,))
        for tag in ("north", "south", "east")
    ]

    def act(*words: str) -> str:
        done = run_command("cancel", *words, "--yes", url=program.url)
        assert done.returncode == 0, done.stderr
        return done.stdout

    saved = run_command("runs", "--tag", "east", "--save", "east side", url=program.url)
    assert "yarnloom runs --saved 'east side'" in saved.stderr
    assert "east side" in run_command("filters", url=program.url).stdout
    assert "no run matches" in run_command("cancel", "--who", "nobody", url=program.url).stderr
    assert act("--text", "north", "--who", "test", "--within", "1h").startswith("1 run ")
    assert act("--saved", "east side").startswith("1 run ")
    states = [client.run(one.number).data["stop_asked"] for one in walks]
    assert states == ["cancel", None, "cancel"]
    assert act("--since", "1h", "--state", "running", "--state", "cancelling", "--tag", "south")
    unknown = run_command("cancel", "--saved", "east", "--yes", url=program.url)
    assert "did you mean 'east side'?" in unknown.stderr
    run_command("filters", "--drop", "east side", url=program.url)
    assert "no filter is saved" in run_command("filters", url=program.url).stderr
