"""Links to runs: made, and revoked. Whoever has a link may watch its run, and nothing else."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import MakeLink, RevokeLink, handles
from yarnloom.engine.queries.log_records import link_record
from yarnloom.engine.records.runs import LinkRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.errors import Conflict, NotFound
from yarnloom.store import Unit
from yarnloom.store.runs import link_records
from yarnloom.store.runs import run_records as store

REMEMBERED = 30 * 86_400 * 1_000_000
"""Microseconds for which an expired link is still listed."""


@dataclass(slots=True)
class Links:
    """Makes and ends links to runs."""

    unit: Unit
    time: RunTime
    changes: Changes

    @handles(MakeLink)
    def make_link(self, command: MakeLink) -> LinkRecord:
        """Make a link to a run; return it.

        Raises:
            NotFound: there is no such run.
        """
        run = self.unit.run(command.run)
        link_records.forget(self.unit, self.time.now - REMEMBERED)
        expires_at = self.time.now + round(command.seconds * 1_000_000)
        number = link_records.add(
            self.unit, run.number, command.details, self.time.now, command.who, expires_at
        )
        store.log_command(
            self.unit,
            self.time.now,
            command.who,
            "link",
            run.number,
            "",
            link=number,
            details=command.details,
        )
        row = link_records.of_run(self.unit, run.number, number)
        assert row is not None
        return link_record(row)

    @handles(RevokeLink)
    def revoke_link(self, command: RevokeLink) -> LinkRecord:
        """End a link before its time; return it. Whoever watches with it is cut off.

        Raises:
            NotFound: the run has no such link.
            Conflict: it was revoked before.
        """
        run = self.unit.run(command.run)
        row = link_records.of_run(self.unit, run.number, command.link)
        if row is None:
            raise NotFound(
                f"run {run.number} has no link {command.link}",
                hint=f"`yarnloom links {run.number}` lists them",
            )
        if row["revoked_at"] is not None:
            raise Conflict(f"link {command.link} was revoked before, by {row['revoked_by']}")
        link_records.revoke(self.unit, command.link, self.time.now, command.who)
        store.log_command(
            self.unit,
            self.time.now,
            command.who,
            "revoke_link",
            run.number,
            command.reason,
            link=command.link,
        )
        self.changes.runs.add(run.number)  # so that watchers of the run hear of it
        return link_record({**row, "revoked_at": self.time.now, "revoked_by": command.who})
