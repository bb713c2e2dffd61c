"""What workers tell of their attempts, and what follows from it.

Only an attempt that is still open can change anything. The same report twice gets the same
answer; a report for an attempt that was given up as lost is refused and changes nothing.
"""

from __future__ import annotations

import contextlib
import json
from typing import Any

from yarnloom.engine.commands import Report, Reported, ReportItem
from yarnloom.engine.compact import granted_items, relay_steps
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.dispatch.kept_files import unknown_files, use_named
from yarnloom.engine.dispatch.pool_places import (
    leave_pool,
)
from yarnloom.engine.dispatch.release import never_began, release
from yarnloom.engine.operations.pause import hold_if_asked
from yarnloom.engine.rules.limits import base_of
from yarnloom.engine.rules.retry import Tried, kinds_of, next_wait
from yarnloom.engine.rules.states import (
    CAME_TO_AN_END,
    NOT_BEGUN,
    Outcome,
    RunEvent,
    RunState,
    StepEvent,
    StopReason,
)
from yarnloom.engine.state.contracts import (
    task_of,
)
from yarnloom.engine.state.progress import item_began, step_reported
from yarnloom.engine.state.transaction import BACK_OFF_DUE, QUIET_DUE, TIMEOUT_DUE, Transaction
from yarnloom.engine.state.transitions import move_run, move_step
from yarnloom.errors import ValueRefused
from yarnloom.media_types import named_in
from yarnloom.plan import Retry
from yarnloom.store import AttemptRow, StepRow, paused_runs, segment_records
from yarnloom.units import duration_text
from yarnloom.values import VALUE_LIMIT, encode

SAVED_LIMIT = 2 * VALUE_LIMIT + 65_536  # what is kept, what is carried, and the places
SHOWN_WHEN_DONE = ("progress", "counts")
TROUBLE = (Outcome.FAILED, Outcome.REFUSED, Outcome.LOST)
ENDS = (StopReason.CANCEL, StopReason.DEADLINE)
CALLED = (Outcome.DONE, Outcome.FAILED, Outcome.STOPPED, Outcome.CALLED_AGAIN)
_FENCED: dict[str, str] = {
    Outcome.LOST: "given up as lost",
    Outcome.HANDED_BACK: "taken back, since it had not begun",
}
"""Outcomes that the service decides itself, after which its worker may still run an attempt."""

_NEVER_BEGUN = (Outcome.HANDED_BACK, Outcome.CANCELLED, Outcome.LOST)
"""Outcomes of legs whose turn never came; a process that died may have begun a lost one."""

_ENDING = (StepEvent.FINISH, StepEvent.FAIL, StepEvent.CANCEL)


def report(transaction: Transaction, command: Report) -> Reported:
    """Take in everything that a worker reports; each item stands alone."""
    answer = Reported()
    for attempt_id in command.freed:
        free(transaction, command.worker, attempt_id)
    for attempt_id, saved in command.saved.items():
        granted_items.unfold_attempt(transaction, attempt_id)
        _save(transaction, command.worker, attempt_id, saved)
    known = transaction.memory.grants.attempts
    ended: dict[int, granted_items.EndOf] = {}  # an end that is reported twice counts once
    legs = _of_legs(transaction, command) if transaction.memory.relays.attempts else {}
    for item in command.items:
        if item.attempt in legs:
            continue
        given = known.get(item.attempt)
        if given is not None and given.worker == command.worker:
            if item.attempt in ended:
                continue
            if (output := _usual_output(item)) is not None:
                ended[item.attempt] = (given, item, output)
                continue
            granted_items.unfold(transaction, given)
        if why := _take(transaction, command.worker, item):
            answer.refused.append({"attempt": item.attempt, "why": why})
    _end_straight(transaction, list(ended.values()))
    for attempt in sorted(legs):
        for item in legs[attempt]:
            if why := _take_leg(transaction, command.worker, item):
                answer.refused.append({"attempt": attempt, "why": why})
    return answer


def _of_legs(transaction: Transaction, command: Report) -> dict[int, list[ReportItem]]:
    """Return the reported items of legs, by attempt, and note the outputs of done legs.

    The step before a leg takes its end in; a report may name that step later than the leg.
    """
    known = transaction.memory.relays.attempts
    found: dict[int, list[ReportItem]] = {}
    for item in command.items:
        leg = known.get(item.attempt)
        if leg is not None and leg.worker == command.worker:
            found.setdefault(item.attempt, []).append(item)
            if (output := _usual_output(item)) is not None:
                transaction.composing.relayed.setdefault(item.attempt, (item, output))
    return found


