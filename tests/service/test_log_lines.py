"""What all steps of a run print: page by page, searched, and as it comes."""

from __future__ import annotations

from collections.abc import Iterator

import httpx
import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, run_command
from yarnloom.client import Run


@pytest.fixture(scope="module")
def spoken(served: ServiceProgram) -> Run:
    """A run of which several steps have printed."""
    run = served.client().start("speak-often", words=["ebb", "flood", "slack"])
    run.wait(60)
    return run


@pytest.fixture
def http(served: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw HTTP."""
    with raw_http.Client(base_url=f"{served.url}/api/v1", trust_env=False, timeout=60) as client:
        yield client


def test_lines_of_all_steps_are_searched(http: httpx.Client, spoken: Run) -> None:
    """By text and by address, from both ends; each line says where it was printed."""
    path = f"/runs/{spoken.number}/lines"
    every = http.get(path).json()
    assert {line["address"] for line in every["lines"]} == {
        f"words[{index}]/speak" for index in range(3)
    }
    assert every["next"] is None
    flood = http.get(path, params={"text": "PRINTED FLOOD"}).json()["lines"]
    assert [(line["text"], line["attempt"]) for line in flood] == [("printed flood", 1)]
    inside = http.get(path, params={"address": "words[2]"}).json()["lines"]
    assert {line["address"] for line in inside} == {"words[2]/speak"}
    newest = http.get(path, params={"newest": "true", "limit": 2}).json()
    assert newest["lines"] == every["lines"][-2:]
    before = http.get(path, params={"before": newest["next"], "limit": 1}).json()
    assert before["lines"] == every["lines"][-3:-2]
    after = http.get(path, params={"after": every["lines"][0]["mark"]}).json()
    assert after["lines"] == every["lines"][1:]


@pytest.mark.parametrize(
    ("query", "status", "said"),
    [
        ({"after": "1-1", "newest": "true"}, 422, "expected one direction"),
        ({"after": "²-1"}, 422, "/after"),
        ({"before": "9" * 30}, 422, "/before"),
        ({"address": "nothing"}, 404, "no part 'nothing'"),
        ({"tekst": "ebb"}, 422, "text"),
        ({"limit": "0"}, 422, "/limit"),
    ],
)
def test_what_is_asked_wrongly_is_refused(
    http: httpx.Client, spoken: Run, query: dict[str, str], status: int, said: str
) -> None:
    """The answer names the mistake."""
    for path in ("lines", "lines/live"):
        if path == "lines/live" and not query.keys() & {"address", "tekst"}:
            continue
        answer = http.get(f"/runs/{spoken.number}/{path}", params=query)
        assert answer.status_code == status, answer.text
        assert said in answer.text


def test_a_run_is_followed_to_its_end(served: ServiceProgram, spoken: Run) -> None:
    """Lines come while it runs; the stream ends with it, or with the item that is followed."""
    run = served.client().start("speak-often", words=["neap", "spring"])
    told = [line.text for line in run.lines()]
    assert {"printed neap", "printed spring"} <= set(told)
    assert told == [line.text for line in served.client().run(run.number).lines()]
    inside = [line.text for line in run.lines("words[1]", text="printed")]
    assert inside == ["printed spring"]
    of_attempt = [line.text for line in run.log("words[1]/speak#1", text="PRINTED", follow=True)]
    assert of_attempt == ["printed spring"]


def test_the_command_prints_a_whole_run(served: ServiceProgram, spoken: Run) -> None:
    """All of it, the newest lines, those with a text; and says where there is none."""
    number = str(spoken.number)
    whole = run_command("log", number, url=served.url).stdout
    assert "words[0]/speak#1 stdout   printed ebb" in whole
    last = run_command("log", number, "--last", "2", url=served.url).stdout
    assert whole.splitlines()[-2:] == last.splitlines()
    found = run_command("log", number, "--text", "Printed FLOOD", url=served.url).stdout
    assert found.splitlines() == [line for line in whole.splitlines() if "printed flood" in line]
    none = run_command("log", number, "--text", "whale", url=served.url)
    assert (none.returncode, none.stderr) == (0, f"{number} has printed no line with 'whale'\n")
    followed = run_command("log", number, "--follow", "--last", "1", url=served.url).stdout
    assert followed.splitlines() == whole.splitlines()[-1:]
    wrong = run_command("log", f"{number}/words[0]/speak#1", "--text", "ebb", url=served.url)
    assert wrong.returncode == 2
    assert "leave the attempt's number out" in wrong.stderr
