"""Why something is not running: each reason, in words, and that nothing else stands in its way."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.floor import Floor, floor, task_loom
from yarnloom import Loom, Rate, Retry, each, item, parallel, sequence, step
from yarnloom.engine.commands import CancelRun, DrainWorker
from yarnloom.errors import NotFound


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor."""
    with floor() as found:
        yield found


def wide(at: Floor, count: int = 5, **rules: Any) -> Loom:
    """A loom with many steps in a pool, published."""
    loom, work = task_loom()
    loom.pool("link", limit=2)
    do = step("it", work, pool="link", **rules)
    loom.workflow("wide", plan=each("all", over=list(range(count)), name=item(), do=do))
    at.publish(loom)
    return loom


def reasons(at: Floor, number: int, address: str) -> list[tuple[str, str]]:
    """Kind and words of every reason of one step."""
    (entry,) = at.inline.why(number, address)["waits"]
    assert entry["address"] == address
    return [(reason["kind"], reason["text"]) for reason in entry["reasons"]]


# Pools


def test_a_full_pool_says_who_uses_it(at: Floor) -> None:
    """By run; with those that have a turn before."""
    wide(at)
    at.worker(places=9)
    first, second = at.start("wide"), at.start("wide")
    assert reasons(at, second, "all[0]/it") == [
        ("pool_full", f"waits for pool link (2 of 2 in use by run {first})")
    ]
    assert reasons(at, first, "all[3]/it") == [
        ("pool_full", f"waits for pool link (2 of 2 in use by run {first})"),
        ("turn", f"run {second} has a turn before"),
    ]


@pytest.mark.parametrize(
    ("change", "kind", "text"),
    [
        ({"paused": True}, "pool_paused", "pool link is paused by t"),
        ({"limit": 0}, "pool_halted", "pool link has the limit 0"),
        (
            {"limit": 9, "rate": {"count": 1, "per": 60.0}},
            "pool_rate",
            "waits for pool link (at most 1 in 1 min begin, the next in 60 s)",
        ),
    ],
)
def test_other_reasons_of_a_pool(at: Floor, change: dict[str, Any], kind: str, text: str) -> None:
    """Paused by whom, halted, or as many begun as may."""
    wide(at)
    at.change("link", **change)
    at.worker(places=9)
    number = at.start("wide")
    assert reasons(at, number, "all[4]/it") == [(kind, text.replace("60 s)", "1 min)"))]


def test_higher_priorities_are_said_where_they_come_first(at: Floor) -> None:
    """Priority is strict, so a step may starve: it says so."""
    wide(at)
    at.worker(places=9)
    low = at.start("wide", priority=-3)
    at.start("wide", priority=1)
    assert reasons(at, low, "all[3]/it")[1:] == [
        ("priority", "5 steps of higher priority than -3 come first")
    ]


# Workers


def special(at: Floor) -> int:
    """A run of one step that needs a gpu."""
    loom, work = task_loom()
    loom.workflow("special", plan=step("it", work, only_on=["gpu"]))
    at.publish(loom)
    return at.start("special")


def test_no_worker(at: Floor) -> None:
    """How to start one."""
    number = special(at)
    ((kind, text),) = reasons(at, number, "it")
    assert kind == "no_worker"
    assert text.startswith("no worker is connected: `yarnloom worker")


@pytest.mark.parametrize(
    ("facts", "kind", "text"),
    [
        ({"has": ("disk",)}, "lacks", "worker w has no gpu (only_on)"),
        (
            {"tasks": {"l/wrok": "h"}, "has": ("gpu",)},
            "no_task",
            "no worker knows task l/work; near: l/wrok",
        ),
        ({"tasks": {}, "has": ("gpu",)}, "no_task", "no worker knows task l/work"),
        (
            {"has": ("gpu",), "pools": ("link",)},
            "elsewhere",
            "worker w does not take from steps without a pool (its --pools)",
        ),
        ({"has": ("gpu",), "draining": True}, "draining", "worker w is draining"),
        (
            {"has": ("gpu",), "offers": {"l/work": {"input": {"required": ["x"]}, "output": {}}}},
            "other_types",
            "worker w has l/work in another version, whose types do not fit",
        ),
        (
            {"has": ("gpu",), "places": 0},
            "no_place",
            "waits for a place: no process of w has loaded the loom yet",
        ),
    ],
)
def test_workers_that_do_not_fit(at: Floor, facts: dict[str, Any], kind: str, text: str) -> None:
    """What is missing, and what is near."""
    number = special(at)
    if "offers" in facts:
        shape = {"type": "object", "properties": {"x": {"type": "string"}}, "required": ["x"]}
        facts["offers"]["l/work"]["input"] = {**shape, "additionalProperties": False}
    at.worker(**facts)
    assert reasons(at, number, "it") == [(kind, text)]


