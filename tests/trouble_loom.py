"""Tasks in trouble: one waits for another run on the only place, one says nothing."""

from __future__ import annotations

import time

from pydantic import BaseModel

from yarnloom import Client, Loom, Retry, RunEnded, StepContext, param, sequence, step

loom = Loom("trouble")


class Where(BaseModel):
    """Where the service is."""

    url: str


@loom.task
def order(url: str) -> int:
    """Start another run, and wait for it."""
    with Client(url) as client:
        found: int = client.start("inner").wait(120)
    return found


@loom.task
def deliver() -> int:
    """What is waited for."""
    return 7


@loom.task(quiet_for="200ms")
def ponder(ctx: StepContext) -> int:
    """Say one word, and nothing more until told to stop."""
    ctx.progress(3, 12, unit="pages")
    while ctx.stop_asked is None:
        time.sleep(0.01)
    return 1


@loom.task(quiet_for="300ms", if_quiet="retry", retry=Retry(2, wait="10ms"))
def hang_once(ctx: StepContext) -> int:
    """Hang the first time, where nothing can be heard; go on well the second."""
    ctx.progress(1, 2)
    if ctx.tries == 1:
        time.sleep(600)
    return ctx.tries


@loom.task
def read_on(ctx: StepContext) -> int:
    """Read pages until told to stop, one of a hundred a moment."""
    for _ in ctx.track(range(10_000), name="pages", note="slowly"):
        time.sleep(0.02)
    return 1


@loom.task
def tell(number: int) -> None:
    """Fail the first time that it is told something."""
    raise ValueError("nobody listens")


@loom.on_run_end(workflows=["tells"])
def note_end(ended: RunEnded) -> str:
    """Say what came of a run."""
    return f"{ended.workflow} gave {ended.output}"


loom.workflow("outer", params=Where, plan=step("order", order, url=param("url")))
loom.workflow("inner", plan=step("deliver", deliver))
loom.workflow("ponders", plan=sequence(step("ponder", ponder)))
loom.workflow("hangs-once", plan=step("hang", hang_once))
loom.workflow("reads", plan=sequence(step("deliver", deliver), step("read", read_on)))
loom.workflow("tells", plan=step("deliver", deliver, on_end=step("tell", tell, number=1)))
