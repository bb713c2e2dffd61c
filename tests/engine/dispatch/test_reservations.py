"""Pools with weights, and several at once: heavy steps neither starve, nor deadlock, nor block."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

import pytest

from tests.floor import Floor, floor
from tests.simulator.pools import PoolWorld
from yarnloom import Loom, Rate, Use, param, sequence, step
from yarnloom.engine.commands import MendRun, PauseRun, ResumeRun
from yarnloom.engine.dispatch.assign import Dispatcher
from yarnloom.engine.rules.reservations import Reservations
from yarnloom.errors import PlanError


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor with tasks that use pools, and a worker with many places."""
    with floor() as found:
        found.publish(pool_loom())
        found.worker(places=20)
        yield found


def pool_loom() -> Loom:
    """Tasks by the pools that they use."""
    loom = Loom("l")
    loom.pool("oven", limit=3)
    loom.pool("link", limit=1)
    loom.pool("desk", rate=Rate(4, per=1.0))

    def function(value: Any = None) -> Any:
        raise AssertionError("only simulated workers run this")

    uses: dict[str, dict[str, Any]] = {
        "light": {"pool": "oven"},
        "heavy": {"pools": {"oven": 3}},
        "middle": {"pools": {"oven": 2}},
        "both": {"pools": {"oven": 2, "link": 1}},
        "htob": {"pools": {"link": 1, "oven": 2}},
        "linked": {"pool": "link"},
        "typed": {"pools": {"desk": 3}},
        "noted": {"pool": "desk"},
        "alone": {"pools": {"oven": 3}},
    }
    for name, rules in uses.items():
        loom.task(name=name, **rules)(function)
    return loom


def start(at: Floor, *tasks: str, **options: Any) -> list[int]:
    """Runs of single tasks, each a share of its own."""
    return [at.start(f"l/{task}", **options) for task in tasks]


def reasons(at: Floor, number: int, label: str) -> list[str]:
    """Why a step waits, in sentences."""
    (wait,) = at.inline.why(number, label)["waits"]
    return [reason["text"] for reason in wait["reasons"]]


def test_a_heavy_step_starts_although_light_ones_keep_coming(at: Floor) -> None:
    """The places that become free are kept for it; lights behind it wait."""
    start(at, "light", "light", "light", "heavy", "light", "light")
    assert at.running == ["1/light", "2/light", "3/light"]

    at.end("1/light")
    at.end("2/light")
    assert at.running == ["3/light"]
    text = reasons(at, 5, "light")[0]
    assert text == (
        "the rest of pool oven is kept for run 4 (priority 0), which needs 3 of oven and waits for "
        "oven"
    )
    assert "needs" not in text.split("kept")[0]
    assert reasons(at, 4, "heavy")[0] == (
        "waits for 3 of pool oven (1 of 3 in use by run 3); it is next there, and room is kept for "
        "it"
    )

    at.end("3/light")
    assert at.running == ["4/heavy"]
    at.end("4/heavy")
    assert at.running == ["5/light", "6/light"]


def test_a_step_that_fits_beside_a_reservation_does_not_wait(at: Floor) -> None:
    """Of three places two are kept, so that one light step goes on at a time."""
    start(at, "linked", "both", "light", "light")

    assert at.running == ["1/linked", "3/light"]
    at.end("3/light")
    assert at.running == ["1/linked", "4/light"]
    at.end("1/linked")
    assert at.running == ["4/light", "2/both"]


def test_pools_in_opposite_order_do_not_deadlock(at: Floor) -> None:
    """All or nothing: a step takes none of its pools while it waits."""
    start(at, "both", "htob", "both")
    order = at.drain()

    assert order == ["1/both", "2/htob", "3/both"]


def test_a_pool_that_is_full_for_hours_costs_others_only_what_is_reserved(at: Floor) -> None:
    """The second pool of a reservation does not free the first; more than its weight goes on."""
    start(at, "linked", "both", *["light"] * 5)
    for _ in range(4):
        at.advance(3_600)
        (light,) = [one for one in at.running if "light" in one]
        at.end(light)

    assert [one for one in at.given if "light" in one] == [f"{n}/light" for n in range(3, 8)]
    assert "2/both" not in at.given


def test_a_weight_above_its_limit_blocks_nobody_and_keeps_its_age(at: Floor) -> None:
    """When the limit is raised again, it goes before all that came later."""
    start(at, "light", "heavy")
    at.change("oven", limit=2)
    start(at, "light", "middle")
    assert at.running == ["1/light", "3/light"]
    assert reasons(at, 2, "heavy")[0].startswith("can never begin: it needs 3 of pool oven")

    at.change("oven", limit=3)
    at.end("1/light")
    at.end("3/light")
    assert at.running == ["2/heavy"]


def test_a_paused_pool_does_not_close_the_others(at: Floor) -> None:
    """A step that waits for it and another keeps nobody out there, until it is open again."""
    start(at, "light", "light", "both", "light")
    at.change("link", paused=True)
    start(at, "light")
    at.end("1/light")
    assert at.running == ["2/light", "4/light", "5/light"]

    at.change("link", paused=False)
    start(at, "light")
    at.end("2/light")
    at.end("4/light")
    assert at.running == ["5/light", "3/both"]


