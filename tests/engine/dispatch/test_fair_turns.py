"""Who runs next: priorities, shares, what workers take, and how many runs are under way."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from tests.floor import Floor, floor, state, task_loom
from tests.fractions import broken_fractions
from yarnloom import Loom, each, item, parallel, param, sequence, step
from yarnloom.engine.commands import CancelRun, DrainWorker, LeaveService, Report, ReportItem
from yarnloom.errors import Conflict, NotFound, PlanError
from yarnloom.store import audit


class Job(BaseModel):
    """How much work, and for whom."""

    count: int = 10
    customer: str | None = None


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor of which the records are right at the end."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
        assert broken_fractions(found.inline.database.writer) == []


def wide(at: Floor, count: int, **options: Any) -> Loom:
    """A loom with a workflow of many parallel steps, published."""
    loom, work = task_loom()
    do = step("it", work, value=item())
    loom.workflow("wide", params=Job, plan=each("all", over=list(range(count)), do=do), **options)
    loom.workflow("one", params=Job, plan=step("it", work), **options)
    at.publish(loom)
    return loom


def runs_of(addresses: list[str]) -> Counter[int]:
    """How many of them are of each run."""
    return Counter(int(address.partition("/")[0]) for address in addresses)


def jain(numbers: list[int]) -> float:
    """Jain's index of fairness: 1 where all are equal."""
    return sum(numbers) ** 2 / (len(numbers) * sum(number * number for number in numbers))


def workers(at: Floor) -> None:
    """Ten places come at once."""
    at.worker("a", places=5)
    at.worker("b", places=5)


def runs_with_more(at: Floor) -> int:
    """How many runs have steps that could begin."""
    sql = "SELECT count(DISTINCT run) FROM steps WHERE state = 'ready' AND open IS NULL"
    ((found,),) = at.inline.database.writer.execute(sql).fetchall()
    return int(found)


# Shares


@pytest.mark.parametrize(("steps", "spread", "first"), [(10, 0.0, 0), (40, 0.4, 0), (40, 0.4, 1)])
def test_equal_runs_share_places_evenly_at_every_moment(
    at: Floor, steps: int, spread: float, first: int
) -> None:
    """Five runs on ten places: the index is never under 0.95 while they all have more to begin.

    Steps of equal length, or of 0.8 to 1.2 s; also where one run came first and had all places:
    from one step's length on.
    """
    chance = random.Random(5)
    wide(at, steps)
    numbers = [at.start("wide") for _ in range(first)]
    if first:
        workers(at)
    numbers += [at.start("wide") for _ in range(5 - first)]
    if not first:
        workers(at)
    ends: dict[str, float] = {}
    now, least, measured = 0.0, 1.0, 0
    while True:
        for address in at.running:
            ends.setdefault(address, now + 1 + spread * (chance.random() - 0.5))
        if now > 1.2 and runs_with_more(at) == 5:
            measured += 1
            least = min(least, jain([runs_of(at.running)[number] for number in numbers]))
        if not at.running:
            break
        following = min(at.running, key=ends.__getitem__)
        now = ends[following]
        at.end(following)

    assert least >= 0.95
    assert measured > 20
    assert [at.inline.run(number)["state"] for number in numbers] == ["done"] * 5


@settings(max_examples=15, deadline=None)
@given(st.lists(st.integers(0, 9), min_size=60, max_size=60), st.integers(2, 6))
def test_no_share_starves_and_turns_are_even(ends: list[int], shares: int) -> None:
    """Whatever ends: shares that have work differ by one place at most, as soon as all have."""
    with floor() as at:
        wide(at, 200)
        at.worker(places=6)
        numbers = [at.start("wide", share=f"customer {index}") for index in range(shares)]
        for index in ends[:20]:
            at.end(at.running[index % len(at.running)])
        for index in ends[20:]:
            counts = runs_of(at.running)
            at.end(at.running[index % len(at.running)])
            after = runs_of(at.running)
            (given_to,) = (number for number in numbers if number in runs_of(at.given[-1:]))
            fewest = min(after[number] - (number == given_to) for number in numbers)
            assert after[given_to] - 1 == fewest
            assert counts.total() == 6


