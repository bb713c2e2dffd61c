"""A loom whose tasks leave a line each time that they begin, with which accounts are compared."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel

from tests.long_loom import leave, nap
from yarnloom import Loom, StepContext, each, item, param, previous, sequence, step

loom = Loom("begun")


class Where(BaseModel):
    """Where lines are left, and of how many items."""

    folder: str
    name: str = ""
    count: int = 0


@loom.task
def numbers(count: int) -> list[int]:
    """The first so many."""
    return list(range(count))


@loom.task
def charge(folder: str, name: str, which: str) -> str:
    """What must be done once."""
    leave(folder, "begun", f"{name}/{which}")
    nap(0.002)
    return which


@loom.task(name="alone-task", overlap="never")
def alone(folder: str, name: str, which: str) -> str:
    """The same, and never twice at a time."""
    return charge(folder, name, which)


@loom.task
def with_ledger(ctx: StepContext, folder: str, name: str, which: str) -> str:
    """The same with an entry in the ledger."""
    return str(ctx.once(which, lambda: charge(folder, name, which)))


@loom.task
def mark(folder: str, number: int) -> int:
    """One of many short ones."""
    leave(folder, "begun", number)
    nap(0.005)
    return number


LETTERS = "abcdefgh"


def chain(task: Any, **rules: Any) -> Any:
    """Steps one behind the other."""
    return sequence(
        *(
            step(letter, task, folder=param("folder"), name=param("name"), which=letter, **rules)
            for letter in LETTERS
        )
    )


for name, task, rules in (
    ("charges", charge, {"losses": 0}),
    ("marks", charge, {}),
    ("alone", alone, {"losses": 0}),
    ("ledger", with_ledger, {}),
):
    loom.workflow(name, params=Where, plan=chain(task, **rules))

loom.workflow(
    "many",
    params=Where,
    plan=sequence(
        step("numbers", numbers, count=param("count")),
        each("all", over=previous, do=step("mark", mark, folder=param("folder"), number=item())),
    ),
)
