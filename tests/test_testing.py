"""Runs in the process of a test end as they do in a service."""

from __future__ import annotations

import asyncio
import threading

import pytest
from pydantic import BaseModel

from yarnloom import Loom, Rate, Retry, StepContext, each, item, param, step
from yarnloom.errors import RunCannotEnd
from yarnloom.testing import run_workflow

loom = Loom("kit")
loom.pool("slow", rate=Rate(1, per="10m"))


class Numbers(BaseModel):
    """What to go through."""

    numbers: list[int]


@loom.task
def waits() -> None:
    """For longer than it may."""
    threading.Event().wait(30)


@loom.task
def spins(ctx: StepContext) -> None:
    """Until it is told to stop."""
    while True:
        ctx.check()


@loom.task
async def waits_async() -> None:
    """The same as a coroutine."""
    await asyncio.sleep(30)


@loom.task
def double(number: int) -> int:
    """Twice as much."""
    return 2 * number


@loom.task(retry=Retry(attempts=None, wait="5h"))
def fails() -> None:
    """It always does."""
    raise OSError("not yet")


for name, task in (("waits", waits), ("spins", spins), ("waits-async", waits_async)):
    loom.workflow(f"{name}-long", plan=step("it", task, timeout="0.2s"))
loom.workflow(
    "rated",
    params=Numbers,
    plan=each("all", over=param("numbers"), do=step("it", double, number=item(), pool="slow")),
)
loom.workflow("on-gpu", plan=step("it", double, number=1, only_on=["gpu"]))
loom.workflow("late", plan=step("it", fails), deadline="12h")


@pytest.mark.parametrize("workflow", ["waits-long", "spins-long", "waits-async-long"])
def test_a_step_that_takes_too_long_fails(workflow: str) -> None:
    """It is interrupted when its time is over, whether it waits, listens or is a coroutine."""
    run = run_workflow(loom, workflow)

    assert run.state == "failed"
    assert run.error is not None
    assert run.error["type"] == "TimedOut"


def test_a_rate_is_kept_and_the_run_ends() -> None:
    """Three begins in ten minutes each take no time in a test."""
    run = run_workflow(loom, "rated", Numbers(numbers=[1, 2, 3]))

    assert (run.state, run.output) == ("done", [2, 4, 6])
    begins = sorted(taken["started_at"] for taken in run.steps)
    assert begins[0][:16] != begins[1][:16] != begins[2][:16]


def test_what_no_worker_can_run_is_said() -> None:
    """With what `why` says; a test can give what steps ask for."""
    with pytest.raises(RunCannotEnd, match="only_on"):
        run_workflow(loom, "on-gpu")
    assert run_workflow(loom, "on-gpu", None, ["gpu"]).output == 2


def test_a_deadline_passes_when_it_should() -> None:
    """Not at the end of the next back-off behind it."""
    run = run_workflow(loom, "late")

    assert run.state == "failed"
    assert run.data["ended_at"][:13] == f"{run.data['created_at'][:11]}20"
