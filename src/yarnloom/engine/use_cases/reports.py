"""Reports of workers about their attempts, and their effects.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing. Items and
legs that have no rows end well, or get their rows.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import Report, Reported, ReportItem
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.rules.states import Outcome
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.transaction_notes import Composing
from yarnloom.engine.use_cases.attempt_ends import checked_output
from yarnloom.engine.use_cases.attempt_reports import NEVER_BEGUN, AttemptReports
from yarnloom.engine.without_rows.giving_items import EndOf, Ends, GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.media_types import named_in
from yarnloom.store import Unit


@dataclass(slots=True)
class Reports:
    """Takes reports of workers."""

    unit: Unit
    composing: Composing
    grants: Grants
    relays: Relays
    attempt_reports: AttemptReports
    compositions: Compositions
    granted_items: GrantedItems
    relay_steps: RelaySteps

    def report(self, command: Report) -> Reported:
        """Take in everything that a worker reports; each item stands alone."""
        answer = Reported()
        for attempt_id in command.freed:
            self.attempt_reports.free(command.worker, attempt_id)
        for attempt_id, saved in command.saved.items():
            self.granted_items.unfold_attempt(attempt_id)
            self.attempt_reports.save_of(command.worker, attempt_id, saved)
        known = self.grants.attempts
        # By attempt: an end that is reported twice counts once.
        ended: dict[int, EndOf] = {}
        legs = self._reports_of_legs(command) if self.relays.attempts else {}
        for item in command.items:
            if item.attempt in legs:
                continue
            given = known.get(item.attempt)
            if given is not None and given.worker == command.worker:
                if item.attempt in ended:
                    continue
                if (output := usual_output(item)) is not None:
                    ended[item.attempt] = (given, item, output)
                    continue
                self.granted_items.unfold(given)
            if why := self.attempt_reports.take_item(command.worker, item):
                answer.refused.append({"attempt": item.attempt, "why": why})
        self._end_items(list(ended.values()))
        for attempt in sorted(legs):
            for item in legs[attempt]:
                if why := self._take_leg(command.worker, item):
                    answer.refused.append({"attempt": attempt, "why": why})
        return answer

    def _reports_of_legs(self, command: Report) -> dict[int, list[ReportItem]]:
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

    def _take_leg(self, worker: str, item: ReportItem) -> str | None:
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

    def _end_items(self, ended: Ends) -> None:
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
