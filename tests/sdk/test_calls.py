"""Calls: tasks and workflows with their inputs, as values."""

from __future__ import annotations

import inspect
import pickle
from dataclasses import dataclass
from datetime import date
from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import (
    AsyncStepContext,
    Loom,
    OutputRefused,
    PlanError,
    StepContext,
    ValueRefused,
    item,
    param,
    step,
)
from yarnloom.client.start_request import Start, start_of
from yarnloom.testing import run_workflow

loom = Loom("calls")


@dataclass
class Sum:
    """What `total` gives."""

    number: int
    day: date


class Params(BaseModel):
    """Params with a name that is an option of starts, too."""

    key: str
    number: int = 1


@loom.task
def total(number: int, key: str = "none", pool: str = "") -> Sum:
    """Its inputs are called like options of starts and of steps."""
    return Sum(number, date(2027, 1, number))


@loom.task
async def waits(ctx: AsyncStepContext, code: str, /) -> str:
    """Not a task that can be: its input has no name."""
    return code


@loom.task
def counts(ctx: StepContext, first: int, second: int = 2) -> int:
    """Its context is no input."""
    return first + second


report = loom.workflow(
    "report",
    params=Params,
    output=Sum,
    plan=step("total", total.of(number=param("number"), key=param("key"), pool="deep"), pool=""),
)


def test_a_task_is_its_function_still() -> None:
    """It is called, pickled and looked into like the function."""
    assert total(3) == Sum(3, date(2027, 1, 3))
    assert pickle.loads(pickle.dumps(total)) is total
    assert (total.__name__, total.__doc__, total.__module__) == (
        "total",
        "Its inputs are called like options of starts and of steps.",
        __name__,
    )
    assert list(inspect.signature(total).parameters) == ["number", "key", "pool"]
    assert inspect.iscoroutinefunction(waits)
    assert not inspect.iscoroutinefunction(total)


def test_a_call_has_inputs_by_name() -> None:
    """Given in order or by name; the context is none, and unknown names are refused."""
    assert counts.of(1, second=3).inputs == {"first": 1, "second": 3}
    assert repr(report.of(key="a")) == "calls/report.of(key='a')"
    with pytest.raises(TypeError, match=r"counts.of\(\): no input 'frist'; did you mean 'first'"):
        counts.of(frist=1)  # type: ignore[call-arg]
    with pytest.raises(TypeError, match=r"no param 'keys'; did you mean 'key'"):
        report.of(keys=1)  # type: ignore[call-arg]


def test_inputs_may_be_called_like_options() -> None:
    """In a call they are apart; in the short form of a step that is said."""
    run = run_workflow(loom_without_waits(), "report", key="an input", number=2)

    assert run.state == "done"
    assert report.read_output(run.output) == Sum(2, date(2027, 1, 2))
    odd = Loom("odd")
    odd.task(total.declared.function)
    odd.workflow("w", plan=step("it", total, number=1, pool="deep"))
    with pytest.raises(PlanError, match=r"pool is an option of step\(...\) and an input"):
        odd.check()


def loom_without_waits() -> Loom:
    """The loom as it can run: without the task that cannot be."""
    found = Loom("calls")
    found.task(total.declared.function)
    plan = step("t", total.of(number=param("number"), key=param("key"), pool="deep"), pool="")
    found.workflow("report", params=Params, output=Sum, plan=plan)
    return found


@pytest.mark.parametrize(
    ("declare", "where", "words"),
    [
        (lambda loom: loom.workflow("work", plan=step("it", loom_work(loom))), "work", "a task"),
        (
            lambda loom: loom.workflow("w", plan=step("it", loom_work(loom)), output=list[int]),
            "w.output",
            "its plan gives text; declared is a list",
        ),
        (lambda loom: loom.task(name="t")(eval("lambda ctx, x: x")), "t", "ctx: StepContext"),
    ],
)
def test_a_loom_is_checked(declare: Any, where: str, words: str) -> None:
    """A name is a workflow's or a task's; the output is as declared; a context has its type."""
    found = Loom("l")
    declare(found)
    with pytest.raises(PlanError) as wrong:
        found.check()

    assert words in {problem.where: problem.message for problem in wrong.value.problems}[where]


def loom_work(loom: Loom) -> Any:
    """A task that gives text."""

    @loom.task
    def work() -> str:
        return "x"

    return work


def test_an_output_is_read_as_its_type() -> None:
    """A misfit is refused, and carried by the error."""
    assert report.read_output({"number": 1, "day": "2027-01-01"}) == Sum(1, date(2027, 1, 1))
    with pytest.raises(OutputRefused) as refused:
        report.read_output({"number": "one"})
    assert refused.value.value == {"number": "one"}
    assert {problem.where for problem in refused.value.problems} == {"/number", "/day"}


def test_what_a_start_means() -> None:
    """After a name keywords may be options; a mapping, a call or a task leaves no doubt."""

    def body(*given: Any, **named: Any) -> dict[str, Any]:
        start, _ = start_of(given[0], given[1:], named)
        found = start.to_json()
        return {name: found.get(name) for name in ("target", "params", "key", "keywords")}

    assert body("x", key="k", a=1) == {
        "target": "x",
        "params": {"a": 1},
        "key": "k",
        "keywords": ["key"],
    }
    for given in (("x", {"key": 1}), (total.of(number=1, key="a"),)):
        found = body(*given, key="k")
        assert (found["key"], found["keywords"]) == ("k", None)
    assert body(total, 3, key="an input")["params"] == {"number": 3, "key": "an input"}
    with pytest.raises(TypeError, match="no option 'keey'; did you mean 'key'"):
        body("x", {"a": 1}, keey="k")
    with pytest.raises(TypeError, match="after a call keywords are options only"):
        body(total.of(number=1), number=2)
    with pytest.raises(TypeError, match="expected a name, a task or workflow"):
        body(print)
    with pytest.raises(TypeError, match="the inputs of a call are in it"):
        Start(total.of(number=1), {"number": 2})


def test_values_are_sent_as_json() -> None:
    """Models, dataclasses, dates and sets; of what has no JSON form the place is said."""
    sent = Start(
        counts.of(
            first={"model": Params(key="a"), "sum": Sum(1, date(2027, 1, 2))},  # type: ignore[arg-type]
            second={3, 1, 2},  # type: ignore[arg-type]
        )
    ).to_json()["params"]

    assert sent == {
        "first": {"model": {"key": "a", "number": 1}, "sum": {"number": 1, "day": "2027-01-02"}},
        "second": [1, 2, 3],
    }
    with pytest.raises(ValueRefused) as refused:
        Start("x", {"deep": [1, {"call": print}]}).to_json()
    assert refused.value.problems[0].where == "/deep/1/call"
    assert "no JSON form" in refused.value.problems[0].message


def test_a_step_of_a_call_takes_no_more_inputs() -> None:
    """They are in the call."""
    with pytest.raises(TypeError, match="the inputs of a call are in it; put 'more' there"):
        step("it", total.of(number=item()), more=1)
