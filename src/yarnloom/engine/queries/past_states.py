"""Looking back: what a run's rows were like at a moment, folded from the times of its attempts.

Nothing is written for each transition. What is kept says when an attempt could begin, was handed
out, began and ended, and when parts began and ended; from that the rows are put back as they were,
so that the same tree is made of them as of present ones. Of a round before the last, parts are
folded from their steps, and its end is that of its last attempt.

Decision: `docs/decisions/10-looking-back.md`.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

from yarnloom.engine.rules.states import STEP_ENDED, Outcome, PartState, SkipReason, StepState
from yarnloom.plan import Kind, Plan
from yarnloom.store import Row

_AFTER: dict[str, StepState] = {
    Outcome.DONE: StepState.DONE,
    Outcome.FAILED: StepState.FAILED,
    Outcome.REFUSED: StepState.FAILED,
    Outcome.CANCELLED: StepState.CANCELLED,
    Outcome.CALLED_AGAIN: StepState.RESTING,
    Outcome.STOPPED: StepState.PAUSED,
    Outcome.LOST: StepState.READY,
    Outcome.HANDED_BACK: StepState.READY,
}
"""How a step stood between two of its attempts, by the outcome of the first."""

_COUNTED = [state for state in StepState if state is not StepState.WAITING]
_ENDED_COUNTS = (StepState.FAILED, StepState.CANCELLED, StepState.DONE, StepState.SKIPPED)
_UNDER_WAY = [state for state in _COUNTED if state not in STEP_ENDED]
_RENEWED = {"state": StepState.SKIPPED, "skip_reason": SkipReason.NOT_REACHED}


@dataclass(frozen=True, slots=True)
class PastMoment:
    """A moment of a run.

    Attributes:
        at: in microseconds since 1970 UTC.
        round: the round that it falls into.
        last: whether that is the last one.
        over: whether everything of a round before the last had ended.
    """

    at: int
    round: int = 1
    last: bool = True
    over: bool = False


def past_of(at: int, mends: Sequence[int], ended_by: Callable[[int], int]) -> PastMoment:
    """The moment, by when the run was mended.

    Args:
        at: in microseconds since 1970 UTC.
        mends: when each round after the first began.
        ended_by: says when the last attempt ended of a round and those before it.
    """
    number = bisect_right(mends, at) + 1
    last = number > len(mends)
    return PastMoment(at, number, last, not last and at >= ended_by(number))


def rows_then(
    past: PastMoment,
    plan: Plan,
    parts: Iterable[Row],
    steps: Iterable[Row],
    attempts: Mapping[int, Sequence[Row]],
    items: Mapping[int, Mapping[str, int]],
) -> dict[int, Row]:
    """The rows of one scope of a run as they were, by node; what had not begun is left out.

    Args:
        past: when.
        plan: the run's.
        parts: the rows of parts as they are now.
        steps: the same of steps.
        attempts: by step, oldest first.
        items: by each how many of its items were how.
    """
    found: dict[int, Row] = {}
    counts: dict[int, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for row in steps:
        then = step_then(past, row, attempts.get(row["id"], ()))
        if then is not None:
            found[row["node"]] = then
            counts[row["part"]][then["state"]] += 1
    # From inside out: a part is counted by the one around it.
    for row in sorted(parts, key=lambda one: len(one["rank"]), reverse=True):
        each = plan.nodes[row["node"]].kind is Kind.EACH
        then = part_then(past, row, items.get(row["id"], {}) if each else counts[row["id"]])
        if then is None:
            continue
        found[row["node"]] = then
        if row["parent"] is not None and not plan.nodes[row["node"]].follows:
            counts[row["parent"]][then["state"]] += 1
    return found


def step_then(past: PastMoment, row: Row, attempts: Sequence[Row]) -> Row | None:
    """A step's row as it was; None if it had not begun to wait for a worker.

    Args:
        past: when.
        row: as it is now.
        attempts: the step's, oldest first.
    """
    known = [attempt for attempt in attempts if attempt["ready_at"] <= past.at]
    if not known:
        return _unattempted_then(past, row, attempts)
    last = known[-1]
    later = attempts[len(known)] if len(known) < len(attempts) else None
    then = {
        **row,
        "state": StepState.READY,
        "attempts": last["number"],
        "worker_name": last["worker_name"],
        "ready_at": last["ready_at"],
        "started_at": known[0]["begun_at"] if _by(past, known[0]["begun_at"]) else None,
        **dict.fromkeys(("open", "ended_at", "due_at", "error", "stop", "saved", "skip_reason")),
    }
    if not _by(past, last["ended_at"]):
        if _by(past, last["begun_at"]):
            then |= {"state": StepState.RUNNING, "open": last["number"]}
        return then
    state = _AFTER[last["outcome"]]
    if later is None:
        # Nothing was tried any more: it is as it is now, unless it was made to wait again.
        if row["state"] != StepState.WAITING and (
            row["ended_at"] is None or _by(past, row["ended_at"])
        ):
            kept = {name: row[name] for name in ("state", "error", "due_at", "saved")}
            ended = {"ended_at": row["ended_at"], "skip_reason": row["skip_reason"]}
            return {**then, **kept, **ended}
    elif state is StepState.FAILED and later["round"] == last["round"]:
        state = StepState.BACKING_OFF
        then["due_at"] = later["ready_at"]
    ended_at = last["ended_at"] if state in STEP_ENDED else None
    return {**then, "state": state, "error": last["error"], "ended_at": ended_at}


def _unattempted_then(past: PastMoment, row: Row, attempts: Sequence[Row]) -> Row | None:
    """The row of a step of which nothing had been handed out."""
    if not attempts and _by(past, row["ended_at"]):
        return row
    if not attempts and _by(past, row["ready_at"]) and row["state"] != StepState.WAITING:
        ended = row["state"] in STEP_ENDED
        return {**row, "state": StepState.READY, "ended_at": None} if ended else row
    return {**row, **_RENEWED} if past.over else None


def part_then(past: PastMoment, row: Row, counts: Mapping[str, int]) -> Row | None:
    """A part's row as it was, with how many of its children were how; None if it had not begun."""
    if not _by(past, row["started_at"]):
        return None
    if has_ended_by(past, row):
        return row
    state = PartState.RUNNING
    still = not any(counts.get(one) for one in _UNDER_WAY) and any(map(counts.get, _ENDED_COUNTS))
    if past.over or (still and not past.last):
        # Items that ran again had failed, or were cancelled or not reached.
        state = next((PartState(one) for one in _ENDED_COUNTS if counts.get(one)), PartState.DONE)
        if counts.get(StepState.RUNNING):
            state = PartState.FAILED
            counts = {**counts, "failed": counts.get("failed", 0) + counts["running"], "running": 0}
    return {
        **row,
        **{str(one): counts.get(one, 0) for one in _COUNTED},
        **dict.fromkeys(("outcome", "error", "rest_state", "rest_reason", "skip_reason", "closed")),
        "state": state,
        "idle": 0,
        "ended_at": None,
    }


def has_ended_by(past: PastMoment, row: Row) -> bool:
    """Whether a part had ended, and is now as it was then."""
    return past.last and row["state"] != PartState.WAITING and _by(past, row["ended_at"])


def _by(past: PastMoment, at: int | None) -> bool:
    """Whether something had happened by then."""
    return at is not None and at <= past.at
