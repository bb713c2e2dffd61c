"""A loom for tests: its tasks leave marks in files, and wait for files, so that tests decide."""

from __future__ import annotations

import asyncio
import ctypes
import logging
import os
import subprocess
import sys
import threading
import time
from datetime import date
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from yarnloom import (
    Failure,
    GiveUp,
    Loom,
    Retry,
    StepContext,
    TryLater,
    each,
    failure,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
)

loom = Loom("marks")


def mark(folder: str, name: str) -> int:
    """Append a line to a file; how many there are then."""
    path = Path(folder) / name
    with path.open("a") as file:
        file.write(f"{os.getpid()}\n")
    return len(path.read_text().splitlines())


def wait_for(folder: str, name: str) -> None:
    """Wait until a file is there."""
    pause = threading.Event()
    while not (Path(folder) / name).exists():
        pause.wait(0.01)


class Folder(BaseModel):
    """Where the marks are left."""

    folder: str


class Number(BaseModel):
    """A number."""

    number: int
    step: int = 1


@loom.task
def begin(folder: str) -> str:
    """The first step."""
    mark(folder, "begin")
    return "begun"


@loom.task(overlap="never")
def alone(folder: str) -> str:
    """A step of which two must never run at once."""
    if mark(folder, "alone") == 1:
        wait_for(folder, "never there")
    return "alone"


loom.workflow("alones", params=Folder, plan=step("alone", alone, folder=param("folder")))


@loom.task(grace=0.5)
def hold(ctx: StepContext, folder: str, after: str) -> str:
    """A step that goes on until the test lets it go."""
    mark(folder, "hold")
    wait_for(folder, "go")
    mark(folder, "held")
    return f"{after}, held"


@loom.task
def finish(folder: str, after: str) -> str:
    """The last step."""
    mark(folder, "finish")
    return f"{after}, finished"


loom.workflow(
    "held",
    params=Folder,
    plan=sequence(
        step("begin", begin, folder=param("folder")),
        step("hold", hold, folder=param("folder"), after=previous),
        step("finish", finish, folder=param("folder"), after=previous),
    ),
)


@loom.task
def add(number: int, more: int = 1) -> int:
    """A sum."""
    return number + more


loom.workflow(
    "sums",
    params=Number,
    plan=sequence(
        step("first", add, number=param("number"), more=param("step")),
        step("second", add, number=previous),
    ),
)


@loom.task
def spawn(folder: str) -> str:
    """A step with a process of its own, both inside calls that never look at Python."""
    child = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"])
    mark(folder, "spawn")
    # Holds the interpreter's lock, as careless C code does.
    ctypes.PyDLL(None).sleep(600)
    return str(child.pid)


loom.workflow("spawns", params=Folder, plan=step("spawn", spawn, folder=param("folder")))


@loom.task
def heed(ctx: StepContext, folder: str) -> str:
    """A step that looks whether it is told to stop."""
    mark(folder, "heed")
    pause = threading.Event()
    while True:
        ctx.check()
        pause.wait(0.01)


loom.workflow("heeds", params=Folder, plan=step("heed", heed, folder=param("folder")))


@loom.task
def die(folder: str) -> str:
    """A step that kills its process the first time, or every time."""
    if mark(folder, "die") == 1 or (Path(folder) / "always").exists():
        os.kill(os.getpid(), 9)
    return "alive"


loom.workflow("dies", params=Folder, plan=step("die", die, folder=param("folder")))


@loom.task
def misbehave(how: str) -> Any:
    """A step that goes wrong in the way that is asked for."""
    match how:
        case "raise":
            raise ValueError("it went wrong")
        case "give up":
            raise GiveUp("it never will")
        case "nan":
            return {"levels": [1.0, float("nan")]}
        case "object":
            return object()
        case "large":
            return "x" * 300_000
        case "exit":
            sys.exit(3)
    return how


class How(BaseModel):
    """What goes wrong."""

    how: str


loom.workflow("misbehaves", params=How, plan=step("misbehave", misbehave, how=param("how")))


@loom.task
def speak(words: str) -> str:
    """A step that prints in every way there is."""
    print(f"printed {words}")
    print(f"complained {words}", file=sys.stderr)
    logging.getLogger("tests").warning("logged %s", words)
    subprocess.run(["/bin/echo", "echoed", words], check=True)
    return words


class Words(BaseModel):
    """What is said."""

    words: str


loom.workflow("speaks", params=Words, plan=step("speak", speak, words=param("words")))


class ManyWords(BaseModel):
    """Words that are said, one after the other."""

    words: list[str]


loom.workflow(
    "speak-often",
    params=ManyWords,
    plan=each("words", over=param("words"), do=step("speak", speak, words=item())),
)


@loom.task(name="gather-task", grace=0.2)
async def gather(folder: str, words: str) -> int:
    """A step that waits together with many others."""
    mark(folder, "gather")
    print(f"printed {words}", end="")
    logging.getLogger("tests").warning("logged %s", words)
    while not (Path(folder) / "go").exists():
        await asyncio.sleep(0.01)
    return os.getpid()