def test_a_task_that_no_worker_has_keeps_nobody_out(at: Floor) -> None:
    """Nor one of a paused run; both keep their age."""
    at.worker(tasks={name: "hash" for name in at.looms if name not in ("l/heavy", "l/alone")})
    start(at, "light", "heavy", "light", "light")
    assert at.running == ["1/light", "3/light", "4/light"]

    at.worker(tasks=at.looms)
    start(at, "light")
    at.end("1/light")
    assert "5/light" not in at.given
    at.do(PauseRun(2, "t"))
    assert "5/light" in at.given
    at.do(ResumeRun(2, "t"))
    start(at, "middle")
    for address in ("3/light", "4/light", "5/light"):
        at.end(address)
    assert at.running == ["2/heavy"]


def test_a_higher_priority_passes_a_reservation(at: Floor) -> None:
    """Priorities are strict; within one those without a reservation come after."""
    start(at, "light", "light", "heavy")
    start(at, "light", priority=5)
    at.end("1/light")
    start(at, "light", priority=5)

    assert at.running == ["2/light", "4/light", "5/light"]


def test_a_rate_counts_weights(at: Floor) -> None:
    """A start uses up its weight; one that does not fit into the window is next, too."""
    start(at, "typed", "typed", "noted")
    assert at.given == ["1/typed"]

    at.advance(1.1)
    assert at.given == ["1/typed", "2/typed", "3/noted"]


def test_turns_count_the_weight_in_the_pool_that_is_named_first(at: Floor) -> None:
    """A share that has two places in use comes after one that has one, however long it waits."""
    at.change("oven", limit=4)
    tasks = (("x", "middle"), ("y", "light"), ("z", "light"), ("x", "light"), ("y", "light"))
    for share, task in tasks:
        at.start(f"l/{task}", share=share)
    at.end("3/light")

    assert at.running == ["1/middle", "2/light", "5/light"]


def test_what_is_wrong_with_pools_is_said() -> None:
    """Names, weights, and the same thing twice."""
    loom = Loom("l")
    loom.pool("oven", limit=2)

    @loom.task(pools={"oven": Use(1, per="colour")})
    def work(value: Any = None) -> Any:
        raise AssertionError

    plan = sequence(
        step("a", work, pools={"ofen": 1}),
        step("b", work, pools={"oven": 0}),
        step("c", work, pool="oven", pools={"oven": 1}),
        step("d", work, pools={f"p{n}": 1 for n in range(9)}),
        step("e", work, pools={"oven": Use(1, per=param("x"))}),
        step("f", work, pools=["oven"]),  # type: ignore[arg-type]
    )
    loom.workflow("w", plan=plan)
    with pytest.raises(PlanError) as refused:
        loom.check()
    said = {problem.where: problem.message for problem in refused.value.problems}

    assert "did you mean 'oven'?" in said["w/a.pool"]
    assert "expected a whole number from 1" in said["w/b.pools.oven"]
    assert "give all in pools=" in said["w/c.pools"]
    assert "at most 8" in said["w/d.pools"]
    assert "there is no 'x'" in said["w/e.per"]
    assert "expected weights by pool" in said["w/f.pools"]
    assert "it has no input 'colour'" in said["work.per"]


def test_a_weight_above_a_limit_gets_a_remark() -> None:
    """It is no mistake, since limits change."""
    loom = Loom("l")
    loom.pool("oven", limit=2)

    @loom.task(pools={"oven": 3})
    def work() -> None:
        raise AssertionError

    (remark,) = loom.remarks([])
    assert remark.where == "work.pools.oven"
    assert "above the limit of pool 'oven', which is 2" in remark.message


def test_a_step_keeps_its_pools_over_a_mend(at: Floor) -> None:
    """And is counted once, however often it runs."""
    start(at, "both")
    at.fail("1/both")
    at.do(MendRun(1, "t"))

    assert at.inline.step(1, "both")["pool"] == "oven/2 link"
    assert (at.inline.pool("oven")["in_use"], at.inline.pool("link")["in_use"]) == (2, 1)
    at.end("1/both")
    assert at.inline.pool("oven")["in_use"] == 0


def no_room_is_kept(patch: pytest.MonkeyPatch) -> None:
    """Reservations are made and not respected."""
    patch.setattr(Reservations, "kept_from", lambda *_: Counter())


def none_is_made(patch: pytest.MonkeyPatch) -> None:
    """Heavy steps wait until they happen to fit."""
    patch.setattr(Dispatcher, "reserve_before", lambda *_: False)


@pytest.mark.parametrize("plant", [no_room_is_kept, none_is_made])
def test_a_fault_in_reservations_is_found(monkeypatch: pytest.MonkeyPatch, plant: Any) -> None:
    """The worlds of pools see a planted fault."""
    plant(monkeypatch)
    with pytest.raises(AssertionError):
        for seed in range(20):
            PoolWorld(seed).run()
