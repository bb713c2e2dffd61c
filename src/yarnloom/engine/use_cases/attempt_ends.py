"""How an attempt ends, and what that means for its step: done, tried again, failed.

Decision: `docs/decisions/06-deadlines-and-retries.md`.
"""

from __future__ import annotations

import contextlib
import json
from dataclasses import dataclass

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.composition.composition import Composition, Compositions
from yarnloom.engine.dispatch.kept_files import unknown_files, use_named
from yarnloom.engine.dispatch.worker_orders import Release
from yarnloom.engine.records.errors import StepError
from yarnloom.engine.rules.retry import Tried, kinds_of, next_wait
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    CAME_TO_AN_END,
    SLEPT,
    TROUBLE,
    Outcome,
    StepEvent,
    StopReason,
)
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.due_times import BACK_OFF_DUE, DueTimes
from yarnloom.engine.state.each_counts import EndedTry
from yarnloom.engine.state.plans import Plans, task_of
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.transaction_notes import Afterwards, Changes, Composing
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.errors import ValueRefused
from yarnloom.plan import Retry, StepRules
from yarnloom.store import AttemptRow, StepRow, Unit
from yarnloom.store.runs import paused_runs
from yarnloom.units import duration_text
from yarnloom.values import VALUE_LIMIT, JsonObject, encode

SHOWN_WHEN_DONE = ("progress", "counts")


ENDS = (StopReason.CANCEL, StopReason.DEADLINE)


CALLED = (Outcome.DONE, Outcome.FAILED, Outcome.STOPPED, Outcome.CALLED_AGAIN)


_ENDING = (StepEvent.FINISH, StepEvent.FAIL, StepEvent.CANCEL)


SAVED_LIMIT = 2 * VALUE_LIMIT + 65_536  # what is kept, what is carried, and the places


@dataclass(slots=True)
class Ending:
    """How an attempt ended, as the service judges it.

    Attributes:
        outcome: its outcome.
        output: as JSON text, if it is done.
        error: what is told of it; empty for none.
        kinds: the names of its error that retry rules may name.
    """

    outcome: Outcome
    output: str | None
    error: StepError
    kinds: tuple[str, ...]