@loom.task(name="stubborn-task", io=True, grace=0.2)
def stubborn(folder: str, words: str) -> int:
    """A step on a thread that looks at nothing."""
    mark(folder, "stubborn")
    print(f"printed {words}")
    wait_for(folder, "free")
    return os.getpid()


class Whispered(Folder):
    """Where, and what."""

    words: str


for task in (gather, stubborn):
    loom.workflow(
        task.__name__,
        params=Whispered,
        plan=step("it", task, folder=param("folder"), words=param("words")),
    )


class Harbours(BaseModel):
    """Which harbours; one called `fogwick` is silent."""

    harbours: list[str]
    careful: bool = True


@loom.task
def listen(harbour: str) -> int:
    """How long a harbour's name is, if it speaks."""
    print(f"listening at {harbour}")
    if harbour == "fogwick":
        raise GiveUp("its gauge is silent")
    return len(harbour)


@loom.task
def pair(left: int, right: int) -> int:
    """The sum of two."""
    return left + right


@loom.task
def tell(failure: Failure | None = None) -> str:
    """What failed."""
    return failure.first.error.message if failure else "all is well"


loom.workflow(
    "coast",
    params=Harbours,
    plan=sequence(
        each(
            "harbours",
            over=param("harbours"),
            name=item(),
            may_fail="50%",
            if_one_fails="finish",
            do=sequence(
                step("listen", listen, harbour=item()),
                parallel(
                    "figures",
                    step("sum", pair, left=output("twice"), right=output("listen")),
                    step("twice", pair, left=output("listen"), right=output("listen")),
                ),
            ),
        ),
        step("check", tell, only_if=param("careful")),
    ),
    on_failure=step("notice", tell, failure=failure()),
)


@loom.task
def takes(seconds: float) -> float:
    """Take a while."""
    time.sleep(seconds)
    return seconds


loom.workflow(
    "sides",
    plan=parallel("both", step("short", takes, seconds=0.0), step("long", takes, seconds=0.3)),
)


# Pools, tries and limits


loom.pool("narrow", limit=1, note="one at a time")
loom.pool("rail")


@loom.task(pool="narrow")
def pass_narrow(folder: str, name: int) -> int:
    """A step of which one runs at a time, until the test lets it go."""
    mark(folder, "narrow")
    wait_for(folder, "go")
    return name


loom.workflow(
    "narrows",
    params=Folder,
    plan=each(
        "all",
        over=[1, 2, 3],
        name=item(),
        do=step("pass", pass_narrow, folder=param("folder"), name=item()),
    ),
)


@loom.task(retry=Retry(attempts=5, wait="50ms", on=[OSError]))
def flaky(ctx: StepContext, folder: str) -> list[int]:
    """A step that fails twice, asks for a little time, and passes."""
    mark(folder, "flaky")
    if ctx.tries <= 2:
        raise ConnectionResetError("cut off")
    if ctx.tries == 3:
        raise TryLater("20ms", "not yet")
    return [ctx.attempt, ctx.tries]


@loom.task(timeout="300ms", grace=0.2, retry=Retry(attempts=2, wait=0))
def hang(folder: str) -> int:
    """A step that hangs the first time, and looks at nothing."""
    if mark(folder, "hang") == 1:
        wait_for(folder, "never there")
    return os.getpid()


@loom.task(memory="120 MB")
def gorge(folder: str) -> int:
    """A step that takes more memory than it may."""
    mark(folder, "gorge")
    hoard = bytearray(600_000_000)
    for start in range(0, len(hoard), 4096):
        hoard[start] = 1
    wait_for(folder, "never there")
    return len(hoard)


@loom.task(only_on=["gpu"])
def draw(folder: str) -> int:
    """A step that not every worker can run."""
    return mark(folder, "draw")


@loom.task(io=True, grace=0.2, pool="rail")
def cling(folder: str) -> int:
    """A step on a thread that looks at nothing, in a pool."""
    mark(folder, "cling")
    wait_for(folder, "free")
    return os.getpid()


for task in (flaky, hang, gorge, draw, cling):
    plan = step("it", task, folder=param("folder"))
    loom.workflow(f"{task.__name__}s", params=Folder, plan=plan)
loom.workflow(
    "turns", params=Folder, plan=step("it", hold, folder=param("folder"), after="turn"), at_once=1
)


class Keyed(BaseModel):
    """Params of which one is called like an option of starts."""

    item: str
    key: str = "nobody"


class Year(BaseModel):
    """A year."""

    year: int


class Folder(BaseModel):
    """A folder that may not be there."""

    folder: str


@loom.task
def give_to(item: str, key: str) -> str:
    """Say for whom it is."""
    return f"{item} for {key}"


@loom.task
def first_day(year: int) -> date:
    """The first day of a year."""
    return date(year, 1, 1)


@loom.task
def look_into(folder: str) -> int:
    """Count what is in a folder."""
    return len(list(Path(folder).iterdir()))


keyed = loom.workflow(
    "keyed",
    params=Keyed,
    output=str,
    plan=step("give", give_to.of(item=param("item"), key=param("key"))),
)
dated = loom.workflow(
    "dated", params=Year, output=date, plan=step("day", first_day.of(year=param("year")))
)
loom.workflow("looks", params=Folder, plan=step("look", look_into.of(folder=param("folder"))))
