"""Reports of items and legs that have no rows: they end well, or get their rows."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import Report, ReportItem
from yarnloom.engine.compact.granted_items import Ends, GrantedItems
from yarnloom.engine.compact.relay_steps import RelaySteps
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.operations.attempt_ends import checked_output
from yarnloom.engine.operations.attempt_reports import NEVER_BEGUN, AttemptReports
from yarnloom.engine.rules.states import Outcome
from yarnloom.engine.state.composing import Composing
from yarnloom.engine.state.grants import Grants
from yarnloom.engine.state.open_relays import Relays
from yarnloom.media_types import named_in
from yarnloom.store import Unit


@dataclass(slots=True)
class CompactReports:
    """What workers report of items and steps without rows."""

    unit: Unit
    composing: Composing
    grants: Grants
    relays: Relays
    attempt_reports: AttemptReports
    compositions: Compositions
    granted_items: GrantedItems
    relay_steps: RelaySteps

    def reports_of_legs(self, command: Report) -> dict[int, list[ReportItem]]:
        """Return the reported items of legs, by attempt, and note the outputs of done legs.

        The step before a leg takes its end in; a report may name that step later than the leg.
        """
        known = self.relays.attempts
        found: dict[int, list[ReportItem]] = {}
        for item in command.items:
            leg = known.get(item.attempt)
            if leg is not None and leg.worker == command.worker:
                found.setdefault(item.attempt, []).append(item)
                if (output := usual_output(item)) is not None:
                    self.composing.relayed.setdefault(item.attempt, (item, output))
        return found

    def take_leg(self, worker: str, item: ReportItem) -> str | None:
        """Take in a leg's item, after all others of the report; return why it is refused."""
        done = self.composing.relayed.pop(item.attempt, None)
        leg = self.relays.attempts.get(item.attempt)
        if leg is None:
            kept = done is None and item.outcome == Outcome.DONE
            return None if kept else self.attempt_reports.take_item(worker, item)
        if item.outcome is None:
            return None  # the end of the one before it is still on its way
        self.relay_steps.given_back(leg)
        if item.outcome in NEVER_BEGUN:
            return None
        return "the step before it has not ended well for the service"

    def end_items(self, ended: Ends) -> None:
        """Items without rows have ended well, each by each; some may have got rows meanwhile."""
        known = self.grants.attempts
        by_each: dict[int, Ends] = {}
        for one in ended:
            given, item, _ = one
            if given.attempt in known:
                by_each.setdefault(given.straight.each, []).append(one)
            else:
                self.attempt_reports.take_item(given.worker, item)
        for ends in by_each.values():
            left = [end for end in ends if end[0].attempt in known]
            for given, item, _ in [end for end in ends if end[0].attempt not in known]:
                self.attempt_reports.take_item(given.worker, item)
            if left:
                straight = left[0][0].straight
                self.compositions.of(self.unit.run(straight.run)).items_ended(straight, left)

    def look_at_given(self) -> None:
        """Give rows to items that were given or offered a while ago and have not ended."""
        for straight in self.granted_items.unseen():
            self.granted_items.withdraw(straight)
            composition = self.compositions.of(self.unit.run(straight.run))
            composition.fill_plainly(self.unit.parts.need(straight.each))


def usual_output(item: ReportItem) -> str | None:
    """The output of an item that ended well, with nothing special about it; else None."""
    if item.outcome != Outcome.DONE or item.saved or item.abandoned:
        return None
    output, _, _ = checked_output(Outcome.DONE, item)
    return None if named_in(output) else output