@dataclass(slots=True)
class AttemptEnds:
    """How attempts end."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    counts: Statistics
    composing: Composing
    afterwards: Afterwards
    progress: Progress
    moves: Moves
    workers: Workers
    attempts: OpenAttempts
    compositions: Compositions
    pausing: Pausing
    release: Release

    def end_attempt(self, attempt: AttemptRow, outcome: Outcome, item: ReportItem) -> None:
        """End an open attempt: its step is done, tried again, rests, fails or stops."""
        step = self.unit.steps.need(attempt.step)
        composition = self.compositions.of(self.unit.run(step.run))
        rules = composition.plan.nodes[step.node].rules
        ending = self._ending(composition, step, outcome, item)
        self._close(attempt, ending, item)
        self._count(step, attempt, ending, item)
        late = self._is_late(step, attempt, rules)
        losses = self.settings.losses if rules.losses is None else rules.losses
        event = _event(step, ending.outcome, step.stop, late, losses)
        if event is StepEvent.BACK_OFF:
            event = self._back_off(composition, step, rules.retry, ending, item.after)
        match event:
            case StepEvent.FINISH:
                step.output, step.error = ending.output, None
                step.saved = _kept_when_done(step.saved)
            case StepEvent.REST:
                self._rest(step, item.after or 0.0)
            case StepEvent.FAIL | StepEvent.BACK_OFF:
                step.error = json.dumps(_final_error(step, rules, ending, late, losses))
        self.release.release(step, attempt)
        self.moves.step(step, event, closing=True)
        self.afterwards.settling.add(step.run)
        self._go_on(composition, step, attempt, event)

    def _ending(
        self, composition: Composition, step: StepRow, outcome: Outcome, item: ReportItem
    ) -> Ending:
        """Judge what a worker reports: with which outcome the attempt ends."""
        output, outcome, error = checked_output(outcome, item)
        if output is not None and (
            missing := _missing_files(self.unit, composition, step, item, output)
        ):
            output, outcome, error = None, Outcome.FAILED, missing
        if outcome in (Outcome.CANCELLED, Outcome.STOPPED):
            rules = composition.plan.nodes[step.node].rules
            if because := _why_failed(step.stop, rules):
                outcome, error = Outcome.FAILED, because
        told = StepError(**(error or {}))
        kinds = kinds_of(told) if told else ()
        told.pop("kinds", None)
        return Ending(outcome, output, told, kinds)

    def _count(self, step: StepRow, attempt: AttemptRow, ending: Ending, item: ReportItem) -> None:
        """Keep what the attempt saved last, and count it among the tries of its step."""
        if item.saved is not None:
            self.keep_saved(step, attempt, item.saved)
        self.attempts.furthest.pop(attempt.id, None)
        self.attempts.heard.pop(attempt.id, None)
        step.tries += ending.outcome is Outcome.FAILED
        step.losses += ending.outcome is Outcome.LOST

    def _is_late(self, step: StepRow, attempt: AttemptRow, rules: StepRules) -> bool:
        """Whether a step stopped since its own deadline has passed, and not that of its run."""
        if step.deadline_at is None or step.stop != StopReason.DEADLINE:
            return False
        lead = hears_before(self.workers, attempt, step, rules.deadline or 0.0)
        return self.time.now >= step.deadline_at - micros_of(lead)

    def _go_on(
        self, composition: Composition, step: StepRow, attempt: AttemptRow, event: StepEvent
    ) -> None:
        """Let the plan go on behind a step that has ended, or take up one that has not."""
        if event in _ENDING:
            step.ended_at = attempt.ended_at
            self.composing.left_at[step.part] = attempt.ended_at or self.time.now
            self.unit.steps.touch(step)
            composition.step_ended(step)
            return
        if event is not StepEvent.BACK_OFF:
            composition.ready_again(step)
        if event in (StepEvent.BACK_OFF, StepEvent.REST) and step.ended_at is None:
            composition.fell_asleep(step)
        self.pausing.hold_if_asked(step)

    def _close(self, attempt: AttemptRow, ending: Ending, item: ReportItem) -> None:
        """Write down how an attempt ended, and how long it took."""
        outcome, error = ending.outcome, ending.error
        began = attempt.begun_at or attempt.handed_at
        attempt.outcome = outcome
        attempt.ended_at = max(began, self.time.now - micros_of(item.ended_ago))
        attempt.error = json.dumps(error) if error else None
        attempt.cpu = None if item.cpu is None else micros_of(item.cpu)
        attempt.memory = item.memory
        attempt.abandoned = int(item.abandoned)
        self.counts.tally.end(failed=outcome in TROUBLE)
        step, run = self.unit.steps.need(attempt.step), self.unit.run(attempt.run)
        took = None if attempt.begun_at is None else attempt.ended_at - attempt.begun_at
        if outcome in CAME_TO_AN_END and took is not None:
            self.counts.eaches.step_took(step, took)
        address, waited = self.plans.of(run).addresses[step.node], began - attempt.ready_at
        self.counts.hours.end(run.workflow, attempt.ended_at, address, str(outcome), waited, took)
        if step.item_part is not None:
            before = (
                self.unit.attempts.one("step = ? AND number = ?", step.id, attempt.number - 1)
                if attempt.number > 1
                else None
            )
            self.counts.times.end(run.number, step.node, _ended_try(attempt, before))
        self.unit.attempts.touch(attempt)

    def _back_off(
        self,
        composition: Composition,
        step: StepRow,
        rule: Retry | None,
        ending: Ending,
        after: float | None,
    ) -> StepEvent:
        """Decide whether a failed step waits for another try; else its error says why not."""
        spent = (self.time.now - self._first_try(step, rule) - step.paused_micros) / 1_000_000
        tried = Tried(step.tries, ending.kinds, spent, after)
        wait, why = next_wait(rule, tried, self.settings.chance)
        if wait is None or composition.is_barred(self.unit.parts.need(step.part)):
            if rule is not None and why:
                ending.error["no_more_tries"] = why
            return StepEvent.FAIL
        step.due_at = self.time.now + micros_of(wait)
        self.due_times.set(BACK_OFF_DUE, step.due_at)
        return StepEvent.BACK_OFF

    def _rest(self, step: StepRow, seconds: float) -> None:
        """A step asked to be called again: its tries begin anew then."""
        step.due_at = self.time.now + micros_of(seconds)
        self.due_times.set(BACK_OFF_DUE, step.due_at)
        step.retry_from_attempt, step.tries, step.losses = step.attempts, 0, 0
        step.error, step.paused_micros = None, 0

    def _first_try(self, step: StepRow, rule: Retry | None) -> int:
        """When the first of the tries began that count; asked only where it matters."""
        if rule is None or rule.within is None:
            return self.time.now
        first = paused_runs.first_try_began(self.unit, step.id, step.retry_from_attempt)
        return self.time.now if first is None else first

    def keep_saved(self, step: StepRow, attempt: AttemptRow, saved: JsonObject) -> None:
        """What was saved, as it stands with a step; if it is too large, what was before stands."""
        with contextlib.suppress(ValueRefused):
            step.saved = encode(saved, "what was saved", limit=SAVED_LIMIT)
            self.unit.steps.touch(step)
            self.progress.step_reported(step, attempt.id, saved)
            if attempt.id in self.attempts.heard:
                self.attempts.heard[attempt.id] = self.time.mono
            self.changes.runs.add(step.run)


def _ended_try(attempt: AttemptRow, before: AttemptRow | None) -> EndedTry:
    """Return what an attempt that has ended, and the one before it, say of where time went."""
    assert attempt.ended_at is not None
    ended = EndedTry(
        ready_at=attempt.ready_at,
        begun_at=attempt.begun_at,
        ended_at=attempt.ended_at,
        failed=attempt.outcome in TROUBLE,
        pool_until=attempt.pool_until,
    )
    if before is not None and before.round == attempt.round:
        ended.slept = before.outcome and SLEPT.get(Outcome(before.outcome))
        ended.slept_from = before.ended_at or attempt.ready_at
    return ended


def _event(
    step: StepRow, outcome: Outcome, asked: str | None, late: bool, losses: int
) -> StepEvent:
    """What the end of an attempt means for its step; backing off is still to be decided.

    Args:
        asked: why it was told to stop; for a deadline it may be its run's.
        late: whether its own deadline has passed.
    """
    if outcome is Outcome.DONE:
        return StepEvent.FINISH  # what came within the grace is kept
    if outcome is Outcome.CALLED_AGAIN and not late and asked not in ENDS:
        return StepEvent.REST
    if asked == StopReason.CANCEL or (asked == StopReason.DEADLINE and not late):
        return StepEvent.CANCEL
    if late:
        return StepEvent.FAIL
    if outcome is Outcome.LOST and step.losses <= losses:
        return StepEvent.TRY_AGAIN
    if outcome is Outcome.STOPPED and asked == StopReason.PAUSE:
        return StepEvent.CHECKPOINT
    if outcome in (Outcome.HANDED_BACK, Outcome.CANCELLED, Outcome.STOPPED):
        # Nobody asked this step to stop, so a worker that stopped it has merely handed it back.
        return StepEvent.TRY_AGAIN
    return StepEvent.BACK_OFF if outcome is Outcome.FAILED else StepEvent.FAIL


def _kept_when_done(saved: str | None) -> str | None:
    """Of what a step saved, only how far it came is shown when it is done."""
    if saved is None:
        return None
    kept = {name: value for name, value in json.loads(saved).items() if name in SHOWN_WHEN_DONE}
    return json.dumps(kept)


def checked_output(
    outcome: Outcome, item: ReportItem
) -> tuple[str | None, Outcome, StepError | None]:
    """The output as text; an output that is refused makes the attempt a failed one."""
    if outcome is not Outcome.DONE:
        return None, outcome, item.error
    try:
        return encode(item.output, "the output"), outcome, None
    except ValueRefused as refused:
        return None, Outcome.FAILED, {"type": "ValueRefused", "message": str(refused)}


def _missing_files(
    unit: Unit, composition: Composition, step: StepRow, item: ReportItem, output: str
) -> StepError | None:
    """Note which files an output names; an error if it names one that is not kept."""
    if not use_named(unit, step.run, output):
        return None
    facts = composition.plan.tasks[composition.plan.nodes[step.node].task]
    found = unknown_files(unit, item.output, facts["output"])
    if not found:
        return None
    message = f"the output names a file that is not kept, at {found[0].where or '/'}"
    return {"type": "ValueRefused", "message": f"{message}; ctx.save_file keeps one"}


def _why_failed(stop: str | None, rules: StepRules) -> StepError | None:
    """Return the error of a task that only saw a request to stop: the request's reason decides."""
    if stop == StopReason.TIMEOUT:
        return too_long(rules.timeout or 0.0, "timeout", "TimedOut")
    if stop == StopReason.QUIET:
        said = f"no word of progress for {duration_text(rules.quiet_for or 0.0)}"
        return {"type": "Quiet", "message": said}
    return None


