"""A loom for tests of what is wrapped around attempts and processes; marks are left in files."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator, Iterator
from contextvars import ContextVar
from pathlib import Path

from tests.looms import Folder, wait_for
from yarnloom import Loom, RunEnded, StepContext, param, sequence, step

FOLDER = Path(os.environ.get("AROUND_FOLDER", "."))
SESSION: ContextVar[str] = ContextVar("session", default="none")

loom = Loom("around")


def note(line: str) -> None:
    """Append a line to what has happened."""
    with (FOLDER / "noted").open("a") as file:
        file.write(f"{line}\n")


@loom.around_process
def connections() -> Iterator[str]:
    """What a process keeps; it cannot be had while a file is there."""
    if (FOLDER / "down").exists():
        raise ConnectionError("the database is down")
    note(f"set up {os.getpid()}")
    yield f"kept by {os.getpid()}"
    note(f"torn down {os.getpid()}")


@loom.around_process
async def later() -> AsyncIterator[str]:
    """The same on the event loop of `async def` tasks."""
    note(f"async set up {os.getpid()}")
    yield f"async kept by {os.getpid()}"
    await asyncio.sleep(0)
    note(f"async torn down {os.getpid()}")


@loom.around_attempt
def session(ctx: StepContext) -> Iterator[str]:
    """A session around each attempt."""
    if (FOLDER / "refused").exists():
        raise PermissionError("no session")
    token = SESSION.set(ctx.address)
    try:
        yield f"session of {ctx.address}"
        note(f"committed {ctx.address}")
    except ValueError:
        note(f"rolled back {ctx.address}")
        raise
    finally:
        SESSION.reset(token)
    if (FOLDER / "unclean").exists():
        raise OSError("the commit failed")


@loom.task
def alone(ctx: StepContext) -> list[str]:
    """What it sees of what is around it."""
    return [SESSION.get(), ctx.opened, ctx.kept.partition(" by ")[0]]


@loom.task(io=True)
def on_thread(ctx: StepContext) -> list[str]:
    """The same on a thread."""
    return [SESSION.get(), ctx.opened, ctx.kept.partition(" by ")[0]]


@loom.task
async def coroutine(ctx: StepContext) -> list[str]:
    """The same as a coroutine."""
    await asyncio.sleep(0)
    return [SESSION.get(), ctx.opened, ctx.kept.partition(" by ")[0]]


@loom.task(name="fails-task")
def fails() -> None:
    """It does."""
    raise ValueError("the task itself")


@loom.task(name="holds-task")
def holds(folder: str) -> None:
    """It goes on until a file is there."""
    wait_for(folder, "go")


@loom.on_run_end(states=["failed"], workflows=["fails"])
def tell(ended: RunEnded) -> str:
    """What failed, and why."""
    assert ended.error is not None
    note(f"told of {ended.number}: {ended.error['message']}")
    return ended.state


loom.workflow(
    "sees", plan=sequence(step("alone", alone), step("thread", on_thread), step("async", coroutine))
)
loom.workflow("one", plan=step("alone", alone))
loom.workflow("fails", plan=step("it", fails))
loom.workflow("holds", params=Folder, plan=step("it", holds, folder=param("folder")))
