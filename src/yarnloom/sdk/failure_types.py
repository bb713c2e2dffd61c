"""What tasks are told of failures: the types of `failure()` and `failures(...)`."""

from __future__ import annotations

from pydantic import BaseModel


class Fault(BaseModel):
    """What went wrong.

    Attributes:
        type: the exception's class, or a word of Yarn Loom's.
        message: in words.
    """

    type: str
    message: str


class FailedStep(BaseModel):
    """A step that failed, or a part that failed before anything in it could begin.

    Attributes:
        address: names it, e.g. `1042/harbours[brackwater]/fetch`.
        task: its task's full name; None for a part.
        attempts: how many attempts it had.
        error: the last one's.
    """

    address: str
    task: str | None
    attempts: int
    error: Fault


class Failure(BaseModel):
    """What a follow-up is told by `failure()`.

    Attributes:
        first: what failed first.
        count: how many steps failed.
        failures: up to 20 of them, in plan order.
    """

    first: FailedStep
    count: int
    failures: list[FailedStep]


class FailedItem(BaseModel):
    """One of the items that `failures(...)` lists.

    Attributes:
        name: the item's name; without one its index.
        address: names it, e.g. `1042/harbours[brackwater]`.
        error: of what failed first in it.
    """

    name: str
    address: str
    error: Fault
