"""Decisions of people about one step."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command
from yarnloom.values import JsonObject, JsonValue


@dataclass(frozen=True, slots=True)
class StepAction(Command):
    """What someone decides about one step; the answer is its run.

    Attributes:
        address: within the run, without attempt, as the plan and the items' keys make it.
        node: the step's index in the plan.
        holder: the row of the part that it stands in; None if that has not begun.
        item: each and index of the item around it, if that is in a batch: it gets rows.
        action: one of `ACTIONS`.
        inputs: of an edit: constants, by the task's input.
        pool: of an edit; empty for none.
        priority: of an edit.
        output: of a supply.
        now: of a cancel: without a grace. A second cancel means that, too.
    """

    changes_run = True
    reads_ended_steps = True

    run: int
    address: str
    node: int
    holder: int | None
    action: str
    who: str
    reason: str = ""
    inputs: JsonObject | None = None
    pool: str | None = None
    priority: int | None = None
    output: JsonValue = None
    now: bool = False
    item: tuple[int, int] | None = None


ACTIONS = ("pause", "resume", "cancel", "retry", "edit", "skip", "supply")
"""What can be done with a step by hand."""
