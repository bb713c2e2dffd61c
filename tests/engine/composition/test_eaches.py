"""Eaches, follow-ups and what they leave behind, where the random plans do not look."""

from __future__ import annotations

import itertools
from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import (
    Failure,
    Loom,
    each,
    failure,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
)
from yarnloom.engine.commands import (
    CancelRun,
    Poll,
    Register,
    Report,
    ReportItem,
    Started,
    StartRun,
    Tick,
)
from yarnloom.errors import InvalidInput, NotFound
from yarnloom.plan import Part
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service, run_workflow

loom_counter = itertools.count()


class Params(BaseModel):
    """A list."""

    items: list[Any] = []


def made(plan: Part, **options: Any) -> Loom:
    """A loom with one workflow."""
    loom = Loom("l")
    for function in (give, twice, large, refuse, tell, text_of):
        loom.task(function)
    loom.workflow("w", params=Params, plan=plan, **options)
    return loom


def give(value: Any = None) -> Any:
    """The same again."""
    return value


def twice(number: int) -> int:
    """Twice as much."""
    return 2 * number


def large(value: Any) -> str:
    """5,000 letters."""
    return "x" * 5_000


def refuse(value: Any = None) -> Any:
    """Always fails."""
    raise ValueError(f"no {value}")


def tell(failure: Failure | None) -> str:
    """What failed first."""
    return failure.first.address if failure else "nothing"


def text_of(value: Any) -> int:
    """How long a list is."""
    return len(value)


NUMBERS = each("e", over=param("items"), do=step("t", twice, number=item()))


@pytest.mark.parametrize("count", [10, 50_000])
def test_starting_costs_the_same_for_any_list(count: int) -> None:
    """So many rows are written, and no more, whatever the list's length."""
    with inline_service() as inline:
        inline.publish(made(NUMBERS))
        number = inline.start("w", {"items": [1] * count})
        parts = rows(inline, "SELECT count(*) FROM parts")
        steps = rows(inline, "SELECT count(*) FROM steps")
        bundle = inline.graph(number)["parts"][0]

    assert steps == min(count, 64)
    assert parts == steps + 2
    assert bundle["counts"]["total"] == count
    # Nobody has begun any of them.
    assert (bundle["counts"]["waiting"], bundle["counts"]["running"]) == (count, 0)


def rows(inline: InlineService, sql: str) -> Any:
    """One number of the records."""
    return inline.database.writer.execute(sql).fetchone()[0]


def test_items_not_yet_made_are_listed() -> None:
    """From the list by index, with their values; made or not, in one order."""
    plan = each("e", over=param("items"), name=item("code"), at_once=1, do=step("g", give))
    with inline_service() as inline:
        inline.publish(made(plan))
        values = [{"code": code} for code in ("ebb", "flow", "neap/spring")]
        number = inline.start("w", {"items": values})
        listed = inline.items(number, "e")
        waiting = inline.items(number, "e", "waiting")
        unmade = inline.graph(number, "e[neap%2Fspring]")

    assert [one["address"] for one in listed] == ["e[ebb]", "e[flow]", "e[neap%2Fspring]"]
    assert [one["state"] for one in listed] == ["waiting", "waiting", "waiting"]
    assert listed[2]["value"] == {"code": "neap/spring"}
    assert [one["name"] for one in waiting] == ["ebb", "flow", "neap/spring"]
    assert (unmade["state"], unmade["parts"][0]["state"]) == ("waiting", "waiting")


@pytest.mark.parametrize(
    ("items", "message"),
    [
        ([{"code": "ebb"}, {"code": "flow"}, {"code": "ebb"}], "items 0 and 2 have the same name"),
        ([{"code": "ebb"}, {"kode": "flow"}], "item 1 has no name at code"),
        ([{"code": "ebb"}, {"code": ""}], "item 1 has no name at code"),
        ([{"code": 1}, {"code": "1"}], "items 0 and 1 have the same name, '1'"),
        ([{"code": True}], "item 0 has no name"),
        ("ebb", 'over is "ebb"; expected a list'),
    ],
)
def test_a_list_that_will_not_do_fails_its_each(items: Any, message: str) -> None:
    """Before any item begins, and the follow-up is told."""
    plan = sequence(
        step("g", give, value=param("items")),
        each("e", over=previous, name=item("code"), do=step("t", give)),
    )
    loom = made(plan, on_failure=step("tell", tell, failure=failure()))
    with inline_service() as inline:
        loom._workflows["w"].params["properties"]["items"] = {}
        inline.publish(loom)
        number = inline.start("w", {"items": items})
        inline.work(loom)
        run = inline.run(number)

        assert run["state"] == "failed"
        assert message in run["error"]["message"]
        assert run["error"]["step"] == "1/e"
        assert inline.step(number, "on_failure/tell")["output"] == "1/e"


