"""Errors of tasks: the types of failures that a task gets, and names of errors in retry rules."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from pydantic import BaseModel

from yarnloom.plan.step_rules import Retry, kind_name

OWN_KINDS = frozenset(
    {"TimedOut", "Quiet", "MemoryExceeded", "ProcessBroken", "CallAgainSwallowed"}
)
"""What an attempt can fail with that its task does not raise."""


def unknown_kinds(rule: Retry | None) -> Iterator[tuple[str, str]]:
    """Each name in a rule that no loaded error has, with the one that it looks like, or ''."""
    names = () if rule is None else (*rule.on, *rule.never_on)
    if not names:
        return
    known = set(OWN_KINDS)
    for kind in _loaded(BaseException, set()):
        known |= {kind.__name__, kind_name(kind)}
    for name in names:
        if name not in known:
            close = difflib.get_close_matches(name, sorted(known), n=1, cutoff=0.85)
            yield name, close[0] if close else ""


def _loaded(kind: type[BaseException], found: set[type[BaseException]]) -> set[type[BaseException]]:
    """A class of errors and all below it."""
    for subclass in kind.__subclasses__():
        if subclass not in found:
            found.add(subclass)
            _loaded(subclass, found)
    return found | {kind}


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
