"""Pools: what they limit, at every moment, whatever changes."""

from __future__ import annotations

import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from tests.floor import Floor, floor, task_loom
from yarnloom import Loom, Rate, each, item, param, sequence, step
from yarnloom.engine.commands import LoseWorker, Publish, RemovePool, Report
from yarnloom.errors import Conflict, InvalidInput, NotFound, PlanError
from yarnloom.plan.step_rules import read_rules
from yarnloom.store import audit


class Values(BaseModel):
    """Any values."""

    values: list[Any]


def wide_loom(count: int, **pool: Any) -> Loom:
    """A loom whose one workflow has many steps in a pool."""
    loom, work = task_loom()
    loom.pool("link", **pool)
    do = step("it", work, value=item(), pool="link")
    loom.workflow("wide", plan=each("all", over=list(range(count)), do=do))
    return loom


def begin(at: Floor, count: int = 30, places: int = 50, **pool: Any) -> int:
    """A run of many steps in a pool, and more places than they need."""
    at.publish(wide_loom(count, **pool))
    at.worker(places=places)
    return at.start("wide")


def test_a_limit_holds_and_ends_make_room(at: Floor) -> None:
    """In plan order."""
    number = begin(at, limit=3)
    assert at.running == [f"{number}/all[{i}]/it" for i in range(3)]
    pool = at.inline.pool("link")
    assert (pool["in_use"], pool["waiting"]) == (3, 27)
    assert pool["used_by"] == [{"run": number, "weight": 3}]
    at.end(f"{number}/all[1]/it")
    assert at.running == [f"{number}/all[{i}]/it" for i in (0, 2, 3)]


def test_raising_begins_more_at_once_and_lowering_lets_running_ones_finish(at: Floor) -> None:
    """In the very commit; and what is over the limit ends before another begins."""
    begin(at, limit=1)
    assert len(at.running) == 1
    assert at.change("link", limit=10)["in_use"] == 10
    assert len(at.running) == 10
    at.change("link", limit=2)
    assert len(at.running) == 10
    for _ in range(8):
        at.end(at.running[0])
        assert len(at.running) >= 2
    assert len(at.running) == 2
    at.end(at.running[0])
    assert len(at.running) == 2
    at.change("link", limit=None)
    assert len(at.running) == 21


@pytest.mark.parametrize(
    ("halt", "go_on"), [({"limit": 0}, {"limit": 2}), ({"paused": True}, {"paused": False})]
)
def test_a_halted_pool_begins_nothing_and_stops_nothing(
    at: Floor, halt: dict[str, Any], go_on: dict[str, Any]
) -> None:
    """From that instant, also over a restart."""
    number = begin(at, limit=2)
    at.change("link", **halt)
    at.end(at.running[0])
    assert len(at.running) == 1
    at.inline.restart()
    at.worker()
    at.end(at.running[0])
    assert at.running == []
    assert at.hands["w"].orders == []
    at.change("link", **go_on)
    assert at.running == [f"{number}/all[{i}]/it" for i in (2, 3)]


def test_a_pool_keeps_its_count_over_a_restart_and_a_lost_worker(at: Floor) -> None:
    """What is in hand counts; what is lost makes room."""
    begin(at, limit=3)
    at.inline.restart()
    assert at.inline.pool("link")["in_use"] == 3
    at.worker()
    assert len(at.running) == 3
    at.worker("v", places=50)
    assert at.hands["v"].attempts == {}
    del at.hands["w"]
    at.do(LoseWorker("w", "killed"))
    assert len(at.hands["v"].attempts) == 3


def test_an_abandoned_attempt_keeps_its_place_until_its_process_has_ended(at: Floor) -> None:
    """It is over for its step, but it may still use what the pool protects."""
    begin(at, limit=1)
    first = next(iter(at.hands["w"].attempts))
    at.end(at.running[0], "cancelled", abandoned=True, error={"type": "Abandoned"})
    assert at.running == []
    at.inline.restart()
    at.worker(abandoned=(first,))
    assert (at.running, at.inline.pool("link")["in_use"]) == ([], 1)
    at.do(Report("w", freed=(first,)))
    assert len(at.running) == 1


