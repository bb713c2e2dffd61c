"""Telling runs to stop: by hand, for another run, or because their deadline has passed."""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.commands import CancelRun, handles
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunEvent, StopReason
from yarnloom.engine.state.due_times import RUN_DEADLINE_DUE, START_BY_DUE, DueTimes
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import due_records, schedule_records
from yarnloom.store.runs import run_records as store
from yarnloom.units import duration_text, iso_time

EXPIRED_AT_ONCE = 100
DEADLINE = "DeadlinePassed"


@dataclass(slots=True)
class Cancelling:
    """Cancels runs, and ends those that are late."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    moves: Moves
    compositions: Compositions
    pausing: Pausing

    @handles(CancelRun)
    def cancel_run(self, command: CancelRun) -> RunRecord:
        """Cancel what has not begun, and tell what runs to stop.

        A run of which nothing is in a worker's hand and that has no `on_end` has ended when this
        returns. Follow-ups still run; a second cancel stops them too, and ends the grace of what
        runs.

        Raises:
            NotFound: there is no such run.
            IllegalTransition: the run has ended.
        """
        run = self.unit.run(command.run)
        reason = f": {command.reason}" if command.reason else ""
        self.moves.run(run, RunEvent.CANCEL)
        store.log_command(
            self.unit, self.time.now, command.who, "cancel", run.number, command.reason
        )
        self._stop(run, f"cancelled by {command.who}{reason}", StopReason.CANCEL, now=command.now)
        return record_of(self.unit, self.time, self.plans, run)

    def stop(self, run: RunRow, why: str) -> None:
        """Cancel a run for another's sake."""
        self.moves.run(run, RunEvent.CANCEL)
        store.log_command(self.unit, self.time.now, "service", "cancel", run.number, why)
        self._stop(run, why, StopReason.CANCEL)

    def stop_late_runs(self) -> None:
        """Stop runs whose deadline has passed: like a cancel, but they end failed."""
        for number in due_records.runs_past_deadline(self.unit, self.time.now):
            run = self.unit.run(number)
            root = self.unit.parts.one("run = ? AND parent IS NULL", number)
            if root is not None and root.outcome is not None:
                run.deadline_at = None  # its plan has ended in time; follow-ups have no deadline
                self.unit.runs.touch(run)
                continue
            limit = duration_text(self.plans.of(run).deadline or 0.0)
            self.moves.run(run, RunEvent.CANCEL)
            why = f"the run's deadline of {limit} has passed"
            store.log_command(self.unit, self.time.now, "service", "deadline", run.number, why)
            self._stop(run, why, StopReason.DEADLINE)
        if (following := due_records.next_run_deadline(self.unit)) is not None:
            self.due_times.set(RUN_DEADLINE_DUE, following)

    def stop_late_starts(self) -> None:
        """Cancel runs that have not begun by the time by which they were to."""
        for number in schedule_records.runs_to_expire(self.unit, self.time.wall, EXPIRED_AT_ONCE):
            run = self.unit.run(number)
            self.moves.run(run, RunEvent.CANCEL)
            why = f"expired: it had not begun by {iso_time(run.start_by)}"
            store.log_command(self.unit, self.time.now, "service", "expire", run.number, why)
            self._stop(run, why, StopReason.CANCEL, "Expired")
        if (following := schedule_records.next_to_expire(self.unit)) is not None:
            self.due_times.set_by_day(START_BY_DUE, following)

    def _stop(
        self,
        run: RunRow,
        message: str,
        why: StopReason,
        kind: str = "Cancelled",
        *,
        now: bool = False,
    ) -> None:
        self.pausing.release(run)
        run.cancels += 1
        if run.stop is None:
            run.stop = why
            error: StepError = {"type": kind, "message": message}
            if why is StopReason.DEADLINE:
                step = str(run.number)
                error = {
                    "step": step,
                    "task": None,
                    "attempts": 0,
                    "type": DEADLINE,
                    "message": message,
                }
            run.error = json.dumps(error, ensure_ascii=False)
        self.unit.runs.touch(run)
        # A second cancel ends the grace, and a deadline cuts it.
        without_grace = now or run.cancels > 1 or why is StopReason.DEADLINE
        self.compositions.of(run, without_grace=without_grace).cancel(why)
