"""A mistake in one command costs that command: not its batch, and not the workers' sessions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor
from yarnloom import Loom, step
from yarnloom.engine import engine
from yarnloom.engine.commands import DrainWorker, Poll, Register, Report, ReportItem, StartRun, Tick
from yarnloom.engine.transaction import Transaction


@pytest.fixture
def at(tmp_path: Any) -> Iterator[Floor]:
    """A floor with one task that takes as long as the test says."""
    with floor() as found:
        found.begins = False
        loom = Loom("slow")

        @loom.task
        def wait() -> None:
            """Nothing."""

        loom.workflow("one", plan=step("only", wait))
        found.publish(loom)
        yield found


def breaks(monkeypatch: pytest.MonkeyPatch, kind: type, if_it: Any) -> None:
    """Let some commands of a kind end with a mistake, after they have changed something."""
    does = engine.do

    def do(transaction: Transaction, command: Any) -> Any:
        answer = does(transaction, command)
        if isinstance(command, kind) and if_it(command):
            raise OverflowError("int too large to convert to float")
        return answer

    monkeypatch.setattr(engine, "do", do)


def start(key: str) -> StartRun:
    """A start of the workflow."""
    return StartRun("one", {}, key, "test")


def test_others_of_its_batch_are_done_and_workers_stay(
    at: Floor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A worker whose report breaks gets that answer alone, and keeps what it has."""
    at.worker("w")
    at.worker("v")
    first = at.start("one")
    (attempt,) = at.hands["w"].attempts
    breaks(monkeypatch, Report, lambda command: any(item.pid == 666 for item in command.items))

    bad = Report("w", (ReportItem(attempt, "done", None, begun_ago=0.1, pid=666),))
    results = at.inline.batch(start("b"), bad, start("c"), Poll("v"))
    more = at.inline.batch(Poll("w"), Poll("v"), Tick())
    good = at.inline.batch(Report("w", (ReportItem(attempt, "done", None, begun_ago=0.1),)))

    assert isinstance(results.answers[1], OverflowError)
    assert [results.answers[at].run.number for at in (0, 2)] == [2, 3]
    assert not [answer for answer in results.answers[3:] if isinstance(answer, Exception)]
    assert not [answer for answer in more.answers if isinstance(answer, Exception)], (
        "registered as before"
    )
    assert good.answers[0].refused == []
    assert at.inline.run(first)["state"] == "done"


def test_an_open_request_is_answered_though_another_command_breaks(
    at: Floor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each command of the batch is then done alone, and its messages are sent."""
    at.worker("w", places=2)
    breaks(monkeypatch, DrainWorker, lambda command: True)
    results = at.inline.batch(Poll("w"), start("a"), DrainWorker("w", "test", ""))

    assert isinstance(results.answers[2], OverflowError)
    assert [message["kind"] for message in results.messages["w"]] == ["work"]


def test_what_a_broken_command_posted_is_never_sent(
    at: Floor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Work that was handed out in it is handed out anew, and a drain is taken back."""
    at.worker("w")
    breaks(monkeypatch, DrainWorker, lambda command: True)

    broken = at.inline.batch(DrainWorker("w", "test", ""))
    (messages,) = [at.inline.batch(Poll("w"), start("a")).messages["w"]]

    assert isinstance(broken.answers[0], OverflowError)
    assert [message["kind"] for message in messages] == ["work"]
    assert at.inline.run(1)["state"] in ("queued", "running")


def test_a_registration_that_breaks_is_made_again(
    at: Floor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Only that worker's session is gone."""
    at.worker("w")
    tasks = {"slow/wait": "x"}
    with monkeypatch.context() as patched:
        breaks(patched, Register, lambda command: command.worker == "v")
        at.inline.batch(Register("v", "v", {}, 1, tasks))
        answers = at.inline.batch(Poll("w"), Poll("v")).answers

    assert answers[0] is None
    assert type(answers[1]).__name__ == "WorkerUnknown"