def _final_error(
    step: StepRow, rules: StepRules, ending: Ending, late: bool, losses: int
) -> StepError:
    """Return the error that a step has from now on."""
    error = ending.error
    if late:
        error = too_long(rules.deadline or 0.0, "deadline", "DeadlinePassed")
    if ending.outcome is not Outcome.LOST:
        return error
    if step.losses == 1:
        message = f"lost once, which its losses=0 do not bear: {error.get('message', '')}"
    else:
        message = (
            f"lost {step.losses} times, at most {losses} are borne; "
            f"the last time: {error.get('message', '')}"
        )
    return {**error, "message": message}


def too_long(limit: float, what: str, kind: str) -> StepError:
    """What is said of a step that did not end in time."""
    return {"type": kind, "message": f"its {what} of {duration_text(limit)} has passed"}


def micros_of(seconds: float) -> int:
    """Return seconds as microseconds."""
    return round(seconds * 1_000_000)


def hears_before(workers: Workers, attempt: AttemptRow, step: StepRow, limit: float) -> float:
    """How long before its time is over an attempt hears of that: at most a tenth of the limit."""
    worker = workers.get(attempt.worker)
    grace = worker.offer.graces.get(task_of(step.contract), 0.0) if worker else 0.0
    return min(grace, limit / 10)