def test_a_run_of_one_behind_a_run_of_ten_thousand_begins_with_the_next_end(at: Floor) -> None:
    """Within one step's time, and before the 10,000 get another place."""
    wide(at, 10_000)
    at.worker(places=4)
    at.start("wide")
    small = at.start("one")
    assert f"{small}/it" not in at.running
    at.end(at.running[0])
    assert f"{small}/it" in at.running


def test_runs_of_one_share_have_one_turn_together(at: Floor) -> None:
    """Given at start, or by the workflow from a param; without it each run has its own."""
    wide(at, 20, share=param("customer"))
    at.worker(places=6)
    many = [at.start("wide", {"customer": "a"}) for _ in range(5)]
    other = at.start("wide", {"customer": "b"})
    at.drain_some(30)
    counts = runs_of(at.given[12:30])
    assert abs(counts[other] - sum(counts[one] for one in many)) <= 2
    assert at.inline.run(other)["share"] == "b"
    assert at.inline.run(at.start("wide"))["share"] is None
    assert at.inline.run(at.start("wide", share="c"))["share"] == "c"


def test_a_share_must_be_text_from_the_params() -> None:
    """It is known before anything runs."""
    loom, work = task_loom()
    loom.workflow("a", params=Job, plan=step("s", work), share=param("nobody"))
    loom.workflow("b", params=Job, plan=sequence(step("s", work), step("t", work)), share=item())
    with pytest.raises(PlanError) as refused:
        loom.check()
    assert [problem.where for problem in refused.value.problems] == ["a.share", "b.share"]


# Priorities


def test_priority_is_strict_and_a_steps_own_wins(at: Floor) -> None:
    """Also over turns; what runs is not disturbed."""
    loom, work = task_loom()
    loom.workflow("plain", plan=parallel("p", step("a", work), step("b", work, priority=7)))
    at.publish(loom)
    low = at.start("plain", priority=-5)
    high = at.start("plain", priority=5)
    middle = at.start("plain")
    at.worker()

    assert at.drain() == [
        *(f"{one}/p/b" for one in (low, high, middle)),
        f"{high}/p/a",
        f"{middle}/p/a",
        f"{low}/p/a",
    ]


def test_begun_items_end_before_new_ones_begin(at: Floor) -> None:
    """Plan order from outside in; a retry keeps its place."""
    loom, work = task_loom()
    do = sequence(step("a", work), step("b", work))
    loom.workflow("items", plan=each("all", over=[0, 1, 2], do=do))
    at.publish(loom)
    at.worker()
    number = at.start("items")
    order = at.drain()

    assert order == [f"{number}/all[{i}]/{label}" for i in range(3) for label in "ab"]


# What workers take


def special(at: Floor) -> Loom:
    """A loom with a plain step, one that needs a gpu, and one in a pool."""
    loom, work = task_loom()
    loom.pool("link", limit=5)

    @loom.task(only_on=["gpu"])
    def draw() -> None:
        raise NotImplementedError

    for name, part in {
        "plain": step("it", work),
        "gpu": step("it", draw),
        "both": step("it", draw, only_on=["gpu", "fast-disk"]),
        "pooled": step("it", work, pool="link"),
    }.items():
        loom.workflow(name, plan=part)
    at.publish(loom)
    return loom


