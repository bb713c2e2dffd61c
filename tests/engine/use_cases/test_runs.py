"""Runs in the engine: start, keys, reports, cancel, losses. Time moves by hand."""

from __future__ import annotations

from typing import Any

import pytest

from tests import looms
from yarnloom.engine.commands import (
    CancelRun,
    InHand,
    LeaveService,
    LoseWorker,
    Poll,
    Register,
    Report,
    Reported,
    ReportItem,
    Started,
    StartRun,
    Tick,
)
from yarnloom.engine.rules.states import IllegalTransition
from yarnloom.errors import (
    CannotStore,
    InvalidInput,
    NotFound,
    Refused,
    StartKeyTaken,
    WorkerUnknown,
)
from yarnloom.store.runs import run_lists, step_queries
from yarnloom.testing import InlineService

TASKS = dict.fromkeys(("marks/add", "marks/begin", "marks/hold", "marks/finish"), "hash")
Message = dict[str, Any]


def begin(inline: InlineService, places: int = 1, worker: str = "w") -> list[Message]:
    """A worker registers and asks; what it is given."""
    inline.do(Register(worker, worker, {}, places, TASKS))
    return ask(inline, worker)


def ask(inline: InlineService, worker: str = "w", received: tuple[int, ...] = ()) -> list[Message]:
    """A worker asks; what it is given at once."""
    return inline.batch(Poll(worker, received)).messages.get(worker, [])


def tell(inline: InlineService, attempt: int, worker: str = "w", **item: Any) -> Reported:
    """A worker reports one item."""
    reported: Reported = inline.do(Report(worker, (ReportItem(attempt, **item),)))
    return reported


def attempts(inline: InlineService, step: int = 1) -> list[Any]:
    """Outcomes of a step's attempts."""
    rows = inline.database.read(lambda connection: step_queries.attempts(connection, step, 20))
    return [row["outcome"] for row in rows]


def test_a_sequence_runs_step_by_step(inline: InlineService) -> None:
    """Each output becomes the next input; a report's answer carries the next work."""
    number = inline.start("sums", {"number": 1, "step": 5})
    (work,) = begin(inline)
    assert (work["task"], work["input"]) == ("marks/add", {"number": 1, "more": 5})
    assert inline.run(number)["state"] == "queued"

    tell(inline, work["attempt"], begun_ago=0.0)
    assert inline.run(number)["state"] == "running"
    (following,) = tell(inline, work["attempt"], outcome="done", output=6).messages
    assert following["input"] == {"number": 6}
    tell(inline, following["attempt"], outcome="done", output=7)

    run = inline.run(number)
    assert (run["state"], run["output"]) == ("done", 7)
    assert run["counts"]["done"] == 2


def test_nothing_is_started_with_params_that_do_not_fit(inline: InlineService) -> None:
    """All problems at once, and no run."""
    with pytest.raises(InvalidInput) as refused:
        inline.start("sums", {"nummer": 1, "step": "x"})

    found = {problem.where for problem in refused.value.problems}
    assert found == {"/number", "/nummer", "/step"}
    assert inline.database.read(lambda c: run_lists.run(c, 1)) is None


def test_an_unknown_workflow_offers_the_nearest(inline: InlineService) -> None:
    """By its short and its full name."""
    with pytest.raises(NotFound, match="did you mean 'sums'"):
        inline.start("sum", {})
    with pytest.raises(NotFound, match="did you mean 'marks/sums'"):
        inline.start("marks/sum", {})


def test_starting_twice_with_one_key_makes_one_run(inline: InlineService) -> None:
    """Also in one transaction; the params are compared as they were given."""
    command = StartRun("sums", {"number": 1}, "key", "test")
    first, second = inline.batch(command, command).answers
    third: Started = inline.do(command)

    assert [first.created, second.created, third.created] == [True, False, False]
    assert first.run.number == second.run.number == third.run.number
    with pytest.raises(StartKeyTaken, match="belongs to run 1"):
        inline.do(StartRun("sums", {"number": 1, "step": 1}, "key", "test"))


def test_a_key_belongs_to_its_workflow(inline: InlineService) -> None:
    """Two workflows may use the same key."""
    assert inline.start("sums", {"number": 1}, "key") == 1
    assert inline.start("held", {"folder": "f"}, "key") == 2