def test_a_list_goes_on_after_a_restart() -> None:
    """Where it had stopped, whether items were under way or only planned."""
    loom = made(sequence(NUMBERS, step("n", text_of, value=previous)))
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {"items": list(range(300))})
        inline.do(Register("w", "w", {}, 3, {"l/twice": "h", "l/text_of": "h"}))
        messages = inline.batch(Poll("w")).messages["w"]
        done = 0
        while messages:
            work = messages.pop(0)
            value = work["input"].get("number", 150) * 2
            report = Report("w", (ReportItem(work["attempt"], "done", value, begun_ago=0.0),))
            messages += inline.do(report).messages
            done += 1
            if done % 50 == 0:
                inline.restart()
                inline.do(Register("w", "w", {}, 3, {"l/twice": "h", "l/text_of": "h"}))
                messages = inline.batch(Poll("w")).messages.get("w", [])
            assert audit(inline.database.writer) == [] or done % 25

        assert done == 301
        assert inline.run(number)["output"] == 300


def test_a_list_of_which_nearly_all_is_skipped_does_not_hold_up_others() -> None:
    """At most 1,000 items are made in a transaction; the clock's next tick goes on."""
    do = step("t", twice, number=item(), only_if=param("items"))
    plan = each("e", over=list(range(2_500)), do=sequence(step("s", give, only_if=False), do))
    loom = made(plan)
    loom._workflows["w"].params["properties"]["items"] = {}
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {"items": False})
        made_at_first = inline.graph(number)["parts"][0]["counts"]["skipped"]
        inline.restart()
        ticks = 0
        while inline.run(number)["state"] != "done":
            assert audit(inline.database.writer) == []
            inline.do(Tick())
            ticks += 1

        assert made_at_first == 1_000
        assert ticks == 2
        assert inline.run(number)["output"] is None


def test_a_cancel_ends_a_list_that_was_left_for_later() -> None:
    """Also where no item is under way."""
    plan = each("e", over=list(range(2_500)), do=step("t", twice, number=item(), only_if=False))
    with inline_service() as inline:
        inline.publish(made(plan))
        number = inline.start("w", {})
        inline.do(CancelRun(number, "test"))
        inline.do(Tick())
        run = inline.run(number)

        assert run["state"] == "cancelled"
        assert inline.items(number, "e")[-1]["state"] == "cancelled"
        assert audit(inline.database.writer) == []


def test_a_gathered_list_that_is_too_large_becomes_a_file() -> None:
    """A reference stands for it in the output; who reads it as a list gets it as one."""
    bundle = each("e", over=list(range(60)), do=step("x", large, value=item()))
    alone = run_workflow(made(bundle), "w")
    read = run_workflow(made(sequence(bundle, step("n", text_of, value=previous))), "w")
    small = run_workflow(made(each("e", over=[1], do=step("x", large, value=item()))), "w")

    assert alone.state == "done"
    assert (alone.output["count"], alone.output["size"]) == (60, 300_180)
    assert alone.read({"sha256": alone.output["list"]}).count(b"\n") == 60
    assert not alone.data["output_left_out"]
    assert read.state == "done"
    assert read.output == 60
    assert small.output == ["x" * 5_000]


@pytest.mark.parametrize(
    ("may_fail", "failed", "state"),
    [
        *[(None, 0, "done"), (None, 1, "failed"), (1, 1, "done"), (1, 2, "failed")],
        *[("29%", 29, "done"), ("29%", 30, "failed"), ("1%", 1, "done"), ("0.99%", 1, "failed")],
    ],
)
def test_so_many_may_fail(may_fail: Any, failed: int, state: str) -> None:
    """A count, or a share rounded down; the places of what failed hold null."""
    inner = parallel(
        "p",
        step("good", give, value=item(), only_if=output("bad", default=True)),
        step("bad", refuse, only_if=item()),
    )
    items = [True] * failed + [False] * (100 - failed)
    loom = made(each("e", over=items, do=inner, may_fail=may_fail, if_one_fails="finish"))
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.work(loom)
        run = inline.run(number)

    assert run["state"] == state
    if state == "done":
        assert run["failures_allowed"] == failed
        assert [one is None for one in run["output"]] == items
        assert run["error"] is None


def test_batches_are_lists() -> None:
    """The last one may be shorter."""
    loom = made(each("e", over=param("items"), batch=4, do=step("n", text_of, value=item())))

    assert run_workflow(loom, "w", items=list(range(10))).output == [4, 4, 2]