def _take_leg(transaction: Transaction, worker: str, item: ReportItem) -> str | None:
    """Take in a leg's item after all others of the report; return why it is refused, or None."""
    done = transaction.composing.relayed.pop(item.attempt, None)
    leg = transaction.memory.relays.attempts.get(item.attempt)
    if leg is None:
        kept = done is None and item.outcome == Outcome.DONE
        return None if kept else _take(transaction, worker, item)
    if item.outcome is None:
        return None  # the end of the one before it is still on its way
    relay_steps.given_back(transaction, leg)
    if item.outcome in _NEVER_BEGUN:
        return None
    return "the step before it has not ended well for the service"


def _usual_output(item: ReportItem) -> str | None:
    """The output of an item that ended well, with nothing special about it; else None."""
    if item.outcome != Outcome.DONE or item.saved or item.abandoned:
        return None
    output, _, _ = _checked(Outcome.DONE, item)
    return None if named_in(output) else output


def _end_straight(transaction: Transaction, ended: granted_items.Ends) -> None:
    """Items without rows have ended well, each by each; some may have got rows meanwhile."""
    known = transaction.memory.grants.attempts
    by_each: dict[int, granted_items.Ends] = {}
    for one in ended:
        given, item, _ = one
        if given.attempt in known:
            by_each.setdefault(given.straight.each, []).append(one)
        else:
            _take(transaction, given.worker, item)
    for ends in by_each.values():
        left = [one for one in ends if one[0].attempt in known]
        for given, item, _ in [one for one in ends if one[0].attempt not in known]:
            _take(transaction, given.worker, item)
        if left:
            straight = left[0][0].straight
            Composition(transaction, transaction.run(straight.run)).items_ended(straight, left)


def look_at_given(transaction: Transaction, _: str) -> None:
    """Give rows to items that were given or offered a while ago and have not ended."""
    for straight in granted_items.unseen(transaction):
        granted_items.withdraw(transaction, straight)
        composition = Composition(transaction, transaction.run(straight.run))
        composition.fill_plainly(transaction.unit.parts.need(straight.each))


def free(transaction: Transaction, worker_id: str, attempt_id: int) -> None:
    """The process of an abandoned attempt has ended."""
    worker = transaction.memory.workers.get(worker_id)
    held = worker.abandoned.pop(attempt_id, None) if worker else None
    if held is not None:
        attempt = transaction.unit.attempts.need(attempt_id)
        attempt.abandoned = 0
        transaction.unit.attempts.touch(attempt)
        leave_pool(transaction, *held, [attempt.id], never_began=never_began(attempt))
        transaction.afterwards.settling.add(attempt.run)


def _save(transaction: Transaction, worker: str, attempt_id: int, saved: dict[str, Any]) -> None:
    """Keep what a running attempt saved; what comes from one that was given up changes nothing."""
    attempt = transaction.unit.attempts.get(attempt_id)
    if attempt is not None and attempt.worker == worker and attempt.outcome is None:
        _keep_saved(transaction, transaction.unit.steps.need(attempt.step), attempt, saved)


def _keep_saved(
    transaction: Transaction, step: StepRow, attempt: AttemptRow, saved: dict[str, Any]
) -> None:
    """What was saved, as it stands with a step; if it is too large, what was before stands."""
    with contextlib.suppress(ValueRefused):
        step.saved = encode(saved, "what was saved", limit=SAVED_LIMIT)
        transaction.unit.steps.touch(step)
        step_reported(transaction, step, attempt.id, saved)
        if attempt.id in transaction.memory.attempts.heard:
            transaction.memory.attempts.heard[attempt.id] = transaction.mono
        transaction.changes.runs.add(step.run)


def lose(transaction: Transaction, attempt_id: int, why: str) -> None:
    """Give an attempt up as lost: its worker is gone."""
    attempt = _taken_away(transaction, attempt_id)
    error = {"type": "Lost", "message": why}
    _end(transaction, attempt, Outcome.LOST, ReportItem(attempt_id, error=error))


