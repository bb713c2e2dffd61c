"""Links to runs."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command


@dataclass(frozen=True, slots=True)
class MakeLink(Command):
    """Let whoever gets the link watch a run for some seconds; the answer is the link.

    Attributes:
        details: also its output and errors as they are, and what its steps are called.
    """

    run: int
    seconds: float
    details: bool
    who: str


@dataclass(frozen=True, slots=True)
class RevokeLink(Command):
    """End a link before its time; the answer is the link."""

    run: int
    link: int
    who: str
    reason: str = ""
