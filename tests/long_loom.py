"""A loom of long steps, for tests: loops, side effects, and tasks that print in every way."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import os
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from yarnloom import (
    AsyncStepContext,
    Loom,
    NotDone,
    Retry,
    Secret,
    StepContext,
    param,
    sequence,
    step,
)

loom = Loom("long")
PATIENT = Retry(attempts=50, wait=0, jitter=0)


class Walk(BaseModel):
    """A loop over so many items, each of which takes some seconds, and leaves a line."""

    folder: str
    count: int = 100
    every: int = 5
    pause: float = 0.0


class Secretive(BaseModel):
    """A param that nobody is to see."""

    folder: str
    phrase: Secret[str]


def leave(folder: str, name: str, line: object) -> None:
    """Append a line, at once."""
    with (Path(folder) / name).open("a") as file:
        file.write(f"{line}\n")


def lines(folder: str, name: str) -> list[str]:
    """The lines that were left."""
    path = Path(folder) / name
    return path.read_text().splitlines() if path.exists() else []


def nap(seconds: float) -> None:
    """Wait, as something slow does."""
    threading.Event().wait(seconds)


@loom.task(name="walk-task", losses=1_000, grace="1s")
def walk(ctx: StepContext, folder: str, count: int, every: int, pause: float) -> int:
    """Goes through numbers, and counts them."""
    leave(folder, "began", os.getpid())
    for number in ctx.track(range(count), every=every, note="walking"):
        leave(folder, "walked", number)
        ctx.count(added=1, skipped=number % 2)
        nap(pause)
    return count


@loom.task(io=True)
def walk_io(ctx: StepContext, folder: str, count: int, every: int, pause: float) -> int:
    """The same on a thread."""
    return walk(ctx, folder, count, every, pause)


@loom.task
async def walk_async(
    ctx: AsyncStepContext, folder: str, count: int, every: int, pause: float
) -> int:
    """The same in a coroutine."""
    async for number in ctx.track_each(range(count), every=every):
        leave(folder, "walked", number)
        ctx.count(added=1, skipped=number % 2)
        await asyncio.sleep(pause)
    return count


@loom.task(retry=PATIENT, losses=1_000)
def mail_all(ctx: StepContext, folder: str, count: int, every: int, pause: float) -> int:
    """Sends to a mailbox that knows tokens; some letters are refused at first."""
    for number in ctx.track(range(count), note="mailing"):

        def send(token: str, number: int = number) -> str:
            nap(pause)
            if number % 7 == 3 and ctx.tries == 1:
                raise NotDone("the mailbox is busy")
            leave(folder, "mailbox", f"{number} {token}")
            return f"letter {number}"

        ctx.once(f"letter {number}", send, if_unsure=lambda token: was_sent(folder, token))
    return count


def was_sent(folder: str, token: str) -> bool:
    """Ask the mailbox."""
    return any(line.endswith(token) for line in lines(folder, "mailbox"))


@loom.task(name="page-task")
def page(ctx: StepContext, folder: str) -> int:
    """Asks for one page at a time."""
    number = (ctx.carried or 0) + 1
    ctx.progress(number, 30, note="pages")
    if number < 30:
        ctx.call_again(0.0, number)
    return number


@loom.task(name="remembers-task")
def remembers(ctx: StepContext, folder: str) -> Any:
    """Saves, and is stopped there."""
    leave(folder, "restored", ctx.restored)
    for number in range(ctx.restored or 0, 1_000):
        ctx.checkpoint(number + 1)
        leave(folder, "saved", number)
        nap(0.005)
    return ctx.restored


@loom.task(name="stubborn-task", grace="0.5s")
def stubborn(ctx: StepContext, folder: str) -> None:
    """Starts another process, and hears nothing."""
    subprocess.Popen([sys.executable, "-c", "import threading; threading.Event().wait(600)"])
    leave(folder, "stubborn", os.getpid())
    nap(600)


@loom.task(name="grows-task", retry=Retry(attempts=2, wait=0))
def grows(ctx: StepContext, folder: str) -> None:
    """Publishes a text piece by piece; the first attempt breaks off when a file is there."""
    first = ctx.attempt == 1
    if first:
        ctx.publish("first attempt", to="letter", append=True)
    for number in range(1_000_000 if first else 200):
        blank = " " if number or first else ""
        ctx.publish(f"{blank}{number}", to="letter", append=True)
        if first and number >= 50:
            if (Path(folder) / "fail").exists():
                raise OSError("broke off")
            nap(0.02)


@loom.task(name="noisy-task")
def noisy(ctx: StepContext, folder: str) -> None:
    """Prints in every way that there is."""
    sys.stdout.write("from Python\n")
    sys.stderr.write("from Python, as an error\n")
    libc = ctypes.CDLL(None)
    libc.printf(b"from C\n")
    libc.fflush(None)
    subprocess.run(["/bin/echo", "from a subprocess"], check=True)
    thread = threading.Thread(target=sys.stdout.write, args=("from a thread\n",))
    thread.start()
    thread.join()
    ctx.log.warning("from the log")
    ctx.publish({"part": 1})
    ctx.publish("the end")


@loom.task(name="flood-task", grace="0.2s")
def flood(ctx: StepContext, folder: str) -> None:
    """Prints without end."""
    leave(folder, "flood", os.getpid())
    while True:
        os.write(1, b"all work and no play\n" * 500)


@loom.task
def secretive(ctx: StepContext, folder: str, phrase: str, leak: str) -> str:
    """Lets a secret out wherever it can."""
    leave(folder, "length", len(phrase))
    sys.stdout.write(f"the phrase is {phrase}\n")
    ctx.log.info("phrase %s", phrase)
    ctx.publish({"phrase": phrase})
    ctx.progress(1, 2, note=phrase)
    if leak == "raise":
        raise ValueError(phrase)
    return phrase if leak == "return" else "kept"


@loom.task(name="watches-task")
def watches(ctx: StepContext, folder: str) -> str | None:
    """Looks now and then whether it is to stop."""
    leave(folder, "watches", os.getpid())
    while ctx.stop_asked is None:
        nap(0.001)
    with contextlib.suppress(OSError):
        leave(folder, "heard", ctx.stop_asked)
    ctx.check()
    return None


WALK = {name: param(name) for name in Walk.model_fields}

for task in (walk, walk_io, walk_async, mail_all):
    name = task.__name__.replace("_", "-")
    loom.workflow(name, params=Walk, plan=step("go", task, **WALK))
for task in (page, remembers, stubborn, noisy, grows, flood, watches):
    loom.workflow(task.__name__, params=Walk, plan=step("go", task, folder=param("folder")))
for leak in ("raise", "return", "print"):
    loom.workflow(
        f"secret-{leak}",
        params=Secretive,
        plan=sequence(
            step("go", secretive, folder=param("folder"), phrase=param("phrase"), leak=leak)
        ),
    )
