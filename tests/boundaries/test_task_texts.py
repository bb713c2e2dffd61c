"""One task's text, number or fork costs its own attempt at most: all others go on."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, service
from yarnloom import Run
from yarnloom.client import Request

LOOM = "tests.huge_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker whose tasks say too much."""
    with service(tmp_path_factory.mktemp("huge"), "--load", LOOM) as one:
        yield one


def ended(program: ServiceProgram, workflow: str, how: str, **more: Any) -> Run:
    """A run that has ended, beside which a healthy one ended as well."""
    client = program.client()
    run = client.start(workflow, how=how, **more)
    client.call(Request("GET", f"/runs/{run.number}", query={"wait": 25}))
    assert client.start("adds", how="", size=1).wait(30) == 2
    return run.refresh()


def attempts(run: Run) -> list[dict[str, Any]]:
    """The attempts of a run, in order."""
    found: list[dict[str, Any]] = run._client.call(
        Request("GET", f"/runs/{run.number}/steps", query={"address": "it"})
    )["attempts"]
    return found


@pytest.mark.parametrize(
    "how",
    [
        "error", "control characters", "not ascii", "give up", "try later", "not done", "exit",
        "class name", "chained", "group", "notes",
    ],
)  # fmt: skip
def test_a_huge_error_is_cut_and_costs_one_attempt(program: ServiceProgram, how: str) -> None:
    """Whatever is raised, the run fails with the beginning and the end of the text."""
    run = ended(program, "fails", how)

    assert run.state == "failed"
    assert len(attempts(run)) == 1
    answer = raw_http.get(f"{program.url}/api/v1/runs/{run.number}/attempts").content
    assert len(answer) < 150_000
    error = attempts(run)[0]["error"]
    assert len(error["type"]) <= 200
    assert len(error["message"].encode()) <= 4_000
    assert len(error.get("traceback", "").encode()) <= 32_000
    assert "characters in all" in json.dumps(error)


def test_an_error_that_cannot_be_written_fails_its_attempt(program: ServiceProgram) -> None:
    """Its `__str__` raises: the error says so, with the traceback."""
    run = ended(program, "fails", "silent")

    (attempt,) = attempts(run)
    assert attempt["outcome"] == "failed"
    assert attempt["error"]["type"] == "Silent"
    assert "its __str__ raised ValueError" in attempt["error"]["message"]


@pytest.mark.parametrize("how", ["note", "unit", "log", "print", "loop note"])
def test_long_notes_and_lines_do_no_harm(program: ServiceProgram, how: str) -> None:
    """They are cut or split, and the step is done."""
    run = ended(program, "says", how)

    assert run.state == "done"


@pytest.mark.parametrize(
    ("workflow", "how", "expected"),
    [
        ("says", "loop name", "has 9,000,000 characters; expected at most 200"),
        ("counts", "huge", "done is larger than 2^63"),
        ("counts", "infinite", "done is inf; expected a finite number"),
        ("counts", "text", "done is 'many'; expected a number"),
        ("counts", "counted", "added is larger than 2^63"),
        ("returns", "integer", "an integer of about 5,001 digits; at most 1,000"),
        ("returns", "just too long", "/0/a: found an integer of about 1,001 digits"),
        ("returns", "infinite", "/0: found inf"),
        ("counts-up", "", "an integer of about 5,001 digits; at most 1,000"),
    ],
)
def test_odd_figures_fail_their_attempt_with_the_reason(
    program: ServiceProgram, workflow: str, how: str, expected: str
) -> None:
    """The task's own mistake, told with what was found and expected."""
    run = ended(program, workflow, how)

    (attempt,) = attempts(run)
    assert attempt["outcome"] == "failed"
    assert expected in attempt["error"]["message"]


def test_an_integer_of_a_thousand_digits_is_exact(program: ServiceProgram) -> None:
    """The longest that is kept."""
    assert ended(program, "returns", "longest").output == 10**1_000 - 1


@pytest.mark.parametrize(
    ("workflow", "how", "output"),
    [
        ("forks", "exits", "7"),
        ("forks", "raises", "1"),
        ("forks", "returns", "0"),
        ("forks", "pool", "[1, 2]"),
        ("forks-and-tracks", "", "1"),
        ("forks-on-thread", "exits", "7"),
        ("forks-on-thread", "returns", "0"),
        ("forks-in-coroutine", "exits", "7"),
        ("forks-in-coroutine", "returns", "0"),
    ],
)
def test_a_fork_ends_where_the_task_ends_in_it(
    program: ServiceProgram, workflow: str, how: str, output: str
) -> None:
    """It reports nothing: the attempt has one end, that of the process which the worker started."""
    run = ended(program, workflow, how)

    assert run.output == output, attempts(run)
    assert len(attempts(run)) == 1