def test_several_workers_are_told_apart(at: Floor) -> None:
    """Those that are nearest first; each in the JSON."""
    number = special(at)
    at.worker("a", tasks={})
    at.worker("b")
    at.worker("c", has=("gpu",))
    at.do(DrainWorker("c", "t"))
    at.drain()
    number = at.start("special")
    ((kind, text),) = reasons(at, number, "it")
    assert kind == "draining"
    assert text == (
        "worker c is draining; worker b has no gpu (only_on); "
        "worker a does not know task l/work and has no gpu (only_on)"
    )


def test_pinned_code_in_another_version(at: Floor) -> None:
    """The plan asks for the code that it was published with."""
    loom = Loom("l")

    @loom.task(pin_code=True)
    def pinned() -> None:
        raise NotImplementedError

    loom.workflow("w", plan=step("it", pinned))
    at.publish(loom)
    number = at.start("w")
    at.worker(tasks={"l/pinned": "other"})
    assert reasons(at, number, "it") == [
        ("other_code", "worker w has l/pinned in another version, and its code is pinned")
    ]


def test_a_place_that_others_have(at: Floor) -> None:
    """Whose, and who comes first."""
    loom, work = task_loom()
    loom.workflow("two", plan=parallel("p", step("a", work), step("b", work)))
    at.publish(loom)
    at.worker()
    number = at.start("two")
    assert reasons(at, number, "p/b") == [
        ("no_place", "waits for a place: the only place of w is taken")
    ]


# Time and order


def test_running_handed_out_backing_off(at: Floor) -> None:
    """On which worker, since when; until when, after what."""
    wide(at, 1, retry=Retry(wait=60, jitter=0), deadline="1h", timeout=9)
    at.begins = False
    at.worker()
    number = at.start("wide")
    address = f"{number}/all[0]/it"
    assert reasons(at, number, "all[0]/it") == [("handed_out", "handed to worker w, begins there")]
    at.begin(address)
    at.advance(9.5)
    assert reasons(at, number, "all[0]/it") == [
        ("running", "has run on worker w for 9.5 s"),
        ("stop_asked", "told to stop: timeout"),
    ]
    at.fail(address)
    at.advance(20)
    (entry,) = at.inline.why(number)["waits"]
    assert entry["reasons"][0]["text"] == (
        "tries again in 40 s, after try 1 failed: OSError: it failed"
    )
    assert entry["deadline_at"] is not None


def test_earlier_parts_and_items_to_come(at: Floor) -> None:
    """What has not begun says which part it waits for, also where that has not begun itself."""
    loom, work = task_loom()
    do = sequence(step("a", work), parallel("p", step("b", work), sequence("c", step("d", work))))
    plan = sequence(
        step("first", work),
        each("all", over=[7, 8, 9], name=item(), at_once=1, do=do),
        step("last", work),
    )
    loom.workflow("deep", plan=plan)
    at.publish(loom)
    at.worker(places=9)
    number = at.start("deep")

    def waits(address: str = "") -> list[tuple[str, str]]:
        found = at.inline.why(number, address)["waits"]
        return [(one["address"], one["reasons"][0]["text"]) for one in found]

    assert waits() == [
        ("first", "has run on worker w for 0 ms"),
        ("all", "waits for first"),
        ("last", "waits for all"),
    ]
    assert waits("last") == [("last", "waits for all")]
    at.end(f"{number}/first")
    assert waits() == [
        ("all[7]/a", "has run on worker w for 0 ms"),
        ("all", "2 items have not begun: 1 at once"),
        ("last", "waits for all"),
    ]
    assert waits("all[7]") == [
        ("all[7]/a", "has run on worker w for 0 ms"),
        ("all[7]/p", "waits for all[7]/a"),
    ]
    assert waits("all[7]/p/c/d") == [("all[7]/p", "waits for all[7]/a")]
    assert waits("all[9]/a") == [("all", "2 items have not begun: 1 at once")]
    with pytest.raises(NotFound, match="no part 'lst'"):
        waits("lst")


