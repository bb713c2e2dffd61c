"""Items that are done have no rows until somebody asks: nobody can tell the difference."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.engine.without_rows.test_giving_items import Driver
from tests.helpers import much
from tests.plans import StraightMaker
from yarnloom import Loom, each, item, sequence, step
from yarnloom.engine.commands import (
    CancelRun,
    MendRun,
    PauseRun,
    Poll,
    Register,
    Report,
    ReportItem,
    ResumeRun,
    StepAction,
    Unfold,
)
from yarnloom.engine.queries import (
    export_pages,
    failures_by_kind,
    item_pages,
    run_graph,
    time_spent,
)
from yarnloom.engine.without_rows.item_batches import AT_ONCE, LARGEST_OUTPUT
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.service.render.parts import items_json
from yarnloom.service.render.step_texts import step_texts
from yarnloom.store import audit
from yarnloom.store.integrity import verify
from yarnloom.store.runs import earlier_times
from yarnloom.store.workers import pool_records, worker_records
from yarnloom.testing import InlineService, inline_service

ITEMS = 600


def questions(inline: InlineService, moments: list[int]) -> Iterator[tuple[Any, ...]]:
    """All that can be asked about run 1."""
    now = inline.clock.now
    yield time_spent.spending, now
    yield (run_graph.graph,)
    yield (failures_by_kind.failures,)
    for at in moments:
        yield run_graph.graph, "", at
    for label in eaches(inline):
        yield time_spent.outliers, label, now, 3
        for states in ((), ("done",), ("waiting",), ("failed", "done"), ("running", "cancelled")):
            yield item_pages.items, label, states, 0, 4
            yield item_pages.items, label, states, 3, 100
        yield item_pages.items, label, (), 0, 100, "1"
        yield export_pages.items, label, (), 2, 3
    yield run_graph.attempts, "", 0, 1_000
    yield step_texts, 0, 1_000


def eaches(inline: InlineService) -> list[str]:
    """The addresses of the eaches of run 1."""
    found = []

    def look(view: dict[str, Any], around: str) -> None:
        for child in view.get("parts", ()):
            address = f"{around}/{child['label']}".lstrip("/")
            if child["kind"] == "each":
                found.append(address)
            look(child, address)

    look(inline.graph(1), "")
    return found


def folded(inline: InlineService) -> int:
    """How many items are done and have no rows."""
    ((count,),) = inline.database.writer.execute("SELECT count(*) FROM folded")
    return int(count)


@settings(max_examples=much(12, 300), deadline=None)
@given(st.integers(0, 2**32))
def test_every_answer_is_the_same_with_rows(seed: int) -> None:
    """In the middle of a run, and at its end; also back at earlier moments."""
    draw = random.Random(seed)
    with inline_service() as inline:
        driver = Driver(inline, StraightMaker(draw.randrange))
        moments = []
        for _ in range(draw.randrange(1, 6)):
            driver.report(draw.randrange(1, 8))
            moments.append(inline.clock.now - draw.randrange(3_000))
            inline.clock.advance(draw.choice((0.0, 0.0005, 0.01)))
        if draw.randrange(2):
            driver.end()
        asked = list(questions(inline, moments))
        draw.shuffle(asked)
        answers = [inline._ask(1, ask, *args) for ask, *args in asked]
        driver.check()
        inline.unfold(1)
        assert not folded(inline)
        driver.check()
        for (ask, *args), answer in zip(asked, answers, strict=True):
            assert inline._ask(1, ask, *args) == answer, (ask, args)


@settings(max_examples=much(8, 200), deadline=None)
@given(st.integers(0, 2**32))
def test_what_the_engine_reads_is_the_same_with_rows(seed: int) -> None:
    """How long steps took, what attempts there were lately, and when some began in a pool."""
    draw = random.Random(seed)
    with inline_service() as inline:
        driver = Driver(inline, StraightMaker(draw.randrange))
        for _ in range(draw.randrange(1, 6)):
            driver.report(draw.randrange(1, 8))
            inline.clock.advance(draw.choice((0.0, 0.0005, 0.01)))
        unit, since = inline.engine._unit, inline.clock.now - 10**9

        def read() -> list[Any]:
            return [
                earlier_times.steps_in_items(unit, 1),
                sorted(worker_records.recent_attempts(unit, since)),
                sorted(pool_records.begins_since(unit, since)),
            ]

        before = read()
        inline.unfold(1)
        assert read() == before


def test_most_items_have_no_rows() -> None:
    """Else the tests here would prove nothing."""
    total = 0
    for seed in range(much(6, 20)):
        with inline_service() as inline:
            driver = Driver(inline, StraightMaker(random.Random(seed).randrange))
            driver.end()
            total += folded(inline)
    assert total > 40


# A long each


class Line:
    """A run of many items, and a worker that does them at once."""

    def __init__(self, inline: InlineService, output: Any = None) -> None:
        self.inline = inline
        self.output = output
        self.given: list[dict[str, Any]] = []
        self.done: dict[int, str] = {}
        self.log: list[str] = []
        loom = Loom("l")

        @loom.task
        def work(value: int) -> Any:
            return value

        plan = sequence(
            step("first", work, value=0),
            each("all", over=list(range(ITEMS)), do=step("do", work, value=item()), may_fail="50%"),
        )
        loom.workflow("w", plan=plan)
        inline.publish(loom)
        self.register()
        self.number = inline.start("l/w", {})
        self.ask()
        self.report(1)  # the first step: a run that has begun
        self.done.clear()
        self.log.clear()

    def register(self) -> None:
        """The worker comes, with what it has in hand."""
        hands = tuple(one["attempt"] for one in self.given)
        self.inline.do(Register("w", "w", {}, 2, {"l/work": "h"}, hands, ahead=198))

    def ask(self) -> None:
        """The worker asks for work."""
        self.take(self.inline.batch(Poll("w")).messages.get("w", []))

    def take(self, messages: list[dict[str, Any]]) -> None:
        """Take in what the worker is given, each attempt once."""
        known = {one["attempt"] for one in self.given} | self.done.keys()
        for one in one_by_one(messages):
            if one["kind"] == "work" and one["attempt"] not in known:
                self.given.append(one)

    def report(self, count: int, *, failed: int = 0, ended_ago: float = 0.0) -> Report:
        """End some attempts, one behind the other; the report of that."""
        some, self.given = self.given[:count], self.given[count:]
        items = []
        for at, one in enumerate(some):
            outcome = "failed" if at < failed else "done"
            value = one["input"]["value"] if self.output is None else self.output
            error = {"type": "E", "message": "no"} if at < failed else None
            told = None if at < failed else value
            ago = ended_ago + at / 10_000
            items.append(ReportItem(one["attempt"], outcome, told, error, ago + 0.001, ago))
            self.done[one["attempt"]] = one["address"]
            self.log.append(one["address"])
        command = Report("w", tuple(items), ahead=198)
        answer = self.inline.do(command)
        assert not answer.refused
        self.take(answer.messages)
        assert not audit(self.inline.database.writer)
        return command

    def end(self) -> None:
        """Do all that is left."""
        while self.given:
            self.report(64)
            if not self.given:
                self.ask()

    @property
    def state(self) -> str:
        """The run's."""
        state: str = self.inline.run(self.number)["state"]
        return state

    @property
    def items_with_rows(self) -> list[int]:
        """Indexes of the items that have rows."""
        sql = "SELECT item FROM parts WHERE value IS NOT NULL ORDER BY item"
        return [item for (item,) in self.inline.database.writer.execute(sql)]


