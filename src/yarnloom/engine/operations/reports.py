"""What workers tell of their attempts, and what follows from it.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import Report, Reported
from yarnloom.engine.compact import granted_items
from yarnloom.engine.compact.granted_items import GrantedItems
from yarnloom.engine.operations.attempt_reports import AttemptReports
from yarnloom.engine.operations.compact_reports import CompactReports, usual_output
from yarnloom.engine.state.grants import Grants
from yarnloom.engine.state.open_relays import Relays


@dataclass(slots=True)
class Reports:
    """Takes reports of workers."""

    grants: Grants
    relays: Relays
    attempt_reports: AttemptReports
    compact_reports: CompactReports
    granted_items: GrantedItems

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
        ended: dict[int, granted_items.EndOf] = {}
        legs = self.compact_reports.reports_of_legs(command) if self.relays.attempts else {}
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
        self.compact_reports.end_items(list(ended.values()))
        for attempt in sorted(legs):
            for item in legs[attempt]:
                if why := self.compact_reports.take_leg(command.worker, item):
                    answer.refused.append({"attempt": attempt, "why": why})
        return answer
