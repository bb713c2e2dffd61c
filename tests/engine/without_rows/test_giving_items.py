"""Items that go straight to workers: nobody can tell the difference afterwards."""

from __future__ import annotations

import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import much
from tests.plans import KINDS, Maker, StraightMaker, behave
from tests.same import PARAMS, document_of
from yarnloom.engine.commands import (
    CancelRun,
    ChangePool,
    LoseWorker,
    PauseRun,
    Poll,
    Publish,
    Register,
    Report,
    ReportItem,
    ResumeRun,
    Tick,
)
from yarnloom.engine.queries import item_pages
from yarnloom.engine.without_rows.giving_items import UNSEEN_SECONDS
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.service.render.parts import items_json
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service

POOL = {"loom": "random", "name": "narrow", "limit": 3, "rate": None, "note": ""}
TASKS = {f"random/{name}": "hash" for name in KINDS}
OF_ORDER = ("id", "part", "parent", "item_part", "step", "handed_at", "ready_at", "begun_at", "pid")
TIMES = ("started_at", "ended_at", "since", "moved_at", "due_at", "pool_until", "open")


class Driver:
    """One run, with a worker that ends everything at once."""

    def __init__(self, inline: InlineService, maker: Maker) -> None:
        self.inline = inline
        self.gave: dict[int, Any] = {}
        self.given: list[dict[str, Any]] = []
        self.seen: set[int] = set()
        self.without_rows = 0
        inline.do(Publish([document_of(maker, "w", *maker.make())], [], "test", [POOL]))
        self.register()
        inline.start("random/w", PARAMS)
        self.take(inline.batch(Poll("w")).messages.get("w", []))

    def register(self) -> None:
        """Register the worker, with the attempts that it has in hand."""
        hands = tuple(one["attempt"] for one in self.given)
        plain = tuple(TASKS)
        self.inline.do(Register("w", "w", {}, 2, TASKS, hands, plain_tasks=plain, ahead=8))

    def take(self, messages: list[dict[str, Any]]) -> None:
        """Take in what the service tells the worker."""
        for one in one_by_one(messages):
            if one["kind"] == "work" and one["attempt"] not in self.seen:
                self.seen.add(one["attempt"])
                self.given.append(one)

    def report(self, count: int, *, begun_only: bool = False) -> None:
        """Report the ends of some attempts in hand."""
        memory = self.inline.engine._memory
        self.without_rows += len(memory.grants.attempts) + len(memory.relays.attempts)
        some, items = self.given[:count], []
        if not begun_only:
            del self.given[:count]
        for work in some:
            name = work["task"].partition("/")[2]
            if "behind" in work:
                if work["behind"] not in self.gave:
                    items.append(ReportItem(work["attempt"], "handed_back"))
                    continue
                work["input"] |= {one: self.gave[by] for one, by in work["passed"].items()}
            outcome, value = behave(name, work["input"], work["tries"])
            error = {"error": {"type": "E", "message": ""}} if outcome == "failed" else {}
            if outcome == "done" and not begun_only:
                self.gave[work["attempt"]] = value
            told = {} if begun_only else {"outcome": outcome, "output": value, **error}
            items.append(ReportItem(work["attempt"], begun_ago=0.001, **told))
        self.take(self.inline.do(Report("w", tuple(items), ahead=8)).messages)
        self.check()

    def check(self) -> None:
        """All invariants of the records."""
        assert not audit(self.inline.database.writer)

    def end(self) -> None:
        """Let it end."""
        for _ in range(500):
            self.report(len(self.given))
            self.inline.clock.advance(0.01 if self.given else 1)
            self.inline.batch(Tick())
            self.take(self.inline.batch(Poll("w")).messages.get("w", []))
            if self.inline.run(1)["state"] in ("done", "failed", "cancelled"):
                return
        raise AssertionError("it never ended")


def rows(inline: InlineService) -> dict[str, list[dict[str, Any]]]:
    """Return all rows of the run by table, without ids and times."""
    inline.unfold(1)
    assert not audit(inline.database.writer)
    found: dict[str, list[dict[str, Any]]] = {}
    for table, order in (("parts", "rank"), ("steps", "rank"), ("attempts", "step, number")):
        cursor = inline.database.writer.execute(f"SELECT * FROM {table} ORDER BY {order}")
        names = [column[0] for column in cursor.description]
        left = {*OF_ORDER, *TIMES, "share", "fraction"}
        rows = [dict(zip(names, row, strict=True)) for row in cursor]
        found[table] = [
            {name: value for name, value in row.items() if name not in left} for row in rows
        ]
    found["attempts"].sort(key=repr)
    return found


def lived(
    seed: int, *, straight: bool, kind: type[Maker] = StraightMaker
) -> tuple[dict[str, Any], int]:
    """The rows of a whole run, and how many items or steps went without for a while."""
    draw = random.Random(seed)
    with inline_service(straight=straight) as inline:
        driver = Driver(inline, kind(draw.randrange))
        driver.end()
        return rows(inline), driver.without_rows