def test_a_pool_has_a_limit_of_its_own_for_each_value(at: Floor) -> None:
    """Text, numbers, true, false and null; other values fail the step."""
    loom, work = task_loom()
    loom.pool("link", limit=1)
    do = step("it", work, pool="link", per=item())
    values = ["north", "south", "north", 7, None, "a/b]", True, {"not": "plain"}]
    plan = each("all", over=param("values"), may_fail=1, do=do)
    loom.workflow("values", params=Values, plan=plan)
    at.publish(loom)
    at.worker(places=50)
    number = at.start("values", {"values": values})

    assert at.running == [f"{number}/all[{i}]/it" for i in (0, 1, 3, 4, 5, 6)]
    pool = at.inline.pool("link")
    assert pool["values"][0] == {"value": "north", "in_use": 1, "waiting": 1}
    assert {value["value"] for value in pool["values"]} == {
        "north",
        "south",
        "7",
        "null",
        "a/b]",
        "true",
    }
    assert "expected text" in at.inline.items(number, "all", "failed")[0]["error"]["message"]
    at.end(f"{number}/all[0]/it")
    assert at.running[-1] == f"{number}/all[2]/it"


def test_a_tasks_pool_is_per_an_input_also_where_the_input_is_left_out(at: Floor) -> None:
    """`per` of a task names an input; its default counts like a given value."""
    loom = Loom("l")
    loom.pool("link", limit=1)

    @loom.task(pool="link", per="region")
    def call(region: str = "north") -> None:
        raise NotImplementedError

    loom.workflow(
        "calls",
        params=Values,
        plan=each(
            "all",
            over=param("values"),
            do=sequence(step("a", call), step("b", call, region=item())),
        ),
    )
    at.publish(loom)
    at.worker(places=9)
    at.start("calls", {"values": ["south", "south"]})
    assert len(at.running) == 1
    assert [value["value"] for value in at.inline.pool("link")["values"]] == ["north"]
    at.end(at.running[0])
    assert len(at.running) == 2
    assert at.inline.pool("link")["values"][1]["value"] == "south"
    at.drain()
    at.start("call", {})
    assert [value["value"] for value in at.inline.pool("link")["values"]] == ["north"]


# Rates


def test_in_no_window_do_more_begin_and_nothing_is_saved_up(at: Floor) -> None:
    """After a long pause as after none; what began counts for exactly that long."""
    at.advance(100)
    begin(at, rate=Rate(3, per="10s"))
    assert len(at.log) == 3
    at.drain()
    assert len(at.log) == 3
    at.advance(9.9)
    assert len(at.log) == 3
    at.advance(0.1)
    assert len(at.log) == 6
    at.drain()
    at.advance(1000)
    assert len(at.log) == 9
    assert at.inline.pool("link")["begun_last_minute"] == 3


KINDS = ("end", "lost", "time", "limit", "rate", "pause", "restart", "dies", "slow")
moves = st.lists(st.tuples(st.sampled_from(KINDS), st.integers(0, 4)), max_size=60)