def test_one_refusal_does_not_hurt_the_others(inline: InlineService) -> None:
    """Commands of one transaction stand apart."""
    answers = inline.batch(
        StartRun("sums", {"number": 1}, "a", "test"),
        StartRun("nothing", {}, "b", "test"),
        CancelRun(99, "test"),
        StartRun("sums", {"number": 2}, "c", "test"),
    ).answers

    assert [isinstance(answer, Refused) for answer in answers] == [False, True, True, False]
    assert inline.run(2)["params"]["number"] == 2


def test_a_broken_command_is_undone_alone(
    inline: InlineService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A bug in one command neither loses the others nor leaves half of it behind."""
    from yarnloom.engine.composition.composition import Composition

    real = Composition.enter

    def breaks(composition: Composition, root: Any) -> Any:
        if composition.run.params == '{"number":13,"step":1}':
            raise RuntimeError("a bug")
        return real(composition, root)

    monkeypatch.setattr(Composition, "enter", breaks)
    commands = [StartRun("sums", {"number": n}, f"k{n}", "test") for n in (12, 13, 14)]
    answers = inline.batch(*commands).answers

    assert isinstance(answers[1], RuntimeError)
    assert [answers[0].run.number, answers[2].run.number] == [1, 2]
    assert inline.database.read(lambda c: run_lists.run(c, 3)) is None


def test_a_commit_that_fails_answers_busy_to_all(
    inline: InlineService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Nothing changed, and the next commit works."""
    from yarnloom.store import StoreFailed

    def full(self: Any) -> None:
        raise StoreFailed("database or disk is full")

    with monkeypatch.context() as patched:
        patched.setattr("yarnloom.store.unit_of_work.Unit.commit", full)
        answers = inline.batch(
            StartRun("sums", {"number": 1}, "a", "test"), StartRun("sums", {"number": 2}, "b", "t")
        ).answers

    assert [type(answer) for answer in answers] == [CannotStore, CannotStore]
    assert inline.start("sums", {"number": 1}, "a") == 1
    assert begin(inline)[0]["input"]["number"] == 1


def test_a_run_is_cancelled_at_once_when_nothing_is_handed_out(inline: InlineService) -> None:
    """And is not cancelled twice."""
    number = inline.start("sums", {"number": 1})
    run = inline.do(CancelRun(number, "test", "wrong number"))

    assert run.state == "cancelled"
    assert run.error["message"] == "cancelled by test: wrong number"
    assert run.counts.cancelled == 2
    with pytest.raises(IllegalTransition, match="is cancelled, so it cannot be cancelled"):
        inline.do(CancelRun(number, "test"))


def test_cancel_reaches_a_running_step(inline: InlineService) -> None:
    """The order goes out with the open request; the run ends when the step has."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    tell(inline, work["attempt"], begun_ago=0.0)
    ask(inline, received=(work["serial"],))
    results = inline.batch(CancelRun(number, "test"))
    (order,) = results.messages["w"]

    assert (order["kind"], order["why"]) == ("stop", "cancel")
    assert inline.run(number)["state"] == "cancelling"
    tell(inline, work["attempt"], outcome="cancelled")
    assert inline.run(number)["state"] == "cancelled"


def test_what_a_cancelled_step_returns_in_time_is_kept(inline: InlineService) -> None:
    """It is done, and what would have come next is cancelled."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    inline.do(CancelRun(number, "test"))
    tell(inline, work["attempt"], outcome="done", output=2)
    run = inline.run(number)

    assert run["state"] == "cancelled"
    assert (run["counts"]["done"], run["counts"]["cancelled"]) == (1, 1)


def test_a_cancel_that_comes_too_late_changes_nothing(inline: InlineService) -> None:
    """Everything was done all the same: the run is done, and says so."""
    number = inline.start("sums", {"number": 1})
    (first,) = begin(inline)
    (second,) = tell(inline, first["attempt"], outcome="done", output=2).messages
    inline.do(CancelRun(number, "test"))
    tell(inline, second["attempt"], outcome="done", output=3)
    run = inline.run(number)

    assert (run["state"], run["output"], run["error"]) == ("done", 3, None)
    assert run["stop_asked"] == "cancel"


@pytest.mark.parametrize(
    ("outcome", "state", "tries"), [("failed", "failed", 1), ("refused", "failed", 0)]
)
def test_a_failed_step_fails_its_run(
    inline: InlineService, outcome: str, state: str, tries: int
) -> None:
    """Without a retry rule there is one try; a refused attempt spends none."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    error = {"type": "ValueError", "message": "no"}
    tell(inline, work["attempt"], outcome=outcome, error=error, begun_ago=0.0)
    run = inline.run(number)

    assert run["state"] == state
    assert run["error"] == {"step": "1/first", "task": "marks/add", "attempts": 1, **error}
    assert run["counts"]["skipped"] == 1
    assert inline.steps(number)[0]["tries"] == tries


def test_losses_are_counted_apart_from_tries(inline: InlineService) -> None:
    """Three are borne, the fourth fails the step."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    for loss in range(4):
        assert inline.run(number)["state"] in ("queued", "running"), loss
        gone = {"message": "its process died"}
        reported = tell(inline, work["attempt"], outcome="lost", error=gone, begun_ago=0.0)
        work = reported.messages[0] if reported.messages else {}

    run = inline.run(number)
    assert run["state"] == "failed"
    assert run["error"]["message"] == (
        "lost 4 times, at most 3 are borne; the last time: its process died"
    )
    assert attempts(inline) == ["lost"] * 4
    assert inline.steps(number)[0]["tries"] == 0


def test_a_silent_worker_is_lost_after_its_lease(inline: InlineService) -> None:
    """Its attempt goes to another, and its late result is refused and changes nothing."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    tell(inline, work["attempt"], begun_ago=0.0)
    for _ in range(5):
        inline.clock.advance(5.98)
        inline.do(Tick())
    assert attempts(inline) == [None]
    inline.clock.advance(0.2)
    inline.do(Tick())
    assert attempts(inline) == ["lost"]

    (again,) = begin(inline, worker="other")
    assert again["number"] == 2
    with pytest.raises(WorkerUnknown):
        tell(inline, work["attempt"], outcome="done", output=99)
    inline.do(Register("w", "w", {}, 0, TASKS, (work["attempt"],)))
    late = tell(inline, work["attempt"], outcome="done", output=99)
    assert late.refused == [
        {
            "attempt": work["attempt"],
            "why": "the attempt was given up as lost; its step may be running elsewhere",
        }
    ]
    assert inline.run(number)["output"] is None


def test_every_request_renews_the_lease(inline: InlineService) -> None:
    """A worker that says anything at all lives on."""
    inline.start("sums", {"number": 1})
    begin(inline)
    for _ in range(10):
        inline.clock.advance(20)
        inline.do(Report("w"))
        inline.do(Tick())

    assert attempts(inline) == [None]


def test_a_service_that_stood_still_gives_full_leases(inline: InlineService) -> None:
    """That nobody was heard of is its own fault then."""
    inline.start("sums", {"number": 1})
    begin(inline)
    inline.clock.advance(120)
    inline.do(Tick())

    assert attempts(inline) == [None]
    for _ in range(5):
        inline.clock.advance(6.1)
        inline.do(Tick())
    assert attempts(inline) == ["lost"]


def test_the_same_report_twice_gets_the_same_answer(inline: InlineService) -> None:
    """And counts once."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    first = tell(inline, work["attempt"], outcome="done", output=2)
    second = tell(inline, work["attempt"], outcome="done", output=2)

    assert first.refused == second.refused == []
    assert inline.run(number)["counts"]["done"] == 1


def test_a_report_for_an_attempt_of_another_is_refused(inline: InlineService) -> None:
    """A worker speaks for its own attempts only."""
    inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    begin(inline, worker="other")
    answer = tell(inline, work["attempt"], "other", outcome="done", output=1)

    assert "never given that attempt" in answer.refused[0]["why"]


def test_what_is_not_acknowledged_is_sent_again(inline: InlineService) -> None:
    """Under the same attempt number, as often as needed; once acknowledged, not again."""
    inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    (again,) = ask(inline)
    assert again == work

    assert ask(inline, received=(work["serial"],)) == []


def test_a_worker_that_registers_again_gets_what_it_never_received(inline: InlineService) -> None:
    """Under the same attempt; and is told to drop what is not its own any more."""
    inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    inline.do(Register("w", "w", {}, 1, TASKS, in_hand=(777,)))
    messages = {message["kind"]: message for message in ask(inline)}

    assert messages["work"]["attempt"] == work["attempt"]
    assert messages["drop"]["attempt"] == 777
    inline.do(Register("w", "w", {}, 1, TASKS, in_hand=(work["attempt"],)))
    assert ask(inline) == []


def test_a_worker_that_leaves_hands_back(inline: InlineService) -> None:
    """That spends neither a try nor a loss."""
    number = inline.start("sums", {"number": 1})
    begin(inline)
    inline.do(LeaveService("w"))
    (step,) = inline.steps(number)

    assert attempts(inline) == ["handed_back"]
    assert (step["state"], step["tries"], step["losses"]) == ("ready", 0, 0)


def test_a_worker_may_report_and_leave_in_one_batch(inline: InlineService) -> None:
    """Its last report is answered, with nothing more for it."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    done = ReportItem(work["attempt"], "done", 2)
    reported, _ = inline.batch(Report("w", (done,)), LeaveService("w")).answers

    assert isinstance(reported, Reported)
    assert (reported.refused, reported.messages) == ([], [])
    assert inline.steps(number)[0]["state"] == "done"


def test_a_worker_known_to_be_dead_is_lost_at_once(inline: InlineService) -> None:
    """Whoever started it saw it die."""
    inline.start("sums", {"number": 1})
    begin(inline)
    inline.do(LoseWorker("w", "it died"))

    assert attempts(inline) == ["lost"]


def test_a_large_output_is_refused(inline: InlineService) -> None:
    """Whatever language the worker is written in."""
    number = inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    tell(inline, work["attempt"], outcome="done", output="x" * 300_000)

    assert "at most 262,144" in inline.run(number)["error"]["message"]


def test_places_are_never_exceeded_and_fairly_used(inline: InlineService) -> None:
    """Two workers share what there is; nobody has more than it has places."""
    for number in range(10):
        inline.start("sums", {"number": number}, f"k{number}")
    inline.do(Register("a", "a", {}, 3, TASKS))
    inline.do(Register("b", "b", {}, 3, TASKS))
    given = inline.batch(Poll("a"), Poll("b")).messages

    assert [len(given["a"]), len(given["b"])] == [3, 3]


def test_an_idle_minute_runs_no_sql(inline: InlineService) -> None:
    """Leases are renewed, asks end and begin again, timers fire: nothing of it is stored."""
    begin(inline)
    statements: list[str] = []
    inline.database.writer.set_trace_callback(statements.append)
    for _ in range(6):
        inline.clock.advance(10)
        inline.do(Report("w"))
        inline.do(Poll("w"))
        inline.do(Tick())
    inline.database.writer.set_trace_callback(None)

    assert statements == []
    inline.start("sums", {"number": 1})
    assert looms.loom.name == "marks"


def test_memory_is_rebuilt_from_the_store(inline: InlineService) -> None:
    """After a restart what was ready is ready, and a running attempt is its worker's."""
    from yarnloom.engine import Engine

    inline.start("sums", {"number": 1}, "a")
    inline.start("sums", {"number": 2}, "b")
    (work,) = begin(inline)
    tell(inline, work["attempt"], begun_ago=0.0)
    inline.engine = Engine(inline.database, inline.clock())

    with pytest.raises(WorkerUnknown):
        inline.do(Poll("w"))
    inline.do(Register("w", "w", {}, 2, TASKS, in_hand=(work["attempt"],)))
    (other,) = ask(inline)
    assert other["input"]["number"] == 2
    assert tell(inline, work["attempt"], outcome="done", output=2).refused == []


def test_what_is_in_hand_is_told_from_memory_only_where_that_is_certain(
    inline: InlineService,
) -> None:
    """Of attempts with rows, and of workers that are not known, the records are asked."""
    inline.start("sums", {"number": 1})
    (work,) = begin(inline)
    asked = InHand("w", (work["attempt"],))

    assert inline.engine.in_hand(asked) is None
    assert inline.engine.in_hand(InHand("stranger", (work["attempt"],))) is None
    assert list(inline.do(asked)) == [work["attempt"]]