@contextmanager
def line(**options: Any) -> Iterator[Line]:
    """One of them."""
    with inline_service() as inline:
        yield Line(inline, **options)


def test_looking_gives_nothing_rows() -> None:
    """A page, a single item, and all that can be asked about a run."""
    with line() as many:
        many.end()
        assert many.state == "done"
        changes = many.inline.database.writer.total_changes
        page = items_json(many.inline._ask(1, item_pages.items, "all", (), 100, 20))
        assert [one["item"] for one in page["items"]] == list(range(100, 120))
        assert {one["state"] for one in page["items"]} == {"done"}
        page = items_json(many.inline._ask(1, item_pages.items, "all", ("done", "failed"), 300, 10))
        assert [one["item"] for one in page["items"]] == list(range(300, 310))
        assert many.inline.step(1, "all[400]/do")["output"] == 400
        assert many.inline.graph(1)["parts"][1]["counts"]["done"] == ITEMS
        for ask, *args in questions(many.inline, [many.inline.clock.now - 1_000]):
            many.inline._ask(1, ask, *args)
        assert many.inline.database.writer.total_changes == changes
        assert not many.items_with_rows


def test_looking_back_counts_what_has_no_rows() -> None:
    """Also where far more was under way than is shown."""
    with line() as many:
        many.inline.clock.advance(0.1)
        for _ in range(20):
            many.report(10, ended_ago=0.02)
            many.inline.clock.advance(0.001)
        now = many.inline.clock.now
        moments = [now - 20_000, now - 30_000]

        def looks() -> list[Any]:
            return [many.inline.graph(1, "", at)["parts"][1] for at in moments]

        before, left = looks(), folded(many.inline)
        assert left > 100
        assert {"running", "done"} <= {
            state for one in before for state in one["do"]["parts"][0]["counts"]
        }
        many.inline.unfold(1)
        assert looks() == before