@settings(max_examples=30, deadline=None)
@given(moves, st.integers(0, 4), st.integers(1, 3), st.randoms(use_true_random=False))
def test_no_limit_and_no_rate_is_ever_exceeded(
    played: list[tuple[str, int]], limit: int, count: int, chance: random.Random
) -> None:
    """Whatever ends, changes, is lost, restarts, or begins late: every hand-out and begin."""
    with floor() as at:
        begin(at, 60, places=8, limit=limit, rate=Rate(count, per=10))
        now_limit, now_count, paused = limit, count, False
        counts: list[int] = []  # what the rate was when each of `given` was handed out

        def check() -> None:
            new = at.given[len(counts) :]
            counts.extend(now_count for _ in new)
            in_use = at.inline.pool("link")["in_use"]
            assert in_use == len(at.running)
            assert not new or (not paused and in_use <= now_limit)
            allowed = dict(zip(at.given, counts, strict=True))
            for moment, _ in at.log:
                window = [one for when, one in at.log if moment - 10 < when <= moment]
                assert len(window) <= max(allowed[one] for one in window)

        check()
        for kind, size in played:
            if kind == "end" and at.running:
                at.end(chance.choice(at.running))
            elif kind == "lost" and at.running:
                at.end(chance.choice(at.running), "lost", error={})
            elif kind == "time":
                at.advance(size * 1.7)
            elif kind == "limit":
                now_limit = size
                at.change("link", limit=size)
            elif kind == "rate":
                now_count = size + 1
                at.change("link", rate={"count": now_count, "per": 10.0})
            elif kind == "pause":
                paused = size % 2 == 0
                at.change("link", paused=paused)
            elif kind == "restart":
                at.inline.restart()
                at.worker()
            elif kind == "dies":
                at.do(LoseWorker("w", "killed"))
                at.hands.clear()
                at.worker(places=8)
            elif kind == "slow":  # what is handed out begins only when this comes again
                at.begins = not at.begins
                begun = {attempt for _, attempt in at.log}
                for address in [one for one in at.running if at.begins and one not in begun]:
                    at.begin(address)
            check()
        assert audit(at.inline.database.writer) == []


# Who says what the limit is


def declare(loom: str, **facts: Any) -> dict[str, Any]:
    """A declaration as it is published."""
    return {"loom": loom, "name": "link", "limit": None, "rate": None, "note": "", **facts}


def test_the_smaller_declaration_holds_and_by_hand_wins(at: Floor) -> None:
    """Both are shown; what was set by hand can be forgotten again."""
    for loom, limit, rate in (("a", 5, Rate(10, 1)), ("b", 3, Rate(500, 60)), ("c", None, None)):
        facts = declare(loom, limit=limit, rate=rate and rate.to_json(), note=f"says {loom}")
        at.do(Publish([], [], "t", [facts]))
    pool = at.inline.pool("link")
    assert (pool["limit"], pool["rate"]) == (3, {"count": 500, "per": 60.0})
    assert [(one["loom"], one["limit"]) for one in pool["declared"]] == [
        *(("a", 5), ("b", 3), ("c", None))
    ]
    changed = at.change("link", limit=9, rate=None, note="for the storm")
    assert (changed["limit"], changed["rate"], changed["note"]) == (9, None, "for the storm")
    at.do(Publish([], [], "t", [declare("b", limit=1)]))
    at.inline.restart()
    assert at.inline.pool("link")["limit"] == 9
    pool = at.change("link", as_declared=True)
    assert (pool["limit"], pool["rate"], pool["by_hand"]) == (1, {"count": 10, "per": 1.0}, {})


def test_what_a_loom_declares_no_more_is_forgotten_once_no_step_names_it(at: Floor) -> None:
    """A limit never vanishes under a run that needs it."""
    number = begin(at, 4, limit=1)
    loom, work = task_loom()
    loom.workflow("wide", plan=step("it", work))
    at.publish(loom)
    assert at.inline.pool("link")["limit"] == 1
    with pytest.raises(Conflict, match="so it cannot be removed"):
        at.do(RemovePool("link", "t"))
    at.drain()
    assert at.inline.run(number)["state"] == "done"
    at.publish(loom)
    assert at.inline.pool("link")["declared"] == []
    at.do(RemovePool("link", "t"))
    with pytest.raises(NotFound, match="there is no pool 'link'"):
        at.inline.pool("link")
    at.inline.restart()
    with pytest.raises(NotFound):
        at.inline.pool("link")


