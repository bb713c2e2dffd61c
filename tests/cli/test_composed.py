"""Composed runs on the command line: graphs, items, single tasks."""

from __future__ import annotations

import json
from xml.etree import ElementTree

import pytest

from tests.helpers import ServiceProgram, run_command


@pytest.fixture(scope="module")
def coast(served: ServiceProgram) -> str:
    """A finished run, its number."""
    params = 'harbours=["brackwater", "fogwick", "saltmere"]'
    done = run_command("start", "coast", "-p", params, "--json", url=served.url)
    number = str(json.loads(done.stdout)["number"])
    watched = run_command("watch", number, url=served.url)
    assert watched.returncode == 0, watched.stderr
    assert "1 failed, as allowed" in watched.stdout
    return number


def test_show_goes_into_items(served: ServiceProgram, coast: str) -> None:
    """The run has a line for the each, the each its items, the item its steps."""
    whole = run_command("show", coast, url=served.url).stdout
    items = run_command("show", f"{coast}/harbours", url=served.url).stdout
    failed = run_command("show", f"{coast}/harbours", "--state", "failed", url=served.url).stdout
    item = run_command("show", f"{coast}/harbours[saltmere]", url=served.url).stdout
    step = run_command("show", f"{coast}/harbours[saltmere]/figures/sum", url=served.url).stdout

    assert "harbours[…]" in whole
    assert "2 of 3 done, 1 failed" in whole
    assert "[fogwick]" in whole
    assert "its gauge is silent" in whole
    assert all(name in items for name in ("brackwater", "fogwick", "saltmere"))
    assert "fogwick" in failed
    assert "saltmere" not in failed
    assert [word in item for word in ("listen", "figures/sum", "figures/twice")] == [True] * 3
    assert '{"left": 16, "right": 8}' in step


def test_the_log_of_a_run_has_its_items(served: ServiceProgram, coast: str) -> None:
    """As it arrived, each line behind its address; as JSON too."""
    log = run_command("log", coast, url=served.url).stdout
    known = json.loads(run_command("log", coast, "--json", url=served.url).stdout)["lines"]

    for name in ("brackwater", "fogwick", "saltmere"):
        assert f"harbours[{name}]/listen#1 stdout   listening at {name}" in log
    assert {line["address"] for line in known} >= {"harbours[saltmere]/listen"}


def test_a_workflow_and_a_run_are_drawn(served: ServiceProgram, coast: str) -> None:
    """As text, DOT, Mermaid, SVG and JSON."""

    def graph(*arguments: str) -> str:
        done = run_command("graph", *arguments, url=served.url)
        assert done.returncode == 0, done.stderr
        return done.stdout

    text, run = graph("coast"), graph(coast)
    svg = ElementTree.fromstring(graph(coast, "--as", "svg"))

    assert "harbours" in text
    assert "50% may fail" in text
    assert "║ sum" in text
    assert "after twice" in text
    assert "on failure" in text
    assert "2 of 3 done, 1 failed" in run
    assert "on failure" not in run  # it has ended, and nothing followed
    assert "✓ " in run
    assert graph("coast", "--as", "dot").startswith('digraph "coast" {')
    assert graph("coast", "--as", "mermaid").startswith("flowchart LR")
    assert svg.tag.endswith("svg")
    assert json.loads(graph("coast", "--json"))["kind"] == "sequence"
    assert json.loads(graph(f"{coast}/harbours[saltmere]", "--as", "json"))["state"] == "done"


def test_a_single_task_from_the_command(served: ServiceProgram) -> None:
    """Its inputs by -p; text stays text where the task wants text."""
    done = run_command("start", "listen", "-p", "harbour=1234", "--watch", url=served.url)
    wrong = run_command("start", "lisen", url=served.url)

    assert done.returncode == 0, done.stderr
    assert "output  4" in done.stdout
    assert wrong.returncode == 2
    assert "there is no workflow or task 'lisen'; did you mean 'listen'?" in wrong.stderr


def test_the_code_of_an_attempt_is_shown(served: ServiceProgram, coast: str) -> None:
    """By the hash that `show` gives."""
    address = f"{coast}/harbours[saltmere]/listen"
    shown = json.loads(run_command("show", address, "--json", url=served.url).stdout)
    code = shown["attempts"][0]["code_hash"]
    done = run_command("tasks", "listen", "--code", code, url=served.url)
    unknown = run_command("tasks", "listen", "--code", "0", url=served.url)

    assert f"marks/listen  code {code} (published)" in done.stdout
    assert 'raise GiveUp("its gauge is silent")' in done.stdout
    assert unknown.returncode == 2
    assert "no code 0 of task marks/listen" in unknown.stderr


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["graph", "cost"], "there is no workflow 'cost'"),
        (["graph", "999999"], "there is no run 999999"),
        (["graph", "coast", "--as", "png"], "--as: no 'png'; there is: text, dot"),
        (["show", "1/[x"], "is no address"),
    ],
)
def test_mistakes_are_explained(
    served: ServiceProgram, coast: str, arguments: list[str], words: str
) -> None:
    """Exit code 2, and what to do."""
    done = run_command(*arguments, url=served.url)

    assert done.returncode == 2
    assert words in done.stderr