def take_from(transaction: Transaction, attempt: AttemptRow, why: str) -> None:
    """Take an attempt that has not begun from its worker, which is not to report it any more."""
    error = {"type": NOT_BEGUN, "message": why}
    _taken_away(transaction, attempt.id)
    _end(transaction, attempt, Outcome.HANDED_BACK, ReportItem(attempt.id, error=error))


def hand_back(transaction: Transaction, attempt_id: int) -> None:
    """A worker that leaves did not run an attempt to its end."""
    _end(
        transaction,
        _taken_away(transaction, attempt_id),
        Outcome.HANDED_BACK,
        ReportItem(attempt_id),
    )


def _taken_away(transaction: Transaction, attempt_id: int) -> AttemptRow:
    """Return an attempt that its worker lost, after taking the legs behind it, too."""
    attempt = transaction.unit.attempts.need(attempt_id)
    relay_steps.drop_behind(transaction, transaction.unit.steps.need(attempt.step))
    return attempt


def _take(transaction: Transaction, worker: str, item: ReportItem) -> str | None:
    """Take in one item; why it is refused, or None."""
    attempt = transaction.unit.attempts.get(item.attempt)
    if attempt is None and segment_records.worker_of(transaction.unit, item.attempt) == worker:
        return None  # it is done, and said again
    if attempt is None and item.outcome in _NEVER_BEGUN:
        return None  # a leg that was given back, and said again
    if attempt is None or attempt.worker != worker:
        return "this worker was never given that attempt"
    if attempt.outcome is not None:
        if attempt.outcome in _FENCED and item.outcome != attempt.outcome:
            return f"the attempt was {_FENCED[attempt.outcome]}; its step may be running elsewhere"
        return None  # said again, because the answer was lost: no news, and no mistake
    called = item.begun_ago is not None or item.outcome in CALLED
    if called and attempt.begun_at is None:
        _begin(transaction, attempt, item)
    if item.outcome is not None:
        _end(transaction, attempt, Outcome(item.outcome), item)
    return None


def _begin(transaction: Transaction, attempt: AttemptRow, item: ReportItem) -> None:
    step = transaction.unit.steps.need(attempt.step)
    attempt.begun_at = max(
        attempt.handed_at, transaction.now - _micros(item.begun_ago or item.ended_ago)
    )
    attempt.pid = item.pid
    transaction.memory.attempts.unbegun.pop(attempt.id, None)
    transaction.unit.attempts.touch(attempt)
    move_step(transaction, step, StepEvent.BEGIN)
    item_began(transaction, step.inside, attempt.begun_at)
    transaction.counts.tally.begin(max(0, attempt.begun_at - attempt.ready_at) / 1_000_000)
    if step.started_at is None:
        step.started_at = attempt.begun_at
    watch(transaction, attempt, step)
    if attempt.pool:
        transaction.memory.pools.need(base_of(attempt.pool)).count_begun(transaction.mono)
    run = transaction.run(step.run)
    if run.state == RunState.QUEUED:
        move_run(transaction, run, RunEvent.BEGIN)
    if run.started_at is None:
        run.started_at = attempt.begun_at
        transaction.unit.runs.touch(run)


def watch(transaction: Transaction, attempt: AttemptRow, step: StepRow) -> None:
    """An attempt has begun: its pool's rate counts from then, and its time-out."""
    assert attempt.begun_at is not None
    begun = transaction.time.mono_of(attempt.begun_at)
    if attempt.pool:
        transaction.memory.pools.gate(attempt.pool).begin(attempt.id, begun)
        transaction.memory.queue.lanes.reopen(attempt.pool)
    rules = transaction.plan(transaction.run(step.run)).nodes[step.node].rules
    ends = []
    if rules.timeout is not None:
        lead = hears_before(transaction, attempt, step, rules.timeout)
        ends.append((begun + rules.timeout - lead, StopReason.TIMEOUT))
    if rules.deadline is not None and step.deadline_at is not None:
        lead = hears_before(transaction, attempt, step, rules.deadline)
        ends.append((transaction.time.mono_of(step.deadline_at) - lead, StopReason.DEADLINE))
    if rules.quiet_for is not None:
        # After a restart of the service it has all that time again: what it said is not known.
        transaction.memory.attempts.heard[attempt.id] = transaction.mono
        transaction.memory.timers.set(QUIET_DUE, transaction.mono + rules.quiet_for)
    if ends:
        transaction.memory.attempts.timeouts[attempt.id] = min(ends)
        transaction.memory.timers.set(TIMEOUT_DUE, min(ends)[0])


