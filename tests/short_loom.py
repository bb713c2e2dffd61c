"""A loom of short steps, many of which go to a process together."""

from __future__ import annotations

import os
import signal
import subprocess
from pathlib import Path

from pydantic import BaseModel

from tests.long_loom import leave, nap
from yarnloom import Loom, Retry, each, item, param, previous, sequence, step

loom = Loom("short")


class Many(BaseModel):
    """So many items; something special happens at one of them."""

    folder: str
    count: int = 200
    special: int = 100


@loom.task
def numbers(count: int) -> list[int]:
    """So many numbers."""
    return list(range(count))


@loom.task(name="speaks-task")
def speaks(number: int) -> int:
    """Prints its number in a way that depends on it; most print nothing."""
    if number % 7 == 1:
        print(f"python {number}")
    elif number % 7 == 2:
        os.write(1, f"system {number}\n".encode())
    elif number % 7 == 3:
        os.write(2, f"unfinished {number}".encode())
    elif number % 50 == 5:
        print(f"before {number}")
        subprocess.run(["/bin/echo", f"program {number}"], check=True)
        print(f"after {number}")
    return number


@loom.task(name="stays-task")
def stays(number: int, folder: str, special: int) -> int:
    """Nothing; one of them stays for long."""
    leave(folder, "begun", number)
    if number == special:
        nap(600)
    return number


@loom.task(name="dies-task")
def dies(number: int, folder: str, special: int) -> int:
    """Print a line; one of them kills its process behind that when it is tried first."""
    print(f"number {number}")
    if number == special and not os.path.exists(f"{folder}/died"):
        leave(folder, "died", os.getpid())
        print("last words")
        os.kill(os.getpid(), signal.SIGKILL)
    leave(folder, "ended", number)
    return number


@loom.task(name="fails-task")
def fails(number: int, folder: str, special: int) -> int:
    """One of ten fails when it is tried first."""
    leave(folder, "tried", number)
    with open(f"{folder}/tried") as tried:
        first = tried.read().split().count(str(number)) == 1
    if number % 10 == 3 and first:
        raise ValueError("the first try")
    return number


@loom.task
def link(number: int, place: int, folder: str = "", special: int = -1) -> int:
    """One more, behind others of its kind; at a special place something happens, once."""
    if folder:
        leave(folder, "begun", place)
    if place == special and not os.path.exists(f"{folder}/happened"):
        kind = Path(folder, "what").read_text()
        leave(folder, "happened", place)
        if kind == "dies":
            os.kill(os.getpid(), signal.SIGKILL)
        elif kind == "fails":
            raise ValueError("the first try")
        elif kind == "stays":
            nap(600)
        elif kind == "prints":
            print("from Python")
            os.write(1, b"from the system\n")
            subprocess.run(["/bin/echo", "from a program"], check=True)
    return number + 1


@loom.task
def widen(number: int, size: int) -> str:
    """A long text."""
    return f"{number:<{size}}"


@loom.task
def measure(text: str) -> int:
    """How long it is."""
    return len(text)


AGAIN = Retry(3, wait="10ms", jitter=0)
for name, do in (
    ("speaks", step("do", speaks, number=item())),
    ("stays", step("do", stays, number=item(), folder=param("folder"), special=param("special"))),
    ("dies", step("do", dies, number=item(), folder=param("folder"), special=param("special"))),
    (
        "fails",
        step(
            "do",
            fails,
            number=item(),
            folder=param("folder"),
            special=param("special"),
            retry=AGAIN,
        ),
    ),
):
    loom.workflow(
        name,
        params=Many,
        plan=sequence(
            step("list", numbers, count=param("count")), each("all", over=previous, do=do)
        ),
    )


class Links(BaseModel):
    """Something special happens at one place of a chain."""

    folder: str = ""
    special: int = -1
    size: int = 10


LINKS = 40
FACTS = {"folder": param("folder"), "special": param("special")}
loom.workflow(
    "chain",
    params=Links,
    plan=sequence(
        step("c0", link, number=0, place=0, **FACTS),
        *(
            step(f"c{place}", link, number=previous, place=place, **FACTS, retry=AGAIN)
            for place in range(1, LINKS)
        ),
    ),
)
loom.workflow(
    "wide",
    params=Links,
    plan=sequence(
        step("a", link, number=0, place=0),
        step("b", widen, number=previous, size=param("size")),
        step("c", measure, text=previous),
        step("d", link, number=previous, place=0),
    ),
)
