"""What a loom wraps around attempts, called in this process."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator
from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import GiveUp, Loom, Retry, RunBegun, RunEnded, StepContext, TryLater, param, step
from yarnloom.errors import PlanError
from yarnloom.testing import InlineRun, run_workflow

Seen = list[str]


def run(
    wrapper: Callable[..., Any], task: Callable[..., Any], *more: Callable[..., Any], **rules: Any
) -> InlineRun:
    """Run a task in a loom with a wrapper."""
    loom = Loom("l")
    for one in (wrapper, *more):
        loom.around_attempt(one)
    loom.task(**rules)(task)
    loom.workflow("w", plan=step("it", task))
    return run_workflow(loom, "w")


@pytest.mark.parametrize("is_async", [False, True])
def test_it_wraps_tasks_of_both_kinds(is_async: bool) -> None:
    """A plain generator does for both; what it yields is in the context."""
    seen: Seen = []

    def session(ctx: StepContext) -> Iterator[str]:
        seen.append(f"before {ctx.address}")
        yield "opened"
        seen.append("after")

    def task(ctx: StepContext) -> str:
        seen.append("task")
        return str(ctx.opened)

    async def coroutine(ctx: StepContext) -> str:
        return task(ctx)

    found = run(session, coroutine if is_async else task)
    assert (found.output, seen) == ("opened", ["before 1/it", "task", "after"])


def test_an_async_one_takes_the_plain_ones_place_for_coroutines() -> None:
    """And for those only."""

    def plain() -> Iterator[str]:
        yield "plain"

    async def later() -> AsyncIterator[str]:
        yield "async"

    async def coroutine(ctx: StepContext) -> Any:
        return ctx.opened

    def task(ctx: StepContext) -> Any:
        return ctx.opened

    assert run(plain, coroutine, later).output == "async"
    assert run(plain, task, later).output == "plain"


def test_the_tasks_error_goes_through_and_stays_the_tasks() -> None:
    """Also where the wrapper swallows it: a task that raised has failed."""
    seen: Seen = []

    def passes() -> Iterator[None]:
        try:
            yield
        except ValueError as error:
            seen.append(str(error))
            raise

    def swallows() -> Iterator[None]:
        try:
            yield
        except ValueError:
            seen.append("swallowed")

    def task() -> None:
        raise ValueError("of the task")

    for wrapper in (passes, swallows):
        error = run(wrapper, task).error
        assert error is not None
        assert (error["type"], error["message"]) == ("ValueError", "of the task")
    assert seen == ["of the task", "swallowed"]


@pytest.mark.parametrize(
    ("place", "when"),
    [
        ("before", "before the task was called"),
        ("after", "after the task had returned"),
        ("error", "after the task had failed with ValueError (of the task)"),
    ],
)
def test_an_error_in_it_is_said_to_be_its_own(place: str, when: str) -> None:
    """By name, with what it raised, when, and the lines of the user's code only."""

    def session() -> Iterator[None]:
        if place == "before":
            raise OSError("no connection")
        try:
            yield
        except ValueError:
            raise OSError("no connection") from None
        raise OSError("no connection")

    def task() -> None:
        if place == "error":
            raise ValueError("of the task")

    found = run(session, task)
    error = found.steps[0]["error"]
    assert error["type"] == "OSError"
    assert error["message"] == f"around_attempt 'session' failed {when}: OSError: no connection"
    assert "raise OSError" in error["traceback"]
    assert "contextlib.py" not in error["traceback"].partition("raise OSError")[0]


def test_retries_go_by_what_was_raised_in_it() -> None:
    """Its errors are tried again as the task's are, and it can ask for more or for an end."""
    begun: Seen = []

    def flaky() -> Iterator[None]:
        begun.append("begun")
        if len(begun) == 1:
            raise ConnectionError("not now")
        if len(begun) == 2:
            raise TryLater("1s", "busy")
        yield

    def task() -> str:
        return "done"

    retry = Retry(attempts=3, wait="1s", on=[ConnectionError])
    assert run(flaky, task, retry=retry).output == "done"
    assert len(begun) == 3

    def gives_up() -> Iterator[None]:
        begun.append("given up")
        raise GiveUp("never")
        yield

    assert run(gives_up, task, retry=Retry(attempts=3)).state == "failed"
    assert begun.count("given up") == 1


def test_what_is_no_failure_leaves_it_by_the_ordinary_way() -> None:
    """A task that asks to be called again has not failed: nothing is rolled back."""
    seen: Seen = []

    def session() -> Iterator[None]:
        try:
            yield
            seen.append("committed")
        except BaseException:
            seen.append("rolled back")
            raise

    def task(ctx: StepContext) -> str:
        if ctx.attempt == 1:
            ctx.call_again("1s")
        return "done"

    assert run(session, task).output == "done"
    assert seen == ["committed", "committed"]