def hears_before(
    transaction: Transaction, attempt: AttemptRow, step: StepRow, limit: float
) -> float:
    """How long before its time is over an attempt hears of that: at most a tenth of the limit."""
    worker = transaction.memory.workers.get(attempt.worker)
    grace = worker.offer.graces.get(task_of(step.contract), 0.0) if worker else 0.0
    return min(grace, limit / 10)


def _end(transaction: Transaction, attempt: AttemptRow, outcome: Outcome, item: ReportItem) -> None:
    step = transaction.unit.steps.need(attempt.step)
    composition = Composition(transaction, transaction.run(step.run))
    rules = composition.plan.nodes[step.node].rules
    output, outcome, error = _checked(outcome, item)
    if output is not None and (
        missing := _missing_files(transaction, composition, step, item, output)
    ):
        output, outcome, error = None, Outcome.FAILED, missing
    if step.stop == StopReason.TIMEOUT and outcome in (Outcome.CANCELLED, Outcome.STOPPED):
        outcome, error = Outcome.FAILED, too_long(rules.timeout or 0.0, "timeout", "TimedOut")
    if step.stop == StopReason.QUIET and outcome in (Outcome.CANCELLED, Outcome.STOPPED):
        said = f"no word of progress for {duration_text(rules.quiet_for or 0.0)}"
        outcome, error = Outcome.FAILED, {"type": "Quiet", "message": said}
    kinds = kinds_of(error or {})
    error = {name: value for name, value in (error or {}).items() if name != "kinds"}
    _close(transaction, attempt, outcome, error, item)
    if item.saved is not None:
        _keep_saved(transaction, step, attempt, item.saved)
    transaction.memory.attempts.furthest.pop(attempt.id, None)
    transaction.memory.attempts.heard.pop(attempt.id, None)
    step.tries += outcome is Outcome.FAILED
    step.losses += outcome is Outcome.LOST
    most = transaction.settings.losses if rules.losses is None else rules.losses
    lead = _micros(hears_before(transaction, attempt, step, rules.deadline or 0.0))
    passed = step.deadline_at is not None and transaction.now >= step.deadline_at - lead
    late = passed and step.stop == StopReason.DEADLINE
    event = _event(step, outcome, step.stop, late, most)
    if event is StepEvent.BACK_OFF:
        event, more = _back_off(transaction, composition, step, rules.retry, kinds, item.after)
        error |= more
    match event:
        case StepEvent.FINISH:
            step.output, step.error, step.saved = output, None, _kept_when_done(step.saved)
        case StepEvent.REST:
            _rest(transaction, step, item.after or 0.0)
        case StepEvent.FAIL | StepEvent.BACK_OFF:
            if late:
                error = too_long(rules.deadline or 0.0, "deadline", "DeadlinePassed")
            step.error = json.dumps(_final_error(step, outcome, error, most))
    release(transaction, step, attempt)
    move_step(transaction, step, event, closing=True)
    transaction.afterwards.settling.add(step.run)
    if event in _ENDING:
        step.ended_at = attempt.ended_at
        transaction.composing.left_at[step.part] = attempt.ended_at or transaction.now
        transaction.unit.steps.touch(step)
        composition.step_ended(step)
        return
    if event is not StepEvent.BACK_OFF:
        composition.ready_again(step)
    if event in (StepEvent.BACK_OFF, StepEvent.REST) and step.ended_at is None:
        composition.fell_asleep(step)
    hold_if_asked(transaction, step)


