"""Looms: what can be declared, and what is said of mistakes."""

from __future__ import annotations

from datetime import date
from typing import Any

import pytest
from pydantic import BaseModel, field_validator

import yarnloom
from yarnloom import Loom, Retry, StepContext, parallel, param, previous, sequence, step
from yarnloom.errors import LoomError, LoomNotFound, PlanError, subclasses
from yarnloom.sdk.find_loom import load_loom
from yarnloom.testing import run_workflow


class Day(BaseModel):
    """Params."""

    day: date
    count: int = 2


class Even(BaseModel):
    """A number with a rule that no schema can say."""

    number: int

    @field_validator("number")
    @classmethod
    def even(cls, value: int) -> int:
        """Even numbers only."""
        if value % 2:
            raise ValueError("odd")
        return value


class Evens(BaseModel):
    """Params."""

    even: dict[str, int]


def test_a_task_stays_a_plain_function() -> None:
    """It can be called in a unit test as it was written."""
    loom = Loom("l")

    @loom.task
    def double(number: int) -> int:
        return 2 * number

    @loom.task(name="renamed", grace=1.0)
    def other(ctx: StepContext) -> str:
        return ctx.address

    assert double(4) == 8
    assert other(StepContext(address="1/x")) == "1/x"
    assert loom.tasks.keys() == {"double", "renamed"}


def test_a_workflow_runs_in_the_tests_own_process() -> None:
    """Types come as they were annotated, defaults are filled in, the context is passed on."""
    loom = Loom("l")

    @loom.task
    def days(ctx: StepContext, day: date, count: int) -> list[date]:
        assert ctx.address == "1/days"
        return [day.replace(day=day.day + shift) for shift in range(count)]

    @loom.task
    async def last(found: list[date]) -> date:
        return max(found)

    plan = sequence(
        step("days", days, day=param("day"), count=param("count")),
        step("last", last, found=previous),
    )
    loom.workflow("w", params=Day, plan=plan)

    run = run_workflow(loom, "w", day="2027-03-01")

    assert run.state == "done"
    assert run.output == "2027-03-02"
    assert run.data["params"] == {"day": "2027-03-01", "count": 2}


@pytest.mark.parametrize(
    ("returned", "words"),
    [
        ("text", "does not fit its annotation"),
        (float("nan"), "found nan"),
        (object(), "does not fit its annotation"),
    ],
)
def test_an_output_that_is_refused_fails_the_step(returned: Any, words: str) -> None:
    """The error says what was found, without a traceback of this package."""
    loom = Loom("l")

    @loom.task
    def odd() -> float:
        return returned

    loom.workflow("w", plan=step("odd", odd))
    run = run_workflow(loom, "w")

    assert run.state == "failed"
    assert run.error is not None
    assert words in run.error["message"]
    assert "traceback" not in run.error


def test_what_a_task_raises_is_kept_with_its_traceback() -> None:
    """The traceback begins in the user's code."""
    loom = Loom("l")

    @loom.task
    def broken() -> None:
        raise RuntimeError("out of yarn")

    loom.workflow("w", plan=sequence(step("broken", broken), step("after", broken)))
    run = run_workflow(loom, "w")

    assert run.state == "failed"
    assert run.error is not None
    assert run.error["step"] == "1/broken"
    assert "out of yarn" in run.error["traceback"]
    assert "calling.py" not in run.error["traceback"]
    assert run.data["counts"]["skipped"] == 1


def test_a_rule_that_only_pydantic_knows_refuses_the_attempt() -> None:
    """The service checks schemas; what they cannot say is checked before the task is called."""
    loom = Loom("l")

    @loom.task
    def halve(even: Even) -> int:
        raise AssertionError("never called")

    loom.workflow("w", params=Evens, plan=step("halve", halve, even=param("even")))
    run = run_workflow(loom, "w", even={"number": 3})

    assert run.state == "failed"
    assert run.error is not None
    assert run.error["type"] == "InputRefused"
    assert "/even/number" in run.error["message"]
    assert run.steps[0]["tries"] == 0


@pytest.mark.parametrize(
    ("declare", "words"),
    [(lambda x: None, "x"), (eval("lambda *args: None"), "names each of its inputs")],
)
def test_tasks_that_cannot_be_are_named(declare: Any, words: str) -> None:
    """With what to do instead."""
    loom = Loom("l")
    declare.__name__ = "odd"
    loom.task(declare)
    _, problems = loom.examine()

    assert all(words in str(problem) for problem in problems)
    assert bool(problems) == (words != "x")


