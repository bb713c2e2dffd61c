"""Tasks that leave a line for all that they do, in a file that the service knows nothing of."""

from __future__ import annotations

import json
import multiprocessing
import os
import random
import time
from typing import Any

from pydantic import BaseModel

from yarnloom import Loom, Retry, StepContext, each, item, output, param, previous, sequence, step
from yarnloom.sdk.interrupts import attempt_now

LOG = "CHAOS_LOG"
LIMIT = 2

# A process that is stopped in the middle of a task is only told from a slow one by its time.
AGAIN: dict[str, Any] = {
    "losses": 1_000,
    "timeout": "10s",
    "retry": Retry(1_000, wait="10ms", jitter=0),
}

loom = Loom("chaos")
loom.pool("narrow", limit=LIMIT)


LINKS = 30
SHORTS = 10
"""For each of the others."""


class Params(BaseModel):
    """How many items there are, and how many short ones."""

    count: int
    shorts: int


def note(ctx: StepContext, what: str) -> None:
    """Leave a line: a single write, so that lines of several processes never mix."""
    leave(
        {
            "what": what,
            "address": ctx.address,
            "attempt": ctx.attempt,
            "at": time.time(),
            "pid": os.getpid(),
        }
    )


def leave(line: dict[str, Any]) -> None:
    """Append a line to the file."""
    descriptor = os.open(os.environ[LOG], os.O_WRONLY | os.O_APPEND | os.O_CREAT)
    os.write(descriptor, json.dumps(line).encode() + b"\n")
    os.close(descriptor)


def work(ctx: StepContext, seconds: float) -> None:
    """Take some time, with a line at both ends."""
    note(ctx, "begin")
    time.sleep(random.uniform(0, seconds))
    note(ctx, "end")


@loom.task(**AGAIN)
def first(count: int, ctx: StepContext) -> list[int]:
    """The numbers below."""
    work(ctx, 0.1)
    return list(range(count))


@loom.task(**AGAIN)
def double(number: int, ctx: StepContext) -> int:
    """Twice the number; a few at once."""
    work(ctx, 0.2)
    return 2 * number


@loom.task(overlap="never", **AGAIN)
def alone(ctx: StepContext) -> str:
    """Lines all the time: two attempts of this never leave any at the same time.

    One in five takes longer than the lease of its worker.
    """
    for _ in range(random.choice((25, 25, 25, 25, 250))):
        note(ctx, "alive")
        time.sleep(0.02)
    return "alone"


@loom.task(**AGAIN)
def short(number: int, ctx: StepContext) -> int:
    """One more; many of these go to a process together."""
    note(ctx, "begin")
    return number + 1


@loom.task(**AGAIN)
def link(number: int, place: int) -> int:
    """One more, without a context: many of these are run one behind the other."""
    leave({"what": "begin", "address": f"c{place}", "attempt": attempt_now(), "at": time.time()})
    return number + 1


@loom.task(**AGAIN)
def last(numbers: list[int], shorts: list[int], said: str, ctx: StepContext) -> dict[str, int]:
    """The sum of all."""
    work(ctx, 0.1)
    return {said: sum(numbers) + sum(shorts)}


loom.workflow(
    "sums",
    params=Params,
    plan=sequence(
        step("first", first, count=param("count")),
        each(
            "doubles",
            over=output("first"),
            do=step("double", double, number=item(), pool="narrow"),
            at_once=3,
        ),
        step("many", first, count=param("shorts")),
        each("shorts", over=output("many"), do=step("short", short, number=item())),
        step("c0", link, number=0, place=0),
        *(step(f"c{at}", link, number=previous, place=at) for at in range(1, LINKS)),
        step("alone", alone),
        step(
            "last", last, numbers=output("doubles"), shorts=output("shorts"), said=output("alone")
        ),
    ),
)


class Count(BaseModel):
    """How many items there are."""

    count: int


@loom.task(losses=0, timeout="10s")
def charge(number: int, ctx: StepContext) -> int:
    """What must be done once, however often its worker is lost."""
    work(ctx, 0.05)
    return number


@loom.task(name="odd-task", **AGAIN)
def odd(number: int, ctx: StepContext) -> int:
    """Say too much, leave forks, or end with an error of 9 MB half of the time."""
    note(ctx, "begin")
    match number % 5:
        case 0:
            ctx.progress(done=1, total=2, note="x" * 9_000_000)
        case 1:
            with multiprocessing.get_context("fork").Pool(1) as pool:
                return pool.map(abs, [number])[0]
        case 2:
            if os.fork() == 0:
                time.sleep(random.uniform(0, 1))
                return number
        case 3 if random.random() < 0.5:
            ctx.progress(done=10**400)  # which is an error of the task
    if number % 5 == 4 and random.random() < 0.5:
        raise RuntimeError("x" * 9_000_000)
    return number


def numbered(task: Any, name: str) -> Any:
    """A task for each number below `count`."""
    return sequence(
        step("numbers", first, count=param("count")),
        each(name, over=output("numbers"), do=step("it", task, number=item())),
    )


loom.workflow("charges", params=Count, plan=numbered(charge, "charges"))
loom.workflow("odd", params=Count, plan=numbered(odd, "odds"))


@loom.task(**AGAIN)
def crowded(number: int, ctx: StepContext) -> int:
    """A short one of many, of which some fail first: those have rows, most others none."""
    note(ctx, "begin")
    if number % 13 == 0 and ctx.tries == 1:
        raise RuntimeError("not at the first try")
    return number


loom.workflow("crowd", params=Count, plan=numbered(crowded, "all"))


def expected(count: int) -> dict[str, int]:
    """What a run of the workflow ends with."""
    shorts = SHORTS * count
    return {"alone": count * (count - 1) + shorts * (shorts + 1) // 2}


def params(count: int) -> dict[str, int]:
    """What a run of the workflow is started with."""
    return {"count": count, "shorts": SHORTS * count}
