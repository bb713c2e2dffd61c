"""Side effects of attempts: entries of the ledger."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonValue


@dataclass(frozen=True, slots=True)
class BeginEffect(Command):
    """An attempt is about to do something outside that must not happen twice.

    The answer is an object with `now`: `go` (do it), `done` (with its `value`), `unsure`, or
    `busy` (another attempt is at it); and the `token` for the outside.

    Attributes:
        what: the task's name for it.
        call: counts the attempt's calls, so that a request sent twice counts once.
        scope: `step` or `run`.
        again: whether it is to be done again where it is unsure.
        is_used: whether the task looks at what it gives.
        position: at which item of which tracked loop; empty outside of loops.
    """

    worker: str
    attempt: int
    what: str
    call: int
    scope: str = "step"
    again: bool = False
    is_used: bool = True
    position: str = ""


@dataclass(frozen=True, slots=True)
class EndEffect(Command):
    """What an attempt did outside is done, with a value, or did not happen."""

    worker: str
    attempt: int
    what: str
    done: bool
    value: JsonValue = None
    scope: str = "step"


@dataclass(frozen=True, slots=True)
class SettleEffect(Command):
    """Someone says whether a side effect that is unsure was done.

    Attributes:
        value: what it gave, where it was done.
        valued: whether that was said, also where it is null.
    """

    changes_run = True

    run: int
    scope: str
    what: str
    done: bool
    who: str
    reason: str = ""
    value: JsonValue = None
    valued: bool = False