def test_a_run_that_waits_for_others_or_stops_or_has_ended(at: Floor) -> None:
    """What holds for the whole run."""
    loom, work = task_loom()
    loom.workflow("w", plan=step("it", work), at_once=1)
    at.publish(loom)
    at.worker()
    first, second = at.start("w"), at.start("w")
    why = at.inline.why(second)
    assert why["waits"] == []
    assert why["reasons"] == [
        {
            "kind": "busy",
            "text": f"waits until run {first} of l/w has ended: at most 1 are under way at once",
            "at_once": 1,
            "runs": [first],
        }
    ]
    at.do(CancelRun(first, "t", "too slow"))
    why = at.inline.why(first)
    assert [reason["text"] for reason in why["reasons"]] == ["cancelled by t: too slow"]
    assert why["waits"][0]["reasons"][-1]["text"] == "told to stop: cancel"
    at.end(f"{first}/it", "cancelled", error={})
    assert [reason["text"] for reason in at.inline.why(first)["reasons"]] == [
        "the run has ended: it is cancelled: cancelled by t: too slow"
    ]


def test_a_large_run_is_told_in_part(at: Floor) -> None:
    """Up to 50 entries, and that there are more."""
    loom, work = task_loom()
    loom.workflow("w", plan=each("all", over=list(range(400)), do=step("it", work)))
    at.publish(loom)
    number = at.start("w")
    why = at.inline.why(number)
    assert (len(why["waits"]), why["more"]) == (50, True)


# What is said is what decides

FLAWS = ("paused", "halted", "full", "rate", "lacks", "elsewhere", "draining", "tasks", "places")


@settings(max_examples=30, deadline=None)
@given(st.sets(st.sampled_from(FLAWS)), st.randoms(use_true_random=False))
def test_each_reason_once_removed_lets_the_step_start(
    flaws: set[str], chance: random.Random
) -> None:
    """Whatever stands in the way: all that is said has to be removed, and nothing else."""
    with floor() as at:
        loom, work = task_loom()
        loom.pool("link")
        loom.workflow("w", plan=step("it", work, pool="link", only_on=["gpu"]))
        at.publish(loom)
        at.worker("helper", places=1, has=("gpu",))
        other = at.start("w")
        at.worker("helper", tasks={}, places=0, draining=True)
        worker: dict[str, Any] = {
            "has": () if "lacks" in flaws else ("gpu",),
            "pools": ("other",) if "elsewhere" in flaws else None,
            "draining": "draining" in flaws,
            "tasks": {} if "tasks" in flaws else at.looms,
            "places": 0 if "places" in flaws else 1,
        }
        at.worker("w", **worker)
        if "rate" in flaws:
            at.change("link", rate=Rate(1, "1m").to_json())
        if "full" in flaws:
            at.change("link", limit=1)
        if "halted" in flaws:
            at.change("link", limit=0)
        if "paused" in flaws:
            at.change("link", paused=True)
        number = at.start("w")
        cures: dict[str, Any] = {
            "pool_paused": lambda: at.change("link", paused=False),
            "pool_halted": lambda: at.change("link", limit=9),
            "pool_full": lambda: at.end(f"{other}/it"),
            "pool_rate": lambda: at.advance(60),
            "lacks": lambda: at.worker("w", has=("gpu",)),
            "elsewhere": lambda: at.worker("w", pools=None),
            "draining": lambda: at.worker("w", draining=False),
            "no_task": lambda: at.worker("w", tasks=at.looms),
            "no_place": lambda: at.worker("w", places=1),
        }
        if flaws:
            (entry,) = at.inline.why(number)["waits"]
            left = []
            for reason in entry["reasons"]:
                told = {one["worker"]: one["why"] for one in _by_worker(reason)}
                left += told.get("w", [reason["kind"]])
            left = [kind for kind in left if kind != "turn"]
            chance.shuffle(left)
            while left:
                assert f"{number}/it" not in at.running, f"it ran with {left} in its way"
                cures[left.pop()]()
        assert f"{number}/it" in at.running


def _by_worker(reason: dict[str, Any]) -> list[dict[str, Any]]:
    """What a reason says of each worker."""
    return [one for one in reason.get("workers", []) if isinstance(one, dict)]
