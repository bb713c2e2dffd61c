"""A loom whose steps do nothing."""

import asyncio
import os
import subprocess
import time

from pydantic import BaseModel

from yarnloom import (
    Loom,
    Retry,
    Rows,
    StepContext,
    each,
    item,
    parallel,
    param,
    previous,
    sequence,
    step,
)
from yarnloom.plan import Part

loom = Loom("bench")
CHAIN = 50


@loom.task
def noop(number: int) -> int:
    """Nothing."""
    return number


class Number(BaseModel):
    """A number."""

    number: int


loom.workflow("one", params=Number, plan=step("only", noop, number=param("number")))
loom.workflow(
    "chain",
    params=Number,
    plan=sequence(
        step("s0", noop, number=param("number")),
        *(step(f"s{i}", noop, number=previous) for i in range(1, CHAIN)),
    ),
)


# A step that hears, and a run of many steps


@loom.task
def listen(ctx: StepContext, number: int) -> float:
    """When it heard that it is to stop."""
    while ctx.stop_asked is None:
        time.sleep(0.0005)
    return time.time()


@loom.task
def count_to(number: int) -> list[int]:
    """That many numbers."""
    return list(range(number))


loom.workflow("listens", params=Number, plan=step("only", listen, number=param("number")))
loom.workflow(
    "many",
    params=Number,
    plan=sequence(
        step("list", count_to, number=param("number")),
        each("all", over=previous, do=step("noop", noop, number=item())),
    ),
)


@loom.task
def count_far(ctx: StepContext, number: int) -> Rows[int]:
    """So many numbers, in a file."""
    return ctx.save_rows(range(number))


loom.workflow(
    "very-many",
    params=Number,
    plan=sequence(
        step("list", count_far, number=param("number")),
        each("all", over=previous, do=step("noop", noop, number=item())),
    ),
)


# The same with what real tasks have: rules, a context, outputs, a pool, failures


@loom.task(pool="fifty")
def in_pool(number: int) -> int:
    """Nothing, in a pool."""
    return number


@loom.task
def reads(ctx: StepContext, number: int) -> int:
    """A context that only reads, and a print."""
    print(f"{ctx.address} has {number}")
    return number


@loom.task
def writes(number: int) -> str:
    """A kilobyte."""
    return f"{number:<1024}"


@loom.task
def fails(ctx: StepContext, number: int) -> int:
    """One of twenty fails when it is tried first."""
    if number % 20 == 0 and ctx.tries == 1:
        raise ValueError("the first try")
    return number


loom.pool("fifty", limit=50)
AGAIN = Retry(3, wait="1ms")
for name, part in (
    ("many-ready", step("noop", reads, number=item(), retry=AGAIN, timeout="1m")),
    ("many-kilobytes", step("noop", writes, number=item())),
    ("many-pool", step("noop", in_pool, number=item())),
    ("many-retries", step("noop", fails, number=item(), retry=AGAIN)),
):
    loom.workflow(
        name,
        params=Number,
        plan=sequence(
            step("list", count_to, number=param("number")), each("all", over=previous, do=part)
        ),
    )


# Steps that print and publish


@loom.task
def speak(ctx: StepContext, number: int) -> int:
    """A line, and a value that is published."""
    print(f"number {number} of many")
    ctx.publish({"number": number})
    return number


loom.workflow(
    "speaks",
    params=Number,
    plan=sequence(
        step("list", count_to, number=param("number")),
        each("all", over=previous, do=step("speak", speak, number=item())),
    ),
)


# Steps that cannot hear of a stop


@loom.task(name="sleeps-task")
def sleeps(number: int) -> None:
    """Sleep for ten minutes."""
    time.sleep(600)


@loom.task(name="computes-task")
def computes(number: int) -> float:
    """Compute in C for ten minutes, a piece at a time."""
    import numpy as np

    matrix = np.random.default_rng(number).random((300, 300))
    until, total = time.monotonic() + 600, 0.0
    while time.monotonic() < until:
        total += float((matrix @ matrix).sum())
    return total


@loom.task
def runs_a_program(number: int) -> int:
    """Wait for a program for ten minutes."""
    return subprocess.run(["sleep", "600"], check=False).returncode


@loom.task(name="awaits-task")
async def awaits(number: int) -> None:
    """Wait on the event loop for ten minutes."""
    await asyncio.sleep(600)


for name, stuck in (
    ("sleeps", sleeps),
    ("computes", computes),
    ("runs-a-program", runs_a_program),
    ("awaits", awaits),
):
    loom.workflow(name, params=Number, plan=step("only", stuck, number=param("number")))


# One bundle of very many items


@loom.task
def number_rows(ctx: StepContext, number: int) -> Rows[int]:
    """That many numbers, as a list that may be long."""
    return ctx.save_rows(range(number))


@loom.task
def say(number: int) -> int:
    """A line in the log."""
    print(number)
    return number


loom.workflow(
    "bundle",
    params=Number,
    plan=sequence(
        step("list", number_rows, number=param("number")),
        each("all", over=previous, do=step("say", say, number=item())),
    ),
)


# A graph of 2,000 steps that moves for a while

STRANDS, LENGTH = 40, 50


@loom.task
def nap(number: int) -> int:
    """A little sleep."""
    time.sleep(0.04)
    return number


def strand(name: str) -> Part:
    """A sequence of little sleeps."""
    steps = [step(f"s{place}", nap, number=param("number")) for place in range(LENGTH)]
    return sequence(name, *steps)


strands = [strand(f"strand-{number}") for number in range(STRANDS)]
loom.workflow("broad", params=Number, plan=parallel("all", *strands))


# Rows of a file


class Row(BaseModel):
    """One row."""

    number: int
    name: str


class Table(BaseModel):
    """Many rows."""

    rows: Rows[Row]


loom.workflow(
    "rows",
    params=Table,
    plan=each("rows", over=param("rows"), do=step("noop", noop, number=item("number"))),
)


# Steps that stay, for limits that change

loom.pool("gate", limit=1)
WAITING = 40


@loom.task(pool="gate")
async def stay(path: str) -> str:
    """A step that goes on until a file is there."""
    while not os.path.exists(path):
        await asyncio.sleep(0.05)
    return path


class Place(BaseModel):
    """The file that ends all."""

    path: str


loom.workflow(
    "stays",
    params=Place,
    plan=each("all", over=list(range(WAITING)), do=step("stay", stay, path=param("path"))),
)
