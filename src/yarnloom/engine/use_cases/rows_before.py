"""Rows for items and steps that a command is about, before it is done."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine import commands
from yarnloom.engine.commands.command import Command
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.item_batches import Segments
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.store import Unit


def run_of(command: Command) -> int | None:
    """Return the run that a command names."""
    return getattr(command, "run", None)


@dataclass(slots=True)
class RowsBefore:
    """Gives rows to the items and steps that a command is about."""

    unit: Unit
    grants: Grants
    compositions: Compositions
    granted_items: GrantedItems
    relay_steps: RelaySteps
    segments: Segments

    def waits_for(self, command: Command) -> int | None:
        """Return the command's run if a worker first has to end what it was given of it."""
        run = run_of(command)
        if run is None or not command.reads_ended_steps:
            return None
        return run if self.relay_steps.is_in_the_way(run) else None

    def add(self, command: Command) -> None:
        """Give rows to items and steps that have none, as far as the command needs them."""
        # Mending looks at the step of every item, and items that went as usual have none.
        if isinstance(command, commands.MendRun):
            while self.segments.unfold(commands.Unfold(command.run)):
                pass
        if isinstance(command, commands.StepAction) and command.item is not None:
            self.segments.unfold_item(command.run, *command.item)
        run = run_of(command)
        if run is not None and command.changes_run:
            self.relay_steps.call_back(run)
        if not self.grants.eaches:
            return
        if isinstance(command, commands.ChangePool | commands.RemovePool):
            for straight in self.granted_items.withdraw_of_pool(command.name):
                composition = self.compositions.of(self.unit.run(straight.run))
                composition.fill_plainly(self.unit.parts.need(straight.each))
            return
        if (attempt := getattr(command, "attempt", None)) is not None:
            self.granted_items.unfold_attempt(attempt)
        elif (
            run is not None
            and command.changes_run
            and any(each.run == run for each in self.grants.eaches.values())
        ):
            self.compositions.of(self.unit.run(run)).make_plain()