def test_no_more_at_once_than_told() -> None:
    """Whatever places there are; an item is under way until its follow-up has ended."""
    do = sequence(step("t", give), on_end=step("f", give))
    loom = made(each("e", over=list(range(9)), at_once=2, do=do))
    under_way = "SELECT count(*) FROM parts WHERE value IS NOT NULL AND ended_at IS NULL"
    with inline_service() as inline:
        inline.publish(loom)
        inline.start("w", {})
        inline.do(Register("w", "w", {}, 50, {"l/give": "h"}))
        hands = inline.batch(Poll("w")).messages["w"]
        most, done = 0, 0
        while hands:
            most = max(most, rows(inline, under_way))
            report = Report("w", (ReportItem(hands.pop(0)["attempt"], "done", 1, None, 0.0),))
            hands += inline.do(report).messages
            done += 1

    assert (most, done) == (2, 18)


def test_follow_ups_come_in_order_and_change_nothing() -> None:
    """The failure first, then the end; the run's outcome is decided before, its state after."""
    loom = made(
        sequence(step("r", refuse, value="tide"), step("g", give)),
        on_failure=sequence(step("f1", tell, failure=failure()), step("f2", refuse)),
        on_end=step("e", tell, failure=failure()),
    )
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.do(Register("w", "w", {}, 1, dict.fromkeys(loom.served, "h")))
        seen = []
        messages = inline.batch(Poll("w")).messages["w"]
        while messages:
            work = messages.pop()
            run = inline.run(number)
            seen.append((work["address"], run["state"], run["outcome"]))
            outcome = "failed" if work["task"] == "l/refuse" else "done"
            error = {"type": "E", "message": work["address"]} if outcome == "failed" else None
            item_ = ReportItem(work["attempt"], outcome, "told", error, begun_ago=0.0)
            messages += inline.do(Report("w", (item_,))).messages
        run = inline.run(number)

    assert seen == [
        ("1/r", "queued", None),
        ("1/on_failure/f1", "running", "failed"),
        ("1/on_failure/f2", "running", "failed"),
        ("1/on_end/e", "running", "failed"),
    ]
    assert (run["state"], run["error"]["step"]) == ("failed", "1/r")


def test_follow_ups_run_although_things_around_them_stopped() -> None:
    """One that waits for a worker is not skipped with the steps beside it."""
    loom = made(
        parallel(
            "p",
            step("a", give, on_end=step("after", tell, failure=failure())),
            step("b", refuse),
            step("c", twice, number=1),
        )
    )
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.do(Register("w", "w", {}, 2, {"l/give": "h", "l/refuse": "h"}))
        first, second = inline.batch(Poll("w")).messages["w"]
        inline.do(Report("w", (ReportItem(first["attempt"], "done", 1, None, 0.0),)))
        error = {"type": "E", "message": "no"}
        inline.do(Report("w", (ReportItem(second["attempt"], "failed", None, error, 0.0),)))
        beside = inline.step(number, "p/c")
        follow_up = inline.step(number, "p/a/on_end/after")
        between = inline.run(number)
        inline.work(loom)

        assert (beside["state"], beside["skip_reason"]) == ("skipped", "stopped")
        assert follow_up["state"] == "ready"
        assert (between["state"], between["outcome"]) == ("running", "failed")
        assert inline.step(number, "p/a/on_end/after")["output"] == "nothing"
        assert inline.run(number)["state"] == "failed"


def test_after_a_cancel_only_the_end_is_followed_up() -> None:
    """Although something had failed before."""
    loom = made(
        parallel("p", step("a", refuse), step("b", give), if_one_fails="finish"),
        on_failure=step("f", give),
        on_end=step("e", give),
    )
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.do(Register("w", "w", {}, 2, {"l/give": "h", "l/refuse": "h"}))
        a, b = inline.batch(Poll("w")).messages["w"]
        error = {"type": "E", "message": "no"}
        inline.do(Report("w", (ReportItem(a["attempt"], "failed", None, error, 0.0),)))
        inline.do(CancelRun(number, "test"))
        stopped = ReportItem(b["attempt"], "cancelled", begun_ago=0.0)
        messages = inline.do(Report("w", (stopped,))).messages
        work = [message["address"] for message in messages if message["kind"] == "work"]

    assert work == ["1/on_end/e"]


def test_what_was_cut_short_is_not_done() -> None:
    """A sequence of which a step is done when its parallel stops is skipped, as stopped."""
    loom = made(parallel("p", sequence("s", step("x", give), step("y", give)), step("b", refuse)))
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.do(Register("w", "w", {}, 2, {"l/give": "h", "l/refuse": "h"}))
        first, second = inline.batch(Poll("w")).messages["w"]
        error = {"type": "E", "message": "no"}
        inline.do(Report("w", (ReportItem(second["attempt"], "failed", None, error, 0.0),)))
        inline.do(Report("w", (ReportItem(first["attempt"], "done", 1, None, 0.0),)))
        cut = inline.graph(number, "p/s")

        assert [part["state"] for part in cut["parts"]] == ["done", "skipped"]
        assert (cut["state"], cut["skip_reason"]) == ("skipped", "stopped")
        assert inline.run(number)["state"] == "failed"