def _close(
    transaction: Transaction,
    attempt: AttemptRow,
    outcome: Outcome,
    error: dict[str, Any],
    item: ReportItem,
) -> None:
    """An attempt has ended: what is kept of it."""
    began = attempt.begun_at or attempt.handed_at
    attempt.outcome = outcome
    attempt.ended_at = max(began, transaction.now - _micros(item.ended_ago))
    attempt.error = json.dumps(error) if error else None
    attempt.cpu = None if item.cpu is None else _micros(item.cpu)
    attempt.memory = item.memory
    attempt.abandoned = int(item.abandoned)
    transaction.counts.tally.end(failed=outcome in TROUBLE)
    step, run = transaction.unit.steps.need(attempt.step), transaction.run(attempt.run)
    took = None if attempt.begun_at is None else attempt.ended_at - attempt.begun_at
    if outcome in CAME_TO_AN_END and took is not None:
        transaction.counts.eaches.step_took(step, took)
    address, waited = transaction.plan(run).addresses[step.node], began - attempt.ready_at
    transaction.counts.hours.end(
        run.workflow, attempt.ended_at, address, str(outcome), waited, took
    )
    transaction.unit.attempts.touch(attempt)


def _back_off(
    transaction: Transaction,
    composition: Composition,
    step: StepRow,
    rule: Retry | None,
    kinds: tuple[str, ...],
    after: float | None,
) -> tuple[StepEvent, dict[str, Any]]:
    """Whether a failed step waits for another try, and what is added to its error if not."""
    spent = (transaction.now - _first_try(transaction, step, rule) - step.spared) / 1_000_000
    wait, why = next_wait(rule, Tried(step.tries, kinds, spent, after), transaction.settings.chance)
    if wait is None or composition.is_barred(transaction.unit.parts.need(step.part)):
        return StepEvent.FAIL, {"no_more_tries": why} if rule is not None and why else {}
    step.due_at = transaction.now + _micros(wait)
    transaction.remind(BACK_OFF_DUE, step.due_at)
    return StepEvent.BACK_OFF, {}


def _rest(transaction: Transaction, step: StepRow, seconds: float) -> None:
    """A step asked to be called again: its tries begin anew then."""
    step.due_at = transaction.now + _micros(seconds)
    transaction.remind(BACK_OFF_DUE, step.due_at)
    step.counts_from, step.tries, step.losses = step.attempts, 0, 0
    step.error, step.spared = None, 0


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


def _first_try(transaction: Transaction, step: StepRow, rule: Retry | None) -> int:
    """When the first of the tries began that count; asked only where it matters."""
    if rule is None or rule.within is None:
        return transaction.now
    first = paused_runs.first_try_began(transaction.unit, step.id, step.counts_from)
    return transaction.now if first is None else first


def _kept_when_done(saved: str | None) -> str | None:
    """Of what a step saved, only how far it came is shown when it is done."""
    if saved is None:
        return None
    kept = {name: value for name, value in json.loads(saved).items() if name in SHOWN_WHEN_DONE}
    return json.dumps(kept)


def _checked(
    outcome: Outcome, item: ReportItem
) -> tuple[str | None, Outcome, dict[str, Any] | None]:
    """The output as text; an output that is refused makes the attempt a failed one."""
    if outcome is not Outcome.DONE:
        return None, outcome, item.error
    try:
        return encode(item.output, "the output"), outcome, None
    except ValueRefused as refused:
        return None, Outcome.FAILED, {"type": "ValueRefused", "message": str(refused)}


def _missing_files(
    transaction: Transaction, composition: Composition, step: StepRow, item: ReportItem, output: str
) -> dict[str, Any] | None:
    """Note which files an output names; an error if it names one that is not kept."""
    if not use_named(transaction, step.run, output):
        return None
    facts = composition.plan.tasks[composition.plan.nodes[step.node].task]
    found = unknown_files(transaction, item.output, facts["output"])
    if not found:
        return None
    message = f"the output names a file that is not kept, at {found[0].where or '/'}"
    return {"type": "ValueRefused", "message": f"{message}; ctx.save_file keeps one"}


def _final_error(
    step: StepRow, outcome: Outcome, error: dict[str, Any], losses: int
) -> dict[str, Any]:
    if outcome is not Outcome.LOST:
        return error
    if step.losses == 1:
        message = f"lost once, which its losses=0 do not bear: {error.get('message', '')}"
    else:
        message = (
            f"lost {step.losses} times, at most {losses} are borne; "
            f"the last time: {error.get('message', '')}"
        )
    return {**error, "message": message}


def too_long(limit: float, what: str, kind: str) -> dict[str, Any]:
    """What is said of a step that did not end in time."""
    return {"type": kind, "message": f"its {what} of {duration_text(limit)} has passed"}


def _micros(seconds: float) -> int:
    return round(seconds * 1_000_000)