def end_alike(seed: int, kind: type[Maker]) -> None:
    """Compare a run with one whose items and steps had rows all along."""
    plain, none = lived(seed, straight=False, kind=kind)
    assert not none
    found, _ = lived(seed, straight=True, kind=kind)
    if plain["parts"][0]["state"] == "done":
        assert found == plain
    else:  # what had begun when something failed depends on who was told first
        assert found["parts"][0]["state"] == plain["parts"][0]["state"]


@settings(max_examples=much(8, 400), deadline=None)
@given(st.integers(0, 2**32))
def test_rows_are_the_same_in_the_end(seed: int) -> None:
    """Whether items had them all along, or got them when they ended."""
    end_alike(seed, StraightMaker)


def test_items_go_without_rows_where_a_worker_is_quick() -> None:
    """Else the tests here would prove nothing."""
    assert sum(lived(seed, straight=True)[1] > 0 for seed in range(20)) > 10


@settings(max_examples=much(8, 400), deadline=None)
@given(st.integers(0, 2**32), st.sampled_from(("pause", "cancel", "restart", "begun", "unseen")))
def test_whatever_happens_in_the_middle(seed: int, what: str) -> None:
    """Items get their rows, nothing is lost or done twice, and the run ends."""
    draw = random.Random(seed)
    with inline_service() as inline:
        driver = Driver(inline, StraightMaker(draw.randrange))
        for _ in range(draw.randrange(1, 5)):
            driver.report(draw.randrange(1, 5))
        known = inline.engine._memory.grants
        had = set(known.attempts)
        if inline.run(1)["state"] != "running":
            return
        if what == "pause":
            inline.do(PauseRun(1, "test"))
            assert not inline.engine._memory.grants.attempts
            driver.check()
            driver.report(len(driver.given))
            assert inline.run(1)["state"] != "pausing"
            if inline.run(1)["state"] == "paused":
                inline.do(ResumeRun(1, "test"))
        elif what == "cancel":
            inline.do(CancelRun(1, "test"))
            assert not inline.engine._memory.grants.attempts
        elif what == "restart":
            inline.restart()
            driver.check()
            open_now = {
                attempt
                for (attempt,) in inline.database.writer.execute(
                    "SELECT id FROM attempts WHERE outcome IS NULL"
                )
            }
            assert had <= open_now
            driver.register()
            driver.take(inline.batch(Poll("w")).messages.get("w", []))
        elif what == "begun":
            driver.report(len(driver.given), begun_only=True)
            assert not had & set(known.attempts)
        else:
            inline.clock.advance(UNSEEN_SECONDS + 0.1)
            inline.batch(Tick())
            assert not had & set(known.attempts)
        driver.check()
        driver.end()
        doubled = inline.database.writer.execute(
            "SELECT step FROM attempts WHERE outcome = 'done' GROUP BY step HAVING count(*) > 1"
        ).fetchall()
        assert not doubled


@pytest.mark.parametrize("what", ["pool", "worker"])
def test_what_changes_around_it(what: str) -> None:
    """A pool that gets a rate, and a worker that is lost: what was given has rows before."""
    for seed in range(much(8, 30)):
        draw = random.Random(seed)
        with inline_service() as inline:
            driver = Driver(inline, StraightMaker(draw.randrange))
            driver.report(2)
            if what == "pool":
                rate = {"count": 5, "per": 1.0}
                inline.do(ChangePool("narrow", {"rate": rate}, "test"))
                assert not any(one.pool for one in inline.engine._memory.grants.eaches.values())
            else:
                inline.do(LoseWorker("w", "the test"))
                assert not inline.engine._memory.grants.attempts
                driver.given.clear()
                driver.register()
                driver.take(inline.batch(Poll("w")).messages.get("w", []))
            driver.check()
            driver.end()


@pytest.mark.parametrize("limit", [3, 500])
def test_lists_show_each_item_once_while_later_ones_have_ended(limit: int) -> None:
    """A page has every item in its order, those that have no row as waiting."""
    shown_early = 0
    for seed in range(much(12, 40)):
        draw = random.Random(seed)
        with inline_service() as inline:
            driver = Driver(inline, StraightMaker(draw.randrange))
            driver.report(2)
            draw.shuffle(driver.given)
            driver.report(2)
            for straight in inline.engine._memory.grants.eaches.values():
                total = inline.engine._unit.parts.need(straight.each).total
                address = straight.address.partition("/")[2]
                items: list[dict[str, Any]] = []
                following: str | None = "0"
                while following is not None:
                    page = items_json(
                        inline._ask(1, item_pages.items, address, (), int(following), limit)
                    )
                    items += page["items"]
                    following = page["next"]
                assert [one["item"] for one in items] == list(range(total))
                ended = [one["item"] for one in items if one["state"] != "waiting"]
                shown_early += ended != list(range(len(ended)))
                waiting = inline.items(1, address, "waiting")
                assert {one["item"] for one in waiting} >= set(straight.given)
    assert shown_early, "in no world an item had ended before an earlier one"
