"""Tasks whose processes are stopped from outside, in a loom that can take long to load."""

from __future__ import annotations

import asyncio
import os
import time
from pathlib import Path

from pydantic import BaseModel

from yarnloom import AsyncStepContext, Loom, StepContext, param, step

HOLD = "STILL_LOOM_HOLD"
"""Names a file: while it is there, a process that loads this module waits."""

while Path(os.environ.get(HOLD, "/none/at/all")).exists():
    time.sleep(0.02)

loom = Loom("still", fork=HOLD not in os.environ)


class Folder(BaseModel):
    """Where marks are left."""

    folder: str


@loom.task(name="who-task")
def who() -> int:
    """The process that runs it."""
    return os.getpid()


@loom.task
async def who_shared() -> int:
    """The shared process."""
    return os.getpid()


@loom.task(name="alone-task", overlap="never")
def alone(folder: str, ctx: StepContext) -> str:
    """Leave a mark again and again, as long as it lives: which attempt, and when."""
    end = Path(folder) / "go"
    with (Path(folder) / "alive").open("a", buffering=1) as file:
        while not end.exists():
            file.write(f"{ctx.attempt} {time.time()}\n")
            time.sleep(0.02)
    return "went"


@loom.task(overlap="never")
async def alone_shared(folder: str, ctx: AsyncStepContext) -> str:
    """The same on a process that it shares."""
    end = Path(folder) / "go"
    with (Path(folder) / "alive").open("a", buffering=1) as file:
        while not end.exists():
            file.write(f"{ctx.attempt} {time.time()}\n")
            await asyncio.sleep(0.02)
    return "went"


loom.workflow("who", plan=step("who", who))
loom.workflow("who-shared", plan=step("who", who_shared))
loom.workflow("alone", params=Folder, plan=step("alone", alone, folder=param("folder")))
loom.workflow(
    "alone-shared", params=Folder, plan=step("alone", alone_shared, folder=param("folder"))
)
