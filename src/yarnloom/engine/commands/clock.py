"""The passing of time."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command


@dataclass(frozen=True, slots=True)
class Tick(Command):
    """Something in the due-queue has fallen due."""
