"""A loom whose tasks say too much: huge errors, odd numbers, and processes that they fork."""

from __future__ import annotations

import multiprocessing
import os
import sys
from typing import Any

from pydantic import BaseModel

from yarnloom import GiveUp, Loom, NotDone, StepContext, TryLater, param, step

loom = Loom("huge")


class How(BaseModel):
    """What is too much, and how much of it."""

    how: str
    size: int = 9_000_000


class Silent(Exception):
    """An error that cannot be written as text."""

    def __str__(self) -> str:
        raise ValueError("no text")


@loom.task(name="fails-task")
def fails(how: str, size: int) -> None:
    """It does, at length."""
    text = "x" * size
    match how:
        case "error":
            raise RuntimeError(text)
        case "control characters":
            raise RuntimeError("\x01" * size)
        case "not ascii":
            raise RuntimeError("é" * (size // 2))
        case "give up":
            raise GiveUp(text)
        case "try later":
            raise TryLater(0.01, text)
        case "not done":
            raise NotDone(text)
        case "exit":
            sys.exit(text)
        case "class name":
            raise type("Huge" + text, (Exception,), {})("it")
        case "chained":
            try:
                raise RuntimeError(text)
            except RuntimeError as error:
                raise ValueError(text) from error
        case "group":
            raise ExceptionGroup("many", [RuntimeError(text[: size // 9]) for _ in range(9)])
        case "notes":
            error = RuntimeError("it")
            error.add_note(text)
            raise error
        case "silent":
            raise Silent


@loom.task(name="says-task")
def says(ctx: StepContext, how: str, size: int) -> str:
    """Its notes, units, log records or names are long."""
    text = "x" * size
    match how:
        case "note":
            ctx.progress(done=1, total=2, note=text)
        case "unit":
            ctx.progress(done=1, total=2, unit=text)
        case "log":
            ctx.log.info(text)
        case "print":
            print(text)
        case "loop note":
            for _ in ctx.track([1, 2], note=text):
                pass
        case "loop name":
            for _ in ctx.track([1, 2], name=text):
                pass
    return "said"


@loom.task(name="counts-task")
def counts(ctx: StepContext, how: str, size: int) -> None:
    """Its progress is no figure."""
    match how:
        case "huge":
            ctx.progress(done=10**400, total=10**401)
        case "infinite":
            ctx.progress(done=float("inf"))
        case "text":
            ctx.progress(done="many")  # type: ignore[arg-type]
        case "counted":
            ctx.count(added=10**400)


@loom.task(name="returns-task")
def returns(how: str, size: int) -> Any:
    """What it returns holds numbers that no JSON reader takes."""
    match how:
        case "integer":
            return 10**5_000
        case "just too long":
            return [{"a": 10**1_000}]
        case "longest":
            return 10**1_000 - 1
        case "infinite":
            return [float("inf")]


@loom.task
def counts_up(how: str, size: int) -> int:
    """An integer, as the annotation says."""
    return 10**5_000


@loom.task(name="forks-task")
def forks(how: str, size: int) -> str:
    """Its forks leave it in every way that a process can."""
    match how:
        case "pool":
            with multiprocessing.get_context("fork").Pool(2) as pool:
                return str(pool.map(abs, [-1, -2]))
    pid = os.fork()
    if pid == 0:
        if how == "exits":
            sys.exit(7)
        if how == "raises":
            raise RuntimeError("in the fork")
        return "from the fork"
    return str(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))


@loom.task
def forks_and_tracks(ctx: StepContext, how: str, size: int) -> str:
    """A fork that uses what belongs to its parent."""
    pid = os.fork()
    if pid == 0:
        ctx.progress(done=1, total=2)
        ctx.log.info("from the fork")
        return "from the fork"
    return str(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))


@loom.task(io=True)
def forks_on_thread(how: str, size: int) -> str:
    """The same among others, on a thread."""
    return forks(how, size)


@loom.task
async def forks_in_coroutine(how: str, size: int) -> str:
    """The same on an event loop."""
    return forks(how, size)


@loom.task(name="adds-task")
def adds(how: str, size: int) -> int:
    """What a healthy task does meanwhile."""
    return size + 1


for task in (
    fails, says, counts, returns, counts_up, forks, forks_and_tracks, forks_on_thread,
    forks_in_coroutine, adds,
):  # fmt: skip
    loom.workflow(
        task.__name__.replace("_", "-"),
        params=How,
        plan=step("it", task, how=param("how"), size=param("size")),
    )
