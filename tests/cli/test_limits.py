"""Pools, why and draining, typed."""

from __future__ import annotations

import json
from collections.abc import Iterator

import pytest

from tests.helpers import LOOM, ServiceProgram, run_command, service


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service without a worker."""
    with service(tmp_path_factory.mktemp("limits")) as found:
        run_command("publish", LOOM, url=found.url)
        yield found


def test_pools_and_changing_one(program: ServiceProgram) -> None:
    """A noun lists; with a name it shows or changes."""
    listed = run_command("pools", url=program.url).stdout
    changed = run_command(
        *("pool", "narrow", "--limit", "4", "--rate", "10/m", "--pause", "--reason", "storm"),
        url=program.url,
    )
    again = run_command("pools", "--json", url=program.url)
    shown = run_command("pool", "narrow", "--as-declared", "--resume", url=program.url).stdout

    assert "0 of 1" in listed
    assert "one at a time" in listed
    assert "0 of 4 in use, 0 waiting" in changed.stdout
    assert "10 in 1 min begin at most" in changed.stdout
    assert "storm" in changed.stdout
    (narrow, _) = json.loads(again.stdout)["pools"]
    assert narrow["by_hand"] == {"limit": 4, "rate": {"count": 10, "per": 60.0}}
    assert "0 of 1 in use" in shown
    assert "loom marks" in shown


def test_a_pool_is_made_and_removed(program: ServiceProgram) -> None:
    """By hand, also paused from the start."""
    made = run_command("pool", "mine", "--make", "--limit", "none", "--pause", url=program.url)
    removed = run_command("pool", "mine", "--remove", "--reason", "done", url=program.url)

    assert "0, no limit in use" in made.stdout
    assert "paused" in made.stdout
    assert (removed.returncode, removed.stdout) == (0, "pool mine is removed\n")


def test_why_is_said_in_whole_lines(program: ServiceProgram) -> None:
    """Steps with the same reason stand together; nothing is cut off."""
    start = run_command("start", "narrows", "-p", "folder=/nowhere", "--json", url=program.url)
    number = json.loads(start.stdout)["number"]
    why = run_command("why", str(number), url=program.url, env={"COLUMNS": "50"})
    part = run_command("why", f"{number}/all[2]", "--json", url=program.url)
    show = run_command("show", f"{number}/all[2]", url=program.url)
    run_command("cancel", str(number), url=program.url)

    assert "all[1]/pass and 2 more" in why.stdout
    assert "yarnloom worker --load MODULE:LOOM" in " ".join(why.stdout.split())
    assert [wait["address"] for wait in json.loads(part.stdout)["waits"]] == ["all[2]/pass"]
    assert "no worker is connected" in show.stdout


def test_starting_what_has_to_wait_says_where_to_look(program: ServiceProgram) -> None:
    """A second run of a workflow of which one may be under way."""
    typed = ("start", "turns", "-p", "folder=/nowhere")
    started = [run_command(*typed, url=program.url) for _ in range(2)]
    numbers = [run.stdout.strip() for run in started]
    first, second = (run.stderr for run in started)
    why = run_command("why", numbers[1], url=program.url).stdout
    for number in numbers:
        run_command("cancel", number, url=program.url)

    assert f"yarnloom show {numbers[0]}" in first
    assert f"yarnloom why {numbers[1]}" in second
    assert f"waits until run {numbers[0]} of marks/turns has ended" in " ".join(why.split())


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        (["pool", "narow"], "did you mean 'narrow'"),
        (["pool", "narrow", "--limit", "few"], "a whole number from 0 on, or none"),
        (["pool", "narrow", "--rate", "10"], "as 10/1s or 100/m"),
        (["pool", "narrow", "--rate", "0/1s"], "Rate(count=)"),
        (["pool", "narrow", "--make"], "change it instead"),
        (["pool", "narrow", "--remove"], "so it cannot be removed"),
        (["pool", "narrow", "--pause", "--resume"], "not allowed with"),
        (["why", "one"], "expected a run's number"),
        (["why", "999"], "there is no run 999"),
        (["worker"], "give --load MODULE:LOOM"),
        (["worker", "drain"], "expected `worker drain NAME`"),
        (["worker", "stop", "w1"], "no worker w1 is in the background"),
        (["worker", "drain", "w1"], "there is no worker 'w1'"),
        (["worker", "--load", LOOM, "--has", "a b"], "words as"),
        (["worker", "--load", LOOM, "--replace-above", "much"], "expected a size"),
    ],
)
def test_mistakes_are_said_and_exit_with_2(
    program: ServiceProgram, typed: list[str], words: str
) -> None:
    """What was found, and what to type instead."""
    done = run_command(*typed, url=program.url)

    assert done.returncode == 2, done.stdout
    assert words in done.stderr
    assert "Traceback" not in done.stderr
