"""Tasks to be stopped: that hear of it, that cannot, that do not want to, and that carry sums."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from yarnloom import AsyncStepContext, Loom, Retry, StepContext, param, step

loom = Loom("stops")


class Folder(BaseModel):
    """Where tasks leave their marks."""

    folder: str
    count: int = 100
    pause: float = 0.0


def mark(folder: str, what: str) -> None:
    """Leave a mark that says when."""
    with (Path(folder) / what).open("a") as file:
        file.write(f"{time.time()} {os.getpid()}\n")


def marks(folder: Path | str, what: str) -> list[float]:
    """When the marks were left."""
    path = Path(folder) / what
    lines = path.read_text().splitlines() if path.exists() else []
    return [float(line.split()[0]) for line in lines]


@loom.task(name="sleeps-task")
def sleeps(folder: str) -> str:
    """Sleep, and tidy up."""
    mark(folder, "began")
    try:
        time.sleep(600)
    finally:
        mark(folder, "finally")
    return "slept"


@loom.task(name="loops-task")
def loops(folder: str) -> int:
    """Go round and round in Python."""
    mark(folder, "began")
    count = 0
    try:
        while True:
            count += 1
    finally:
        mark(folder, "finally")


@loom.task(name="computes-task")
def computes(folder: str) -> float:
    """Compute in C for a long time, a piece at a time."""
    import numpy as np

    # NumPy loads its random numbers only here, and extensions swallow what is raised meanwhile.
    matrix = np.random.default_rng(1).random((300, 300))
    mark(folder, "began")
    total = 0.0
    while True:
        total += float((matrix @ matrix).sum())


@loom.task
def waits_for_a_process(folder: str) -> int:
    """Wait for a program."""
    mark(folder, "began")
    return subprocess.run(["sleep", "600"], check=False).returncode


@loom.task(name="waits-task")
async def waits(folder: str) -> str:
    """Wait on the event loop."""
    mark(folder, "began")
    try:
        await asyncio.sleep(600)
    finally:
        mark(folder, "finally")
    return "waited"


@loom.task
def never_returns(folder: str) -> None:
    """Stay in C code that never looks at Python."""
    mark(folder, "began")
    sum(range(10**13))


@loom.task
def does_not_listen(ctx: StepContext, folder: str) -> None:
    """Take a context, and never ask it anything."""
    mark(folder, "began")
    while True:
        time.sleep(0.01)


@loom.task(name="hangs-task", timeout="700ms", retry=Retry(attempts=9, wait=0, within="2s"))
def hangs(folder: str) -> None:
    """Hang longer than its time-out."""
    mark(folder, "began")
    time.sleep(600)


@loom.task(timeout="2s")
def hears_before(ctx: StepContext, folder: str) -> str:
    """Hear of a time-out before it comes, and keep what there is."""
    mark(folder, "began")
    while ctx.stop_asked is None:
        time.sleep(0.01)
    mark(folder, f"heard-{ctx.stop_asked}")
    return "in time"


@loom.task(name="swallows-task")
def swallows(ctx: StepContext, folder: str) -> str:
    """Catch everything around each row, as careful people do."""
    mark(folder, "began")
    for _ in range(100_000):
        try:
            ctx.check()
            time.sleep(0.002)
        except Exception:
            mark(folder, "caught")
    return "ignored it"


@loom.task(grace=0.3)
def swallows_all(ctx: StepContext, folder: str) -> str:
    """Catch even what is no error."""
    mark(folder, "began")
    while True:
        try:
            ctx.check()
            time.sleep(0.002)
        except:  # noqa: E722
            mark(folder, "caught")


@loom.task
def calls_again(ctx: StepContext, folder: str) -> str:
    """Ask to be called again inside a careful loop."""
    mark(folder, "began")
    for _ in range(3):
        try:
            if len(marks(folder, "began")) < 3:
                ctx.call_again(0.01)
        except Exception:
            mark(folder, "caught")
    return "called"


@loom.task
def calls_again_bare(ctx: StepContext, folder: str) -> str:
    """Swallow its own wish."""
    try:
        ctx.call_again(0.01)
    except:  # noqa: E722
        mark(folder, "caught")
    return "returned all the same"


@loom.task
async def in_a_group(ctx: AsyncStepContext, folder: str) -> None:
    """Stop within a group of coroutines."""
    mark(folder, "began")

    async def one() -> None:
        while True:
            await asyncio.sleep(0.005)
            ctx.check()

    async with asyncio.TaskGroup() as group:
        group.create_task(one())
        group.create_task(one())


@loom.task
def dies_in_the_middle(ctx: StepContext, folder: str) -> int:
    """Die after an effect and before that is told; what it gave is used."""

    def send() -> int:
        mark(folder, "sent")
        os.kill(os.getpid(), signal.SIGKILL)
        return 0

    return int(ctx.once("mail ann's harbour", send)) + 1


@loom.task(name="carries-task", losses=1_000)
def carries(ctx: StepContext, folder: str, count: int, pause: float) -> dict[str, Any]:
    """Add up numbers, in a loop that is stopped again and again."""
    mark(folder, "began")
    loop = ctx.track(range(count), carry={"total": 0, "seen": []})
    for number in loop:
        loop.carry["total"] += number
        loop.carry["seen"] = [*loop.carry["seen"][-3:], number]
        ctx.count(added=1)
        time.sleep(pause)
        mark(folder, "walked")
    return {**loop.carry, "counted": ctx.counted}


@loom.task(io=True, losses=1_000)
def carries_io(ctx: StepContext, folder: str, count: int, pause: float) -> dict[str, Any]:
    """The same on a thread."""
    return carries(ctx, folder, count, pause)


@loom.task(losses=1_000)
async def carries_async(
    ctx: AsyncStepContext, folder: str, count: int, pause: float
) -> dict[str, Any]:
    """The same as a coroutine."""
    mark(folder, "began")
    loop = ctx.track_each(range(count), carry={"total": 0, "seen": []})
    async for number in loop:
        loop.carry["total"] += number
        loop.carry["seen"] = [*loop.carry["seen"][-3:], number]
        ctx.count(added=1)
        await asyncio.sleep(pause)
        mark(folder, "walked")
    return {**loop.carry, "counted": ctx.counted}


@loom.task(name="short-task", losses=1_000)
def short(ctx: StepContext, folder: str, number: int) -> int:
    """Be over soon: log, count, and do something once."""
    end = time.monotonic() + 0.004
    ctx.log.info("number %d", number)
    while time.monotonic() < end:
        pass
    ctx.once("mark", lambda: mark(folder, f"once-{number}"))
    while time.monotonic() < end + 0.004:
        pass
    return number


class Numbered(BaseModel):
    """One of many."""

    folder: str
    number: int


for task in (sleeps, loops, computes, waits_for_a_process, waits, never_returns, hangs):
    name = task.__name__.replace("_", "-")
    loom.workflow(name, params=Folder, plan=step("it", task, folder=param("folder")))
for task in (
    does_not_listen,
    hears_before,
    swallows,
    swallows_all,
    calls_again,
    calls_again_bare,
    in_a_group,
    dies_in_the_middle,
):
    name = task.__name__.replace("_", "-")
    loom.workflow(name, params=Folder, plan=step("it", task, folder=param("folder")))
for task in (carries, carries_io, carries_async):
    loom.workflow(
        task.__name__.replace("_", "-"),
        params=Folder,
        plan=step("it", task, folder=param("folder"), count=param("count"), pause=param("pause")),
    )
loom.workflow(
    "short", params=Numbered, plan=step("it", short, folder=param("folder"), number=param("number"))
)