def test_a_pool_made_by_hand(at: Floor) -> None:
    """Once, with a name; every change is in the command log."""
    assert at.change("link", make=True, limit=2)["by_hand"] == {"limit": 2}
    with pytest.raises(Conflict, match="change it instead"):
        at.change("link", make=True)
    with pytest.raises(InvalidInput, match="a name has"):
        at.change("no good", make=True)
    with pytest.raises(NotFound, match="did you mean 'link'"):
        at.change("lnk", limit=1)
    rows = at.inline.database.writer.execute("SELECT what, who FROM commands").fetchall()
    assert [tuple(row) for row in rows] == [("make_pool", "t")]


def test_an_unknown_pool_is_refused_with_the_nearest(at: Floor) -> None:
    """When a loom is checked, when it is published, and when a run is started."""
    loom, work = task_loom()
    loom.pool("gauge-link", limit=1)
    plan = step("it", work, pool="guage-link")
    loom.workflow("w", plan=plan)
    with pytest.raises(PlanError) as refused:
        loom.check()
    assert [str(problem) for problem in refused.value.problems] == [
        "w/it.pool: there is no pool 'guage-link'; did you mean 'gauge-link'?"
    ]
    other, work = task_loom()
    other.pool("guage-link")
    other.workflow("w", plan=plan)
    other.workflow("w2", plan=step("it", work, pool="guage-link"))
    document = other.examine()[0][1].document
    with pytest.raises(InvalidInput, match="pools that are not there"):
        at.do(Publish([document], [], "t"))


@pytest.mark.parametrize(
    ("options", "where", "message"),
    [
        ({"limit": -1}, "p.limit", "from 0 on"),
        ({"limit": True}, "p.limit", "from 0 on"),
        ({"rate": 5}, "p.rate", "Rate(10, per='1s')"),
    ],
)
def test_a_declaration_that_makes_no_sense_is_named(
    options: dict[str, Any], where: str, message: str
) -> None:
    """With the other mistakes of the loom."""
    loom, work = task_loom()
    loom.pool("p", **options)
    loom.workflow("w", plan=step("it", work, pool="p"))
    with pytest.raises(PlanError) as refused:
        loom.check()
    (problem,) = refused.value.problems
    assert problem.where == where
    assert message in problem.message


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"pool": 3}, "a pool's name"),
        ({"timeout": "x"}, "a duration"),
        ({"deadline": -1}, "a duration"),
        ({"losses": -1}, "from 0 to 1000"),
        ({"only_on": ["a b"]}, "words as"),
        ({"memory": "much"}, "'500 MB'"),
        ({"priority": 10_000}, "from -1000 to 1000"),
        ({"retry": {"tries": 3}}, "no 'tries'"),
        ({"retry": 3}, "Retry(...)"),
    ],
)
def test_rules_that_make_no_sense_are_named(given: dict[str, Any], message: str) -> None:
    """In Python and in a plan's JSON by the same words."""
    _, ((option, found),) = read_rules(given)
    assert option in given
    assert message in found


def test_as_many_are_handed_out_ahead_as_a_pool_has_free_places(at: Floor) -> None:
    """They count as in use, so that the limit holds whoever begins first."""
    loom, work = task_loom()
    loom.pool("link", limit=3)
    loom.workflow("pooled", plan=each("a", over=list(range(9)), do=step("it", work, pool="link")))
    at.publish(loom)
    at.worker(places=2, ahead=4)
    at.start("pooled")
    assert len(at.running) == 3
    at.drain()


def test_what_can_begin_is_not_held_up_by_what_is_only_ahead(at: Floor) -> None:
    """A worker whose processes are busy still takes steps that share a process."""
    loom, work = task_loom()
    loom.pool("link", rate=Rate(1_000, per="1s"))

    @loom.task(io=True)
    def shared() -> None:
        raise NotImplementedError

    do = step("it", work, pool="link")
    loom.workflow("pooled", plan=each("a", over=list(range(3)), do=do))
    loom.workflow("sharing", plan=step("it", shared))
    at.publish(loom)
    at.worker(places=1, ahead=3, io_places=1, io_tasks=("l/shared",))
    at.start("pooled", priority=5)
    other = at.start("sharing")

    assert f"{other}/it" in at.running
    assert len(at.running) == 2