@pytest.mark.parametrize(
    ("facts", "taken"),
    [
        ({}, {"plain", "pooled"}),
        ({"has": ("gpu",)}, {"plain", "gpu", "pooled"}),
        ({"has": ("gpu", "fast-disk", "more")}, {"plain", "gpu", "both", "pooled"}),
        ({"pools": ("link",)}, {"pooled"}),
        ({"pools": ("elsewhere",), "has": ("gpu",)}, set()),
        ({"draining": True}, set()),
    ],
)
def test_what_a_worker_takes(at: Floor, facts: dict[str, Any], taken: set[str]) -> None:
    """What it has, and which pools it takes from."""
    special(at)
    numbers = {name: at.start(name) for name in ("plain", "gpu", "both", "pooled")}
    at.worker(places=9, **facts)

    assert {name for name, number in numbers.items() if f"{number}/it" in at.running} == taken


def test_a_drained_worker_takes_nothing_new_and_is_told_once(at: Floor) -> None:
    """What it runs ends as ever; by name while that is unique, or by id."""
    wide(at, 9)
    at.worker("a", places=2)
    at.start("wide")
    at.do(DrainWorker("a", "t", "new machine"))
    at.do(DrainWorker("a", "t"))
    assert at.hands["a"].orders == [{"serial": 3, "kind": "drain"}]
    at.end(at.running[0])
    at.end(at.running[0])
    assert at.running == []
    with pytest.raises(NotFound, match="did you mean 'a'"):
        at.do(DrainWorker("aa", "t"))
    at.worker("b", places=2)
    assert len(at.running) == 2
    at.inline.do(_same_name("b"))
    with pytest.raises(Conflict, match="give an id"):
        at.do(DrainWorker("b", "t"))


def _same_name(name: str) -> Any:
    from yarnloom.engine.commands import Register

    return Register("another", name, {}, 1, {})


@pytest.mark.parametrize("halted", [{"paused": True}, {"limit": 0}])
def test_until_idle_ends_when_nothing_is_left_that_it_could_do(
    at: Floor, halted: dict[str, Any]
) -> None:
    """Not while anything runs anywhere, waits for a time, or could run; halted pools aside."""
    special(at)
    for name in ("plain", "gpu", "pooled"):
        at.start(name)
    at.change("link", **halted)
    at.worker("a", until_idle=True)
    assert at.hands["a"].orders == []
    at.end(at.running[0])
    assert [order["kind"] for order in at.hands["a"].orders] == ["idle"]
    at.do(LeaveService("a"))
    del at.hands["a"]
    at.worker("b", until_idle=True, has=("gpu",))
    at.worker("c", until_idle=True)
    assert at.hands["c"].orders == []
    at.end(at.running[0])
    assert [order["kind"] for order in at.hands["c"].orders] == ["idle"]


# How many runs of a workflow are under way


def busy(at: Floor, at_once: int, if_busy: Any) -> None:
    """A workflow of which so many runs may be under way."""
    loom, work = task_loom()
    loom.workflow(
        "w", plan=step("it", work), at_once=at_once, if_busy=if_busy, on_end=step("e", work)
    )
    at.publish(loom)
    at.worker(places=9)


def states(at: Floor, *numbers: int) -> list[str]:
    """How runs stand."""
    return [at.inline.run(number)["state"] for number in numbers]


@pytest.mark.parametrize("restart", [False, True])
def test_runs_wait_for_others_of_their_workflow(at: Floor, restart: bool) -> None:
    """By priority, then in order; follow-ups count as under way; a restart changes nothing."""
    busy(at, 2, None)
    first, second, third, fourth = (at.start("w", priority=n) for n in (0, 0, 0, 5))
    assert states(at, first, second, third, fourth) == ["running", "running", "queued", "queued"]
    if restart:
        at.inline.restart()
        at.worker()
    at.end(f"{first}/it")
    assert states(at, third, fourth) == ["queued", "queued"]
    at.end(f"{first}/on_end/e")
    assert states(at, third, fourth) == ["queued", "running"]
    assert at.inline.run(third)["counts"] == {**at.inline.run(third)["counts"], "total": 1}
    at.do(CancelRun(third, "t"))
    assert states(at, third) == ["cancelled"]
    at.drain()
    assert states(at, first, second, fourth) == ["done"] * 3


