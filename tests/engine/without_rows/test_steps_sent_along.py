"""Relays: steps that a worker runs one behind the other. Nobody can tell the difference."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import datetime
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from tests.engine.without_rows.test_giving_items import Driver, end_alike, lived
from tests.helpers import much
from tests.plans import ChainMaker
from yarnloom import Loom, output, parallel, param, sequence, step
from yarnloom.engine.commands import (
    CancelRun,
    InHand,
    LoseWorker,
    PauseRun,
    Poll,
    Register,
    Report,
    Reported,
    ReportItem,
    ResumeRun,
    StartRun,
    StepAction,
    StillRunning,
    Tick,
)
from yarnloom.engine.state.steps_sent_along import Leg
from yarnloom.plan.workflow_parts import Part
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service

EVENTS = ("pause", "cancel", "restart", "lost", "handled", "begun", "later")


@settings(max_examples=much(10, 400), deadline=None)
@given(st.integers(0, 2**32))
def test_rows_are_the_same_in_the_end(seed: int) -> None:
    """Whether each step was handed out by itself, or many together."""
    end_alike(seed, ChainMaker)


def test_steps_go_together_where_a_worker_is_quick() -> None:
    """Else the tests here would prove nothing."""
    worlds = (lived(seed, straight=True, kind=ChainMaker) for seed in range(20))
    assert sum(without > 0 for _, without in worlds) > 10


@settings(max_examples=much(12, 500), deadline=None)
@given(st.integers(0, 2**32), st.sampled_from(EVENTS))
def test_whatever_happens_in_the_middle(seed: int, what: str) -> None:
    """Nothing is lost or done twice, and the run ends."""
    draw = random.Random(seed)
    with inline_service() as inline:
        driver = Driver(inline, ChainMaker(draw.randrange))
        for _ in range(draw.randrange(0, 4)):
            driver.report(draw.randrange(1, 4))
        if inline.run(1)["state"] != "running":
            return
        happen(inline, driver, what)
        driver.check()
        driver.end()
        assert not inline.engine._memory.relays.attempts
        doubled = inline.database.writer.execute(
            "SELECT step FROM attempts WHERE outcome = 'done' GROUP BY step HAVING count(*) > 1"
        ).fetchall()
        assert not doubled
        assert not inline.database.writer.execute("SELECT * FROM relays").fetchall()


def happen(inline: InlineService, driver: Driver, what: str) -> None:
    """Let something happen to the run or its worker."""
    match what:
        case "pause":
            inline.do(PauseRun(1, "test"))
            driver.report(len(driver.given))
            assert inline.run(1)["state"] != "pausing"
            if inline.run(1)["state"] == "paused":
                inline.do(ResumeRun(1, "test"))
        case "cancel":
            inline.do(CancelRun(1, "test"))
        case "restart":
            had = legs(inline)
            inline.restart()
            assert legs(inline) == had
            driver.register()
            driver.take(inline.batch(Poll("w")).messages.get("w", []))
            assert legs(inline) == had
        case "lost":
            inline.do(LoseWorker("w", "the test"))
            assert not inline.engine._memory.relays.attempts
            driver.given.clear()
            driver.register()
            driver.take(inline.batch(Poll("w")).messages.get("w", []))
        case "begun":
            driver.report(len(driver.given), begun_only=True)


def legs(inline: InlineService) -> list[Leg]:
    """Return all legs, without their inputs, which a restart works out anew."""
    known = inline.engine._memory.relays.attempts
    return [known[attempt]._replace(given=None) for attempt in sorted(known)]


class Value(BaseModel):
    """What a run begins with."""

    value: int


def add(value: int, more: int = 1) -> int:
    """One more."""
    return value + more


def chain(name: str, count: int, first: Any) -> list[Part]:
    """Steps each of which reads the one before it."""
    names = [f"{name}{at}" for at in range(count)]
    parts: list[Part] = [step(names[0], add, value=first)]
    return parts + [step(this, add, value=output(one)) for one, this in pairwise(names)]


class Line:
    """A chain of steps that a worker was given together."""

    def __init__(self, inline: InlineService, plan: Callable[[], Part] | None = None) -> None:
        self.inline = inline
        loom = Loom("l")
        loom.task(add)
        made = plan() if plan else sequence(*chain("s", 8, param("value")))
        loom.workflow("w", plan=made, params=Value)
        inline.publish(loom)
        self.register("w")
        self.number = inline.start("l/w", {"value": 10})
        self.works = self.ask("w")

    def register(self, name: str, *hands: int, ahead: int = 20) -> None:
        """A worker comes."""
        tasks = {"l/add": "h"}
        plain = ("l/add",)
        self.inline.do(Register(name, name, {}, 1, tasks, hands, plain_tasks=plain, ahead=ahead))

    def ask(self, name: str) -> list[dict[str, Any]]:
        """Return the messages to a worker."""
        return list(one_by_one(self.inline.batch(Poll(name)).messages.get(name, [])))

    def report(self, *items: ReportItem, worker: str = "w") -> Reported:
        """Report some ends, in one message."""
        found: Reported = self.inline.do(Report(worker, items, ahead=20))
        assert not audit(self.inline.database.writer)
        return found

    def done(self, *places: int) -> Reported:
        """Some of its steps are done, as the values go."""
        ends = [
            ReportItem(self.works[at]["attempt"], "done", 11 + at, begun_ago=0) for at in places
        ]
        return self.report(*ends)

    @property
    def attempts(self) -> list[int]:
        """Return the attempts of its works."""
        return [one["attempt"] for one in self.works]

    @property
    def states(self) -> dict[str, str]:
        """Of the steps that have rows."""
        graph = self.inline.graph(self.number)
        return {
            part["label"]: part["state"] for part in graph["parts"] if part["state"] != "waiting"
        }


def test_a_chain_goes_to_a_worker_in_one_message() -> None:
    """Each of its steps with where its input comes from; only the first has rows."""
    with inline_service() as inline:
        line = Line(inline)
        assert [one["address"] for one in line.works] == [f"1/s{at}" for at in range(8)]
        assert line.works[0]["input"] == {"value": 10}
        assert [one["passed"] for one in line.works[1:]] == [
            {"value": attempt} for attempt in line.attempts[:-1]
        ]
        assert line.states == {"s0": "ready"}
        line.done(0, 1, 2)
        assert line.states == {"s0": "done", "s1": "done", "s2": "done", "s3": "ready"}
        step_2 = inline.step(1, "s2")
        assert (step_2["input"], step_2["output"]) == ({"value": 12}, 13)
        line.done(3, 4, 5, 6, 7)
        assert (inline.run(1)["state"], inline.run(1)["output"]) == ("done", 18)


def test_times_are_those_of_each_step() -> None:
    """Each was ready when the one before it ended, whatever a clock says that was set back."""
    with inline_service() as inline:
        line = Line(inline)
        inline.clock.advance(1)
        ago = [(0.9, 0.8), (0.75, 0.6), (0.65, 0.5)]
        ends = [
            ReportItem(attempt, "done", 1, begun_ago=begun, ended_ago=ended)
            for attempt, (begun, ended) in zip(line.attempts, ago, strict=False)
        ]
        line.report(*ends)
        now = inline.clock.now
        found = [inline.step(1, f"s{at}")["attempts"][0] for at in range(4)]

        def micros(at: int, name: str) -> int:
            return round(datetime.fromisoformat(found[at][name]).timestamp() * 1_000_000) - now

        began = [micros(at, "begun_at") for at in range(3)]
        assert began == [-900_000, -750_000, -600_000], "not before the one before it ended"
        assert [micros(at, "ended_at") for at in range(3)] == [-800_000, -600_000, -500_000]
        handed = [micros(at, "handed_at") for at in range(1, 4)]
        assert handed == [-800_000, -600_000, -500_000]


def test_the_token_of_a_step_is_the_same_before_and_after_it_has_rows() -> None:
    """For outside services it is one step, on every worker."""
    with inline_service() as inline:
        line = Line(inline)
        tokens = {one["address"]: one["token"] for one in line.works}
        assert len(set(tokens.values())) == 8
        line.done(0)
        inline.do(LoseWorker("w", "the test"))
        line.register("x", ahead=20)
        again = line.ask("x")
        assert [one["address"] for one in again] == ["1/s1"], "a second try goes by itself"
        answer = line.report(ReportItem(again[0]["attempt"], "done", 1, begun_ago=0), worker="x")
        again += one_by_one(answer.messages)
        assert {one["address"]: one["token"] for one in again} == {
            address: token for address, token in tokens.items() if address != "1/s0"
        }


def test_ends_count_in_whatever_order_a_report_has_them() -> None:
    """A failed leg counts after the done ones before it."""
    with inline_service() as inline:
        line = Line(inline)
        ends = [ReportItem(line.attempts[at], "done", 11 + at, begun_ago=0) for at in range(3)]
        failed = ReportItem(line.attempts[3], "failed", error={"type": "E"}, begun_ago=0)
        back = [ReportItem(attempt, "handed_back") for attempt in line.attempts[4:]]
        assert not line.report(failed, *reversed(back), *reversed(ends)).refused
        assert line.states["s2"] == "done"
        assert line.states["s3"] == "failed"
        assert inline.run(1)["state"] == "failed"
        assert not line.report(*back).refused, "told again, since the answer was lost"


def test_what_nobody_knows_the_end_of_is_refused() -> None:
    """An end of a step whose turn has not come, as its worker was told by nobody."""
    with inline_service() as inline:
        line = Line(inline)
        answer = line.done(4)
        assert [one["attempt"] for one in answer.refused] == [line.attempts[4]]
        assert line.states == {"s0": "ready"}
        line.done(0, 1, 2, 3)
        assert line.states["s4"] == "ready"


def test_a_begin_can_be_told_before_the_end_of_the_one_before_it() -> None:
    """That end can be held up in a process whose next task lets nothing else run."""
    with inline_service() as inline:
        line = Line(inline)
        begun = ReportItem(line.attempts[1], begun_ago=0.1)
        assert not line.report(begun).refused
        line.done(0)
        assert line.states["s1"] == "ready"
        assert not line.report(begun).refused
        assert line.states["s1"] == "running"
        line.done(*range(1, 8))
        assert inline.run(1)["state"] == "done"


def test_other_runs_wait_for_no_more_than_a_worker_holds_ahead() -> None:
    """Of the highest priority first; where there is room for the whole of a run, it goes along."""
    with inline_service() as inline:
        line = Line(inline)
        line.done(*range(8))
        line.ask("w")
        starts = [StartRun("l/w", {"value": 1}, str(at), "test") for at in range(30)]
        urgent = StartRun("l/w", {"value": 1}, "urgent", "test", priority=5)
        given = list(one_by_one(inline.batch(*starts, urgent).messages["w"]))
        assert len(given) == 21
        runs = [int(one["address"].partition("/")[0]) for one in given]
        assert runs == [32] * 8 + [2] * 8 + [3] * 5

        ends = [ReportItem(one["attempt"], "done", 1, begun_ago=0) for one in given]
        given = list(one_by_one(line.report(*ends).messages))
        runs = [int(one["address"].partition("/")[0]) for one in given]
        assert runs == [4] * 8 + [5] * 8 + [6] * 5, "run 3 has had its turn"


def test_a_chain_that_is_done_counts_for_no_share() -> None:
    """Turns are fair only if what has ended is not counted as running."""
    with inline_service() as inline:
        line = Line(inline)
        line.done(*range(8))

        shares = inline.engine._memory.queue.lanes._shares
        assert inline.run(1)["state"] == "done"
        assert sum(share.running for share in shares.values()) == 0


def test_a_decision_waits_until_it_is_known_what_has_begun() -> None:
    """Workers are asked; nothing was decided meanwhile, and the run gets no such steps again."""
    with inline_service() as inline:
        line = Line(inline)
        place = inline.place(1, "s4")
        command = StepAction(1, "s4", place.node, place.holder, "skip", "test")
        assert isinstance(inline.do(command), StillRunning)
        orders = line.ask("w")
        told = {one["attempt"] for one in orders if one["kind"] == "stop"}
        assert told == set(line.attempts[1:])
        assert isinstance(inline.do(command), StillRunning)
        back = [ReportItem(one, "handed_back") for one in line.attempts[3:]]
        line.report(*back)
        line.done(0, 1, 2)
        assert not isinstance(inline.do(command), StillRunning)
        (third,) = [one for one in line.ask("w") if one["kind"] == "work"]
        assert third["address"] == "1/s3"
        line.report(ReportItem(third["attempt"], "done", 1, begun_ago=0))
        assert line.states["s4"] == "skipped"


def test_what_had_begun_before_a_cancel_was_heard_is_recorded() -> None:
    """As the worker reports it; a leg that it gives back is cancelled."""
    with inline_service() as inline:
        line = Line(inline)
        inline.do(CancelRun(1, "test"))
        orders = line.done(0, 1, 2).messages
        assert line.states["s3"] == "ready"
        assert ("stop", line.attempts[3], "cancel") in [
            (one["kind"], one["attempt"], one.get("why")) for one in orders
        ], "it may run for long"
        line.report(*[ReportItem(one, "handed_back") for one in line.attempts[3:]])
        assert inline.run(1)["state"] == "cancelled"
        assert [one["state"] for one in inline.graph(1)["parts"]] == ["done"] * 3 + [
            "cancelled"
        ] * 5


def test_what_a_worker_may_have_begun_is_held_by_a_pause() -> None:
    """It can stop where it can resume, and continues with the run."""
    with inline_service() as inline:
        line = Line(inline)
        inline.do(PauseRun(1, "test"))
        line.done(0, 1)
        assert inline.run(1)["state"] == "pausing"
        stops = inline.database.writer.execute("SELECT stop FROM steps WHERE open IS NOT NULL")
        assert stops.fetchall() == [("pause",)]
        orders = inline.batch(ResumeRun(1, "test"), Poll("w")).messages["w"]
        told = {(one["kind"], one["attempt"]) for one in orders}
        assert ("go_on", line.attempts[2]) in told
        line.report(*[ReportItem(one, "handed_back") for one in line.attempts[3:]])
        line.done(2)
        assert line.states["s3"] == "ready"


@pytest.mark.parametrize("lost", [True, False])
def test_a_worker_that_is_gone_has_nothing_any_more(lost: bool) -> None:
    """The engine refuses its ends of legs, and hands their steps to another worker."""
    with inline_service() as inline:
        line = Line(inline)
        line.done(0, 1)
        inline.do(LoseWorker("w", "the test"))
        if lost:
            line.register("w")
        line.register("x")
        (again, *_) = line.ask("x")
        assert (again["address"], again["number"]) == ("1/s2", 2)
        if lost:
            assert len(line.done(2, 3).refused) == 2


def test_printed_lines_find_their_step() -> None:
    """Also those of a step that has no rows yet."""
    with inline_service() as inline:
        line = Line(inline)
        found = inline.do(InHand("w", tuple(line.attempts)))
        assert set(found) == set(line.attempts)
        assert found[line.attempts[0]] is None
        printer = found[line.attempts[5]]
        assert (printer.run, printer.address) == (1, "1/s5")
        assert printer.key[-2:] == (1, line.attempts[5])


def test_numbers_are_never_given_out_twice() -> None:
    """Neither those of steps that were given back, however often the service starts."""
    with inline_service() as inline:
        line = Line(inline)
        highest = max(line.attempts)
        line.report(*[ReportItem(attempt, "handed_back") for attempt in line.attempts[1:]])
        inline.restart()
        line.register("w", line.attempts[0])
        (again, *_) = one_by_one(line.done(0).messages)
        assert again["address"] == "1/s1"
        assert again["attempt"] > highest


def test_a_worker_that_comes_again_without_them_is_given_them_anew() -> None:
    """Its message was lost, or it is another process of that name."""
    with inline_service() as inline:
        line = Line(inline)
        line.register("w", *line.attempts[:3])
        assert list(inline.engine._memory.relays.attempts) == line.attempts[1:3]
        again = list(one_by_one(line.done(0, 1, 2).messages))
        assert [one["address"] for one in again] == [f"1/s{at}" for at in range(3, 8)]


def test_what_is_taken_from_a_worker_takes_what_is_behind_it_along() -> None:
    """It may go on with it: its reports change nothing, and it is to end it."""
    with inline_service() as inline:
        line = Line(inline)
        told = [line.works[0]]
        for _ in range(20):
            inline.clock.advance(1)
            heard = tuple(one["serial"] for one in told)
            told += inline.do(Report("w", (), heard)).messages
            told += inline.batch(Tick()).messages.get("w", [])
        orders = [(one["kind"], one["attempt"]) for one in told if one["kind"] != "work"]
        assert orders[0] == ("give_back", line.attempts[0])
        assert {one for kind, one in orders if kind == "drop"} == set(line.attempts)
        assert inline.step(1, "s0")["attempts"][0]["outcome"] == "handed_back"
        assert not inline.engine._memory.relays.attempts
        assert len(line.done(*range(8)).refused) == 8


def test_branches_beside_each_other_have_their_own() -> None:
    """A relay is of one sequence."""
    with inline_service() as inline:
        left, right = (sequence(name, *chain(name, 3, 1)) for name in ("a", "b"))
        line = Line(inline, lambda: parallel("both", left, right))
        assert len(line.works) == 6
        firsts = [one["attempt"] for one in line.works if "behind" not in one]
        assert len(firsts) == 2
        ends = [ReportItem(one["attempt"], "done", 1, begun_ago=0) for one in line.works]
        line.report(*ends)
        assert inline.run(1)["state"] == "done"
