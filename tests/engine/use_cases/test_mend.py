"""Mending: what runs again, what is kept, and that it ends as if nothing had gone wrong."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.engine.composition.test_composition import Race
from tests.floor import Floor, floor, state, task_loom
from tests.fractions import broken_fractions
from tests.naive import Naive
from tests.plans import behave
from tests.same import PARAMS, states
from yarnloom import Loom, each, failure, item, output, parallel, previous, sequence, step
from yarnloom.engine.commands import (
    CancelRun,
    FailuresOf,
    MendRun,
    Poll,
    Register,
    Report,
    ReportItem,
    Tick,
)
from yarnloom.engine.queries.failures_by_kind import failures
from yarnloom.errors import Conflict, NotFound
from yarnloom.store import audit
from yarnloom.testing import inline_service


def healed(task: str, given: dict[str, Any]) -> Any:
    """What a task returns when nothing goes wrong any more."""
    if any(isinstance(value, dict) and "first" in value for value in given.values()):
        return None  # a follow-up is told of a failure
    for tries in range(1, 6):
        outcome, value = behave(task, given, tries)
        if outcome == "done":
            return value
    return None


def clean_run(parts: tuple[Any, Any, Any], names: dict[Any, str]) -> Naive:
    """How a plan ends where nothing goes wrong."""
    plan, on_failure, on_end = parts
    clean = Naive(plan, PARAMS, on_failure, on_end)
    while ready := [one for one in clean.root.all() if one.state == "ready"]:
        given = clean.begin(ready[0].address)
        task = names[ready[0].written.part.task]
        clean.finish(ready[0].address, "done", healed(task, given))
    assert clean.root.settled
    return clean


class Mended(Race):
    """A random run that is mended, until a clean interpreter and it agree."""

    def __init__(self, *args: Any) -> None:
        super().__init__(*args)
        self.round = 1
        self.ran: dict[str, int] = {}

    def take(self, messages: list[dict[str, Any]]) -> None:
        if getattr(self, "round", 1) == 1:
            super().take(messages)
            return
        for message in messages:
            if message["kind"] == "work" and message["attempt"] not in self.begun:
                self.begun.add(message["attempt"])
                self.held[message["attempt"]] = message
                item = ReportItem(message["attempt"], begun_ago=0.0)
                self.take(self.inline.do(Report("w", (item,))).messages)

    def mend(self, cancel_at: int | None) -> bool:
        """One round more in which nothing fails; whether there was anything to mend."""
        self.round += 1
        results = self.inline.batch(MendRun(self.number, "test"))
        if isinstance(results.answers[0], Conflict):
            return False
        assert not isinstance(results.answers[0], Exception), results.answers
        self.ask(results.messages.get("w", []))
        for event in range(2_000):
            if event == cancel_at:
                cancelled = self.inline.batch(CancelRun(self.number, "test"))
                self.ask(cancelled.messages.get("w", []))
            writer = self.inline.database.writer
            broken = audit(writer) + broken_fractions(writer) + self.falls.look()
            assert not broken, broken
            if not self.held:
                break
            attempt = self.random.choice(sorted(self.held))
            message = self.held.pop(attempt)
            address = message["address"].partition("/")[2]
            self.ran[address] = self.ran.get(address, 0) + 1
            value = healed(message["task"].partition("/")[2], message["input"])
            report = Report("w", (ReportItem(attempt, "done", value, begun_ago=0.0),))
            self.ask(self.inline.do(report).messages)
        return True

    def ask(self, messages: list[dict[str, Any]]) -> None:
        self.take(messages)
        self.take(self.inline.batch(Poll("w")).messages.get("w", []))

    def check_mended(self) -> None:
        """It looks like a run in which nothing ever went wrong."""
        clean = clean_run(self.parts, self.names)
        if any(one.state == "failed" for one in clean.root.all()):
            return  # a condition that is neither true nor false fails: what else ran is by chance
        run = self.inline.run(self.number)
        expected = "done" if clean.root.state == "skipped" else clean.root.state
        assert (run["state"], run["output"]) == (expected, clean.root.output)
        wanted = {one.address: (one.state, one.reason) for one in clean.root.all()}
        for address, (state_now, reason) in states(self.inline.database, self.number).items():
            # Follow-ups of what was kept are kept, as they ended.
            if address in wanted and reason != "gone" and "/on_" not in f"/{address}":
                skip = wanted[address][1] if state_now == "skipped" else None
                assert (state_now, reason) == (wanted[address][0], skip), address


def mend_a_race(seed: int, size: int, cancel_at: int | None, again_at: int | None) -> None:
    """Run a random plan in which things fail, and mend it."""
    with inline_service() as inline:
        one = None
        try:
            one = Mended(inline, seed, size)
            one.run(cancel_at)
            if again_at is not None:
                one.mend(again_at)
            one.mend(None)
            one.check_mended()
        except AssertionError as error:
            if one is not None:
                error.add_note(json.dumps(one.document["plan"], indent=1))
            raise


@settings(max_examples=30, deadline=None)
@given(
    st.integers(0, 2**32),
    st.integers(2, 14),
    st.none() | st.integers(0, 12),
    st.none() | st.integers(0, 5),
)
def test_a_mended_run_ends_like_one_in_which_nothing_failed(
    seed: int, size: int, cancel_at: int | None, again_at: int | None
) -> None:
    """Also where it was cancelled, and where its second round was."""
    mend_a_race(seed, size, cancel_at, again_at)


@pytest.fixture
def at() -> Any:
    """A floor with a loom that takes anything."""
    with floor() as found:
        yield found


def weave(at: Floor, plan: Any, **options: Any) -> int:
    """A run of a workflow, with a worker that has many places."""
    loom, work = task_loom()
    loom.workflow("w", plan=plan(work), **options)
    at.publish(loom)
    at.worker(places=50)
    return at.start("l/w")


def test_a_mend_keeps_what_is_done_and_counts_attempts_on(at: Floor) -> None:
    """Only what failed and what it kept from being reached runs again, in a new round."""
    number = weave(
        at,
        lambda work: sequence(step("a", work), step("b", work), step("c", work, value=output("b"))),
    )
    at.end("1/a")
    at.fail("1/b")
    assert at.inline.run(number)["state"] == "failed"

    run = at.do(MendRun(number, "ann", "the cable is back"))
    assert (run.state, run.round, at.running) == ("running", 2, ["1/b"])
    at.end("1/b", output=7)
    at.end("1/c")

    b = at.inline.step(number, "b")
    assert at.inline.run(number)["state"] == "done"
    assert [
        (attempt["number"], attempt["round"], attempt["tries"]) for attempt in b["attempts"]
    ] == [(1, 1, 1), (2, 2, 1)]
    assert at.inline.step(number, "a")["attempts"][0]["number"] == 1
    assert at.inline.step(number, "c")["input"] == {"value": 7}
    with pytest.raises(Conflict, match="nothing to mend"):
        at.do(MendRun(number, "ann"))


def test_items_go_on_where_they_were_and_what_reads_them_runs_again(at: Floor) -> None:
    """A run that is done with allowed failures can be mended."""
    number = weave(
        at,
        lambda work: sequence(
            each(
                "h",
                over=["a", "b", "c"],
                name=item(),
                may_fail=2,
                do=step("go", work, value=item()),
            ),
            step("bind", work, value=output("h")),
            step("bye", work),
        ),
    )
    at.end("1/h[a]/go", output=1)
    at.fail("1/h[b]/go")
    at.end("1/h[c]/go", output=3)
    at.drain()
    assert at.inline.run(number)["failures_allowed"] == 1

    at.do(MendRun(number, "t"))
    assert at.running == ["1/h[b]/go"]
    at.end("1/h[b]/go", output=2)
    assert at.running == ["1/bind"]
    assert at.inline.step(number, "bind")["input"] == {"value": [1, 2, 3]}
    at.end("1/bind")

    assert at.inline.run(number)["state"] == "done"
    assert at.inline.run(number)["failures_allowed"] == 0


def test_items_match_by_name_and_content_when_the_source_ran_again(at: Floor) -> None:
    """Equal ones are kept wherever they stand, changed ones run again, vanished are gone."""
    number = weave(
        at,
        lambda work: sequence(
            each("s", over=[1, 2], may_fail=1, do=step("list", work, value=item())),
            step("pick", work, value=output("s")),
            each("h", over=output("pick"), name=item("n"), do=step("go", work, value=item())),
            step("bind", work, value=output("h")),
        ),
    )
    at.end("1/s[0]/list")
    at.fail("1/s[1]/list")
    at.end("1/pick", output=[{"n": "a", "v": 1}, {"n": "b", "v": 1}, {"n": "c", "v": 1}])
    for name in "abc":
        at.end(f"1/h[{name}]/go", output=name)
    at.end("1/bind")

    at.do(MendRun(number, "t"))
    at.end("1/s[1]/list", output=5)
    at.end("1/pick", output=[{"n": "c", "v": 1}, {"n": "new", "v": 1}, {"n": "b", "v": 2}])
    assert sorted(at.running) == ["1/h[b]/go", "1/h[new]/go"]
    at.end("1/h[b]/go", output="B")
    at.end("1/h[new]/go", output="N")

    assert at.inline.step(number, "bind")["input"] == {"value": ["c", "N", "B"]}
    found = {
        one["name"]: (one["state"], one["skip_reason"]) for one in at.inline.items(number, "h")
    }
    assert found["a"] == ("skipped", "gone")
    assert found["c"] == ("done", None)
    assert len(at.inline.step(number, "h[c]/go")["attempts"]) == 1
    at.end("1/bind")
    assert audit(at.inline.database.writer) == []


def test_follow_ups_begin_anew(at: Floor) -> None:
    """The second failure is told again."""
    loom, work = task_loom()
    loom.workflow("w", plan=step("a", work), on_failure=step("tell", work, value=failure()))
    at.publish(loom)
    at.worker()
    number = at.start("l/w")
    for round_number in (1, 2):
        at.fail("1/a")
        at.end("1/on_failure/tell")
        tell = at.inline.step(number, "on_failure/tell")
        assert at.inline.run(number)["state"] == "failed"
        assert len(tell["attempts"]) == round_number
        if round_number == 1:
            at.do(MendRun(number, "t"))


def test_a_mend_is_refused_with_code_that_does_not_fit(at: Floor) -> None:
    """The plan stays; code is what workers have."""
    loom = Loom("l")

    @loom.task
    def work(value: int) -> int:
        raise NotImplementedError

    loom.workflow("w", plan=step("a", work, value=1))
    at.publish(loom)
    at.worker()
    number = at.start("l/w")
    at.fail("1/a")
    offer = {"input": {"type": "object", "required": ["other"]}, "output": {"type": "string"}}
    at.do(Register("w", "w", {}, 1, {"l/work": "new"}, offers={"l/work": offer}))

    with pytest.raises(Conflict, match="its types do not fit"):
        at.do(MendRun(number, "t"))
    assert at.inline.run(number)["state"] == "failed"


def test_a_run_that_goes_on_is_not_mended(at: Floor) -> None:
    """Refused, and nothing changes."""
    number = weave(at, lambda work: sequence(step("a", work)))

    with pytest.raises(Conflict, match="cannot be mended"):
        at.do(MendRun(number, "t"))
    at.end("1/a")
    assert state(at, number, "a") == "done"


def test_deadline_and_tries_begin_anew(at: Floor) -> None:
    """A round has as long as the first had."""
    number = weave(at, lambda work: sequence(step("a", work)), deadline="10s")
    at.advance(11)
    at.end("1/a", "cancelled")
    assert at.inline.run(number)["state"] == "failed"
    logged = at.inline.database.writer.execute("SELECT what, who FROM commands ORDER BY id")
    assert [tuple(row) for row in logged][-1] == ("deadline", "service")

    at.do(MendRun(number, "t"))
    at.advance(9)
    assert at.running == ["1/a"]
    at.advance(2)
    assert at.hands["w"].orders[-1]["why"] == "deadline"
    at.do(Tick())
    at.end("1/a", output=1)
    assert at.inline.run(number)["state"] == "done"


def test_a_cancelled_parallel_is_mended_whole(at: Floor) -> None:
    """What was cancelled, stopped or not reached runs; params and plan stay."""
    number = weave(
        at, lambda work: sequence(parallel("p", step("x", work), step("y", work)), step("z", work))
    )
    at.do(CancelRun(number, "t"))
    at.end("1/p/x", "cancelled")
    at.end("1/p/y", output=1)
    assert at.inline.run(number)["state"] == "cancelled"

    at.do(MendRun(number, "t"))
    assert at.running == ["1/p/x"]
    at.end("1/p/x")
    at.end("1/z")
    assert at.inline.run(number)["state"] == "done"


def sacks() -> Loom:
    """A loom whose sacks can be torn or too heavy."""
    loom = Loom("granary")

    @loom.task
    def weigh(sack: int) -> int:
        raise NotImplementedError

    @loom.task
    def label(weight: int) -> str:
        raise NotImplementedError

    inner = sequence(step("weigh", weigh, sack=item()), step("label", label, weight=previous))
    loom.workflow("stock", plan=each("sacks", over=list(range(6)), if_one_fails="finish", do=inner))
    return loom


def test_only_some_failures_are_mended() -> None:
    """Those of a step, an error or a message; the rest stays failed, and can be mended later."""
    with floor() as at:
        at.publish(sacks())
        at.worker(places=6)
        number = at.start("stock")
        for sack in range(6):
            weigh = f"{number}/sacks[{sack}]/weigh"
            if sack < 2:
                at.end(weigh, output=sack)
                at.end(f"{number}/sacks[{sack}]/label", output="l")
            else:
                kind = "OSError" if sack < 4 else "ValueError"
                at.end(
                    weigh,
                    "failed",
                    error={"type": kind, "message": "wet" if sack == 3 else f"torn {sack}"},
                )
        found = at.inline._ask(number, failures)
        kinds = [(one.said, one.number) for one in found.kinds]
        assert kinds == [("torn …", 2), ("torn 2", 1), ("wet", 1)]
        with pytest.raises(NotFound, match="no step"):
            at.do(MendRun(number, "t", only=FailuresOf("sacks/way")))
        with pytest.raises(Conflict, match="failed with KeyError"):
            at.do(MendRun(number, "t", only=FailuresOf("sacks/weigh", "KeyError")))

        at.do(MendRun(number, "t", only=FailuresOf("sacks/weigh", "OSError", "torn …")))
        assert at.running == [f"{number}/sacks[2]/weigh"]
        at.fail(f"{number}/sacks[2]/weigh")
        at.do(MendRun(number, "t", only=FailuresOf("sacks/weigh", "OSError")))
        assert at.running == [f"{number}/sacks[{sack}]/weigh" for sack in (2, 3)]
        assert at.inline.run(number)["error"] is None, "it runs"
        for sack in (2, 3):
            at.end(f"{number}/sacks[{sack}]/weigh", output=sack)
            at.end(f"{number}/sacks[{sack}]/label", output="l")
        assert at.inline.run(number)["state"] == "failed"
        error = at.inline.run(number)["error"]
        assert (error["step"], error["type"]) == (f"{number}/sacks[4]/weigh", "ValueError")
        assert not audit(at.inline.database.writer)
        at.do(MendRun(number, "t", only=FailuresOf("sacks/weigh")))
        assert at.running == [f"{number}/sacks[{sack}]/weigh" for sack in (4, 5)]
        for sack in (4, 5):
            at.end(f"{number}/sacks[{sack}]/weigh", output=sack)
            at.end(f"{number}/sacks[{sack}]/label", output="l")
        assert at.inline.run(number)["state"] == "done"