def test_waiting_is_what_has_not_ended() -> None:
    """Where later items have ended before earlier ones, and have no rows."""
    with line() as many:
        many.given.reverse()
        many.report(50)
        waiting = {one["item"] for one in many.inline.items(1, "all", "waiting")}
        assert folded(many.inline) == 50
        assert waiting == set(range(ITEMS)) - set(range(150, 200))
        many.given.sort(key=lambda one: one["attempt"])
        many.report(1)
        many.report(20)
        waiting = {one["item"] for one in many.inline.items(1, "all", "waiting")}
        assert waiting == set(range(21, ITEMS)) - set(range(150, 200))
        assert folded(many.inline) == 71


def test_who_looks_at_all_of_a_run_that_goes_on_gets_later_rows_at_once() -> None:
    """Else a run that is read page by page would never be whole."""
    with line() as many:
        many.report(100)
        assert many.inline.do(Unfold(1, every=True)) is False
        assert len(many.items_with_rows) == 100
        many.report(100)
        assert not folded(many.inline)
        many.end()
        assert many.state == "done"


def test_a_run_of_very_many_gets_rows_a_piece_at_a_time() -> None:
    """So that others are served in between."""
    with line() as many:
        while many.given:
            many.report(3)
            many.ask()
        left, pieces = True, 0
        while left:
            left, pieces = many.inline.do(Unfold(1, every=True)), pieces + 1
            if pieces in (1, 2):
                assert not audit(many.inline.database.writer)
        assert not audit(many.inline.database.writer)
        assert pieces >= ITEMS / 3 / AT_ONCE
        assert many.items_with_rows == list(range(ITEMS))


def test_the_same_report_twice_is_no_mistake() -> None:
    """Its answer may have been lost; another worker's attempt is refused."""
    with line() as many:
        command = many.report(60)
        assert folded(many.inline) == 60
        assert not many.inline.do(command).refused
        assert folded(many.inline) == 60
        many.inline.do(Register("other", "other", {}, 1, {}))
        refused = many.inline.do(Report("other", command.items)).refused
        assert len(refused) == 60
        assert not audit(many.inline.database.writer)


def test_numbers_go_on_above_them_after_a_restart() -> None:
    """Nothing is done twice, and no number is given out again."""
    with line() as many:
        many.report(60)
        many.report(13)
        many.inline.restart()
        assert not audit(many.inline.database.writer)
        many.register()
        many.ask()
        many.end()
        assert many.state == "done"
        assert len(many.log) == len(set(many.log)) == ITEMS
        assert many.inline.step(1, "all[5]/do")["output"] == 5
        many.inline.unfold(1)
        assert not audit(many.inline.database.writer)