def test_a_cancel_spares_the_follow_up_that_runs() -> None:
    """Its worker is told to stop by the second cancel only."""
    loom = made(step("r", refuse), on_failure=step("f", give, value=1))
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("w", {})
        inline.do(Register("w", "w", {}, 1, {"l/give": "h", "l/refuse": "h"}))
        (work,) = inline.batch(Poll("w")).messages["w"]
        error = {"type": "E", "message": "no"}
        failed = ReportItem(work["attempt"], "failed", None, error, 0.0)
        (follow_up,) = inline.do(Report("w", (failed,))).messages
        inline.do(Report("w", (ReportItem(follow_up["attempt"], begun_ago=0.0),)))
        stops = []
        for _ in range(2):
            inline.do(CancelRun(number, "test"))
            stops.append(inline.step(number, "on_failure/f")["stop_asked"])
        inline.do(Report("w", (ReportItem(follow_up["attempt"], "cancelled", begun_ago=0.0),)))

        assert stops == [None, "cancel"]
        assert inline.step(number, "on_failure/f")["state"] == "cancelled"
        assert inline.run(number)["state"] == "failed"


def test_a_cancel_leaves_on_end_and_a_second_one_does_not() -> None:
    """And nothing follows a run of which nothing had begun."""
    on_end = sequence(step("e", give), step("x", give))
    loom = made(step("g", give), on_failure=step("f", give), on_end=on_end)
    with inline_service() as inline:
        inline.publish(loom)
        untouched = inline.start("w", {}, "a")
        inline.do(CancelRun(untouched, "test"))
        number = inline.start("w", {}, "b")
        inline.do(Register("w", "w", {}, 1, {"l/give": "h"}))
        (work,) = inline.batch(Poll("w")).messages["w"]
        inline.do(Report("w", (ReportItem(work["attempt"], begun_ago=0.0),)))
        inline.do(CancelRun(number, "test"))
        stopped = ReportItem(work["attempt"], "cancelled", begun_ago=0.0)
        messages = inline.do(Report("w", (stopped,))).messages
        follow_up = next(one for one in messages if one["kind"] == "work")
        between = inline.run(number)
        inline.do(CancelRun(number, "test"))
        inline.do(Report("w", (ReportItem(follow_up["attempt"], "cancelled", begun_ago=0.0),)))
        graph = inline.graph(number)

        assert inline.run(untouched)["state"] == "cancelled"
        assert inline.graph(untouched)["follow_ups"]["on_end"]["begun"] is False
        assert follow_up["address"] == f"{number}/on_end/e"
        assert (between["state"], between["outcome"]) == ("cancelling", "cancelled")
        assert inline.run(number)["state"] == "cancelled"
        assert graph["follow_ups"]["on_failure"]["begun"] is False
        steps = [one["state"] for one in graph["follow_ups"]["on_end"]["parts"]]
        assert steps == ["cancelled", "cancelled"]


def test_a_single_task_is_a_run_of_one_step() -> None:
    """Its inputs are the params; defaults of the task hold for what is left out."""
    loom = made(NUMBERS)
    loom.task(name="add")(lambda number=1, more=41: number + more)
    with inline_service() as inline:
        inline.publish(loom)
        started: Started = inline.do(StartRun("add", {"number": 2}, "k", "test"))
        again: Started = inline.do(StartRun("l/add", {"number": 2}, "k", "test"))
        inline.work(loom)
        run = inline.run(started.run.number)
        with pytest.raises(InvalidInput, match="do not fit task 'l/add'"):
            inline.do(StartRun("add", {"numbr": 2}, "k2", "test"))
        with pytest.raises(NotFound, match=r"no workflow or task 'twise'; did you mean 'twice'"):
            inline.do(StartRun("twise", {}, "k3", "test"))

    assert (started.created, again.created) == (True, False)
    assert (run["task"], run["state"], run["output"]) == ("l/add", "done", 43)


def test_a_thousand_conditions_in_a_row_do_not_recurse() -> None:
    """A long plan of which everything is skipped ends in one transaction."""
    steps = [step(f"s{i}", give, only_if=False) for i in range(3_000)]
    run = run_workflow(made(sequence(*steps, step("last", give, value=7))), "w")

    assert run.output == 7