def test_as_many_enter_as_there_is_room_for(at: Floor) -> None:
    """Two that end in one transaction let two in."""
    busy(at, 2, "wait")
    first, second, third, fourth = (at.start("w") for _ in range(4))
    for number in (first, second):
        at.end(f"{number}/it")
    attempts = sorted(at.hands["w"].attempts)
    at.hands["w"].attempts.clear()
    at.do(Report("w", tuple(ReportItem(attempt, "done") for attempt in attempts)))

    assert states(at, first, second, third, fourth) == [*["done"] * 2, *["running"] * 2]


def test_a_run_can_be_skipped_where_its_workflow_is_busy(at: Floor) -> None:
    """It is kept, cancelled, and says why."""
    busy(at, 1, "skip")
    first, second = at.start("w"), at.start("w")
    run = at.inline.run(second)
    assert (run["state"], run["started_at"]) == ("cancelled", None)
    assert "1 of l/w under way" in run["error"]["message"]
    at.drain()
    assert states(at, first, at.start("w")) == ["done", "running"]


def test_a_run_can_replace_the_oldest(at: Floor) -> None:
    """It begins when that has stopped; and replaces what waits before it."""
    busy(at, 2, "replace")
    first, second, third = (at.start("w") for _ in range(3))
    assert states(at, first, second, third) == ["cancelling", "running", "queued"]
    fourth = at.start("w")
    assert states(at, second, third, fourth) == ["running", "cancelled", "queued"]
    assert at.inline.run(third)["error"]["message"] == f"replaced by run {fourth}"
    at.end(f"{first}/it", "cancelled", error={})
    at.end(f"{first}/on_end/e")
    assert states(at, first, second, fourth) == ["cancelled", "running", "running"]
    assert state(at, fourth, "it") == "running"


KINDS = ("start", "end", "cancel", "restart")


@settings(max_examples=20, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["start", "end", "cancel", "restart"]), st.integers(0, 9)),
        max_size=40,
    ),
    st.integers(1, 3),
    st.sampled_from(["wait", "skip", "replace"]),
)
def test_never_more_runs_are_under_way_and_all_end(
    played: list[tuple[str, int]], at_once: int, if_busy: str
) -> None:
    """Whatever starts, ends and is cancelled, in whatever order."""
    with floor() as at:
        busy(at, at_once, if_busy)
        numbers: list[int] = []
        for kind, index in played:
            if kind == "start":
                numbers.append(at.start("w", priority=index % 3))
            elif kind == "end" and at.running:
                at.end(at.running[index % len(at.running)])
            elif kind == "cancel" and numbers:
                at.inline.batch(CancelRun(numbers[index % len(numbers)], "t"))
            elif kind == "restart":
                at.inline.restart()
                at.worker()
            assert len(runs_of(at.running)) <= at_once
            assert audit(at.inline.database.writer) == []
        at.worker()
        at.drain()
        assert set(states(at, *numbers)) <= {"done", "cancelled"}


def test_what_a_workflow_says_of_its_runs_is_checked() -> None:
    """With everything else, each with its address."""
    loom, work = task_loom()
    plan = step("s", work)
    loom.workflow("a", plan=plan, at_once=0)
    loom.workflow("b", plan=plan, if_busy="skip")
    loom.workflow("c", plan=plan, at_once=1, if_busy="queue")  # type: ignore[arg-type]
    loom.workflow("d", plan=plan, deadline="whenever")
    loom.workflow("e", plan=step("s", work, per=param("x")))
    with pytest.raises(PlanError) as refused:
        loom.check()
    assert [problem.where for problem in refused.value.problems] == [
        *("a.at_once", "b.if_busy", "c.if_busy", "d.deadline"),
        "e/s.per",
    ]