def test_numbers_go_on_where_nothing_is_in_hand() -> None:
    """Those of items that are done are not given out again."""
    with line() as many:
        many.end()
        assert folded(many.inline) == ITEMS
        many.inline.restart()
        many.register()
        many.inline.start("l/w", {})
        many.ask()
        many.end()
        assert many.inline.run(2)["state"] == "done"
        assert not audit(many.inline.database.writer)


def test_a_failed_run_is_mended() -> None:
    """Those that were done are not done again, and stay in their batches."""
    with line() as many:
        for _ in range(6):
            many.report(60, failed=55)
        many.end()
        assert many.state == "failed"
        ended = set(many.log)
        batched = folded(many.inline)
        assert batched
        many.inline.do(MendRun(1, "t"))
        assert folded(many.inline) == batched
        many.ask()
        many.end()
        assert many.state == "done"
        again = many.log[len(ended) :]
        assert len(ended) + len(set(again) - ended) == ITEMS
        assert not audit(many.inline.database.writer)
        assert [one["state"] for one in many.inline.items(1, "all")] == ["done"] * ITEMS


def test_decisions_about_one_item() -> None:
    """A person asks for one of those that are done to run again."""
    with line() as many:
        many.report(120)
        place = many.inline.place(1, "all[7]/do")
        before = many.inline.step(1, "all[7]/do")
        skip = StepAction(1, place.address, place.node, place.holder, "skip", "t")
        with pytest.raises(Exception, match="done"):
            many.inline.do(replace(skip, item=place.item))
        assert not audit(many.inline.database.writer)
        assert many.items_with_rows[:2] == [7, 120]
        assert many.inline.step(1, "all[7]/do") == before
        many.end()
        assert many.state == "done"


@pytest.mark.parametrize("what", ["pause", "cancel"])
def test_stopping_a_run_does_not_wait_for_rows(what: str) -> None:
    """It acts at once, however many items are done."""
    with line() as many:
        many.report(60)
        many.report(60)
        had = folded(many.inline)
        assert had == 120
        many.inline.do(PauseRun(1, "t") if what == "pause" else CancelRun(1, "t"))
        assert folded(many.inline) == had
        assert not audit(many.inline.database.writer)
        if what == "pause":
            many.inline.do(ResumeRun(1, "t"))
            many.ask()
        many.end()
        assert many.state == ("done" if what == "pause" else "cancelled")


def test_long_outputs_have_rows_from_the_start() -> None:
    """A row of many long ones would be too large to be read for one of them."""
    with line(output="x" * (LARGEST_OUTPUT - 1)) as many:
        many.report(30)
        assert not folded(many.inline)
        assert len(many.items_with_rows) == 30
    with line(output="x" * (LARGEST_OUTPUT - 2)) as many:  # with its quotes as long as may be
        many.report(30)
        assert folded(many.inline) == 30


def test_what_there_is_counts_the_same() -> None:
    """For `yarnloom verify`: parts, steps and attempts, with rows or without."""
    with line() as many:
        many.end()
        records, folder = many.inline.database.writer, many.inline.database.folder
        before = verify(records, folder)
        assert before.counts["attempts"] == ITEMS + 1
        assert not before.faults
        many.inline.unfold(1)
        assert verify(records, folder).counts == before.counts


def test_damage_is_found() -> None:
    """A segment that is gone, or told twice."""
    with line() as many:
        many.report(60)
        writer = many.inline.database.writer
        writer.execute("SAVEPOINT here")
        writer.execute("DELETE FROM segments")
        assert audit(writer)
        writer.execute("ROLLBACK TO here")
        assert not audit(writer)
        writer.execute(
            "INSERT INTO segments SELECT attempt + 1000, run, each, node, item, span, part + 1000,"
            " step + 1000, pool, worker, code_hash, round, handed_at, told_at, items FROM segments"
        )
        assert any("numbers are nobody else's" in one for one in audit(writer))
        writer.execute("ROLLBACK TO here")
        writer.execute("RELEASE here")