def test_what_is_no_wrapper_is_said() -> None:
    """When the loom is checked; all of it."""
    loom = Loom("l")
    loom.around_attempt(lambda: None)

    @loom.around_attempt
    def one() -> Iterator[None]:
        yield

    @loom.around_attempt
    def two() -> Iterator[None]:
        yield

    @loom.around_process
    def takes(ctx: StepContext) -> Iterator[None]:
        yield

    with pytest.raises(PlanError) as wrong:
        loom.check()
    said = [str(problem) for problem in wrong.value.problems]
    assert "is no generator" in said[0]
    assert "two is the second of its kind" in said[1]
    assert "takes has 1 arguments; expected none" in said[2]


# What is told at the end of runs


def told_loom(**options: Any) -> tuple[Loom, list[RunEnded]]:
    """A loom that tells of ends."""
    loom, told = Loom("l"), list[RunEnded]()

    @loom.task
    def work(fail: bool = False) -> None:
        if fail:
            raise ValueError("on purpose")

    @loom.on_run_end(**options)
    def tell(ended: RunEnded) -> None:
        told.append(ended)

    loom.workflow("good", plan=step("it", work))
    loom.workflow("bad", plan=step("it", work, fail=True))
    return loom, told


def test_a_task_is_told_of_the_end_of_each_run() -> None:
    """Of its own runs nothing is told, so it ends."""
    loom, told = told_loom()
    run_workflow(loom, "good")
    run_workflow(loom, "bad")
    assert [(one.number, one.workflow, one.state) for one in told] == [
        (1, "l/good", "done"),
        (1, "l/bad", "failed"),
    ]
    assert told[0].error is None
    assert told[1].error is not None
    assert told[1].error["message"] == "on purpose"
    assert told[1].started_at is not None


def test_it_is_told_what_the_run_got_and_gave_where_that_is_small() -> None:
    """What is large or deep is left out, and said to be; the telling run never fails for it."""
    loom, told = told_loom()

    class Params(BaseModel):
        size: int
        deep: Any = None

    @loom.task
    def make(size: int) -> str:
        return "x" * size

    loom.workflow("makes", params=Params, plan=step("it", make, size=param("size")))
    deep: Any = []
    for _ in range(62):
        deep = [deep]
    run_workflow(loom, "makes", size=3)
    run_workflow(loom, "makes", size=100_000)
    run_workflow(loom, "makes", size=1, deep=deep)
    small, large, nested = told
    assert (small.params, small.output, small.left_out) == ({"size": 3, "deep": None}, "xxx", [])
    assert (large.output, large.left_out) == (None, ["output"])
    assert (nested.params, nested.output, nested.left_out) == (None, "x", ["params"])


def test_it_is_told_only_of_what_it_asks_for() -> None:
    """States, workflows, or both."""
    loom, told = told_loom(states=["failed"], workflows=["good"])
    for workflow in ("good", "bad"):
        run_workflow(loom, workflow)
    assert told == []


def test_a_task_is_told_when_a_run_begins() -> None:
    """Before it ends, of workflows and single tasks that it asks for; brackets may be left out."""
    loom, _ = told_loom()
    began: list[RunBegun] = []
    ended: list[str] = []

    @loom.on_run_begin
    def any_begin(begun: RunBegun) -> None:
        began.append(begun)

    @loom.on_run_begin(tasks=["work"])
    def of_task(begun: RunBegun) -> None:
        ended.append(f"begins {begun.workflow}")

    @loom.on_run_end(tasks=["work"])
    def of_end(run: RunEnded) -> None:
        ended.append(f"ends {run.workflow}")

    for name in ("good", "work"):
        run_workflow(loom, name)

    assert [(begun.workflow, begun.task, begun.round) for begun in began] == [
        ("l/good", None, 1),
        ("l/work", "l/work", 1),
    ]
    assert ended == ["begins l/work", "ends l/work"]


def test_what_asks_for_nothing_there_is_said() -> None:
    """A state, a workflow, and an input too many."""
    loom, _ = told_loom(states=["finished"], workflows=["god"])

    @loom.on_run_end
    def two(ended: RunEnded, more: int) -> None: ...

    with pytest.raises(PlanError) as wrong:
        loom.check()
    said = {problem.where: problem.message for problem in wrong.value.problems}
    assert "expected done, failed, cancelled" in said["on_run_end.states"]
    assert "did you mean 'good'" in said["tell.workflows"]
    assert "takes one input" in said["two"]