def test_an_annotation_that_cannot_be_json_is_named() -> None:
    """Found when the loom is checked, not when a step runs."""
    loom = Loom("l")

    @loom.task
    def odd(thing: Loom) -> None: ...

    with pytest.raises(PlanError, match="odd: its inputs cannot be described as JSON"):
        loom.check()


def test_names_are_checked_and_used_once() -> None:
    """Names stand in addresses, so they are plain."""
    with pytest.raises(LoomError, match="a name has letters, digits"):
        Loom("two words")
    loom = Loom("l")

    def one() -> None: ...

    loom.task(one)
    loom.task(name="one")(one)
    loom.workflow("w", plan=step("a", one))
    loom.workflow("w", plan=step("a", one))
    found = {problem.where for problem in loom.examine()[1]}

    assert found == {"one", "w"}


@pytest.mark.parametrize(
    ("spec", "words"),
    [
        (":loom", "expected MODULE:LOOM"),
        ("tests.helpers", "has no loom"),
        ("tests.loms:loom", "no module 'tests.loms'"),
        ("nowhere:loom", "no module 'nowhere'"),
        ("tests.looms:lom", "has no 'lom'; did you mean 'loom'?"),
        ("tests.looms:mark", "is a function, not a Loom"),
        ("tests.broken_loom:loom", r"failed \(broken_loom.py, line 3\): ZeroDivisionError"),
    ],
)
def test_a_loom_that_cannot_be_loaded_is_explained(spec: str, words: str) -> None:
    """What was looked for, and where the mistake is."""
    with pytest.raises(LoomNotFound, match=words):
        load_loom(spec)


def test_public_names_are_these() -> None:
    """A name is made public on purpose, and documented."""
    assert yarnloom.__all__ == sorted(yarnloom.__all__)
    for name in yarnloom.__all__:
        found = getattr(yarnloom, name)
        assert name == "previous" or found.__doc__, f"{name} has no docstring"


def test_every_error_is_in_the_tree_and_described() -> None:
    """The tree at the top of errors.py shows every class of the module, each with its own code."""
    from yarnloom import errors

    found = [one for one in subclasses().values() if one.__module__ == errors.__name__]

    assert len({one.code for one in found}) == len(found)
    for one in found:
        assert one.__doc__
        assert errors.__doc__ is not None
        assert one.__name__ in errors.__doc__


def test_a_grace_is_written_as_other_times_are() -> None:
    """As a number of seconds or as text; what is no time is a mistake of the loom."""
    loom = Loom("graces")

    @loom.task(grace="500ms")
    def short(ctx: StepContext) -> None: ...

    @loom.task(grace="500ms")
    def deaf() -> None: ...

    @loom.task(grace="soon")
    def odd() -> None: ...

    plans, problems = loom.examine()

    assert loom.tasks["short"].facts()["grace"] == 0.5
    (remark,) = loom.remarks(plans)
    assert (remark.where, "cannot hear" in remark.message) == ("deaf.grace", True)
    assert [problem.where for problem in problems] == ["odd.grace"]
    assert "'soon'" in problems[0].message


class HarbourClosed(Exception):
    """Raised by nobody here."""


def test_a_misspelt_error_in_a_retry_rule_is_a_mistake() -> None:
    """Where it looks like one that there is; else it may come when the task runs."""
    loom = Loom("l")

    @loom.task(retry=Retry(attempts=2, on=["HarbourClosd", "TimedOut"]))
    def give() -> int:
        return 1

    @loom.task(retry=Retry(attempts=2, on=[HarbourClosed], never_on=["some_driver.Interrupted9"]))
    def take() -> int:
        return 1

    plan = parallel("p", step("a", give), step("b", take, retry=Retry(on="ConectionError")))
    loom.workflow("w", plan=plan)
    plans, problems = loom.examine()

    assert {one.where: one.message for one in problems} == {
        "give.retry": "there is no error 'HarbourClosd'; did you mean 'HarbourClosed'?",
        "w/p/b.retry": "there is no error 'ConectionError'; did you mean 'ConnectionError'?",
    }
    assert [one.where for one in loom.remarks(plans)] == ["take.retry"]


@pytest.mark.parametrize("params", [dict[str, int], dict, {"number": 1}, "Params"])
def test_params_that_are_no_model_are_a_mistake(params: Any) -> None:
    """The check names the value, and looks at the rest of the loom all the same."""
    loom = Loom("odd")

    @loom.task
    def nothing() -> None:
        """Nothing."""

    loom.workflow("w", plan=step("only", nothing), params=params)
    _, problems = loom.examine()
    assert [problem.where for problem in problems] == ["w.params"]
    assert "expected a class made from BaseModel" in problems[0].message
