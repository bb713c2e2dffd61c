"""All states and all transitions: of steps, parts, runs and attempts.

Nothing else in the project decides what may follow what. A transition that is not in a table is
illegal: it raises `IllegalTransition` and changes nothing.
"""

from __future__ import annotations

from enum import IntEnum, StrEnum
from typing import TypeVar

from yarnloom.errors import Conflict


class StepState(StrEnum):
    """Where a step stands."""

    WAITING = "waiting"  # for earlier steps; has no row yet, or one of before it was renewed
    READY = "ready"  # could run; waits for a worker, or is handed to one
    RUNNING = "running"  # an attempt is running
    BACKING_OFF = "backing_off"  # failed; waits before the next attempt
    RESTING = "resting"  # asked to be called again later; holds nothing
    PAUSED = "paused"  # stopped at a checkpoint, or held by hand
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"
    SKIPPED = "skipped"


class PartState(StrEnum):
    """Where a sequence, parallel, each or item stands."""

    WAITING = "waiting"  # has no row yet
    RUNNING = "running"  # something in it has begun to wait, run or end
    PAUSED = "paused"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"
    SKIPPED = "skipped"


class Admission(IntEnum):
    """Whether a run has begun to wait for workers, and what it waits for before."""

    AHEAD = -1  # for its start time, or to be opened in its turn
    HELD = 0  # for other runs of its workflow
    ENTERED = 1


class RunState(StrEnum):
    """Where a run stands."""

    SCHEDULED = "scheduled"  # its start time is ahead
    QUEUED = "queued"  # accepted; nothing has begun
    RUNNING = "running"
    PAUSING = "pausing"  # no new attempts; running ones stop or finish
    PAUSED = "paused"
    CANCELLING = "cancelling"  # told to stop, not all stopped yet
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class Outcome(StrEnum):
    """How an attempt ended."""

    DONE = "done"
    FAILED = "failed"  # error, time-out, output refused: spends a try
    REFUSED = "refused"  # bad input or GiveUp: fails the step at once
    LOST = "lost"  # its worker or process is gone
    STOPPED = "stopped"  # at a checkpoint, for a pause
    HANDED_BACK = "handed_back"  # by a worker that drains, or never begun
    CALLED_AGAIN = "called_again"  # asked to be called again later
    CANCELLED = "cancelled"


TROUBLE = (Outcome.FAILED, Outcome.REFUSED, Outcome.LOST)
"""Outcomes that count as failures of an attempt."""

SLEPT = {Outcome.FAILED: "back_off", Outcome.CALLED_AGAIN: "rest"}
"""How a step sleeps after an attempt, by its outcome."""


class SkipReason(StrEnum):
    """Why something was skipped."""

    ONLY_IF = "only_if"  # its condition was false
    NOT_REACHED = "not_reached"  # something before it failed
    STOPPED = "stopped"  # its part stopped
    GONE = "gone"  # its item vanished in a mend
    BY_HAND = "by_hand"
    NOT_CHOSEN = "not_chosen"  # another branch was, or what it stands in for did not fail


PASSED_OVER = frozenset(
    {SkipReason.ONLY_IF, SkipReason.BY_HAND, SkipReason.GONE, SkipReason.NOT_CHOSEN}
)
"""Skips after which a sequence goes on: nothing is wrong, the output is null."""


class StopReason(StrEnum):
    """Why a running step is told to stop."""

    PAUSE = "pause"
    CANCEL = "cancel"
    TIMEOUT = "timeout"
    QUIET = "quiet"
    DEADLINE = "deadline"
    DRAIN = "drain"


class StepEvent(StrEnum):
    """What can happen to a step."""

    OPEN = "open"  # nothing before it is missing any more
    BEGIN = "begin"  # a worker's process calls the task
    FINISH = "finish"
    FAIL = "fail"
    BACK_OFF = "back_off"  # failed, and its retry rule allows another attempt
    REST = "rest"
    TRY_AGAIN = "try_again"  # its attempt was lost or handed back
    CHECKPOINT = "checkpoint"  # stopped at one, for a pause
    DUE = "due"  # the end of a back-off or rest
    HOLD = "hold"  # paused by hand
    RESUME = "resume"
    RETRY = "retry"  # at once, by hand
    CANCEL = "cancel"
    SKIP = "skip"
    SUPPLY = "supply"  # its output was given by hand
    REOPEN = "reopen"  # a follow-up in it that failed is tried again; its outcome stands
    RENEW = "renew"  # it is to run again: by a mend, or by hand


class RunEvent(StrEnum):
    """What can happen to a run."""

    DUE = "due"  # its start time has come
    MOVE = "move"  # it is to begin at another time
    BEGIN = "begin"  # its first attempt begins
    PAUSE = "pause"
    PAUSE_IN_HAND = "pause_in_hand"  # while a worker has something of it that has not begun
    HELD = "held"  # nothing of it executes any more
    RESUME = "resume"
    RESUME_QUEUED = "resume_queued"  # to what it was before: queued
    RESUME_SCHEDULED = "resume_scheduled"  # to what it was before: scheduled
    CANCEL = "cancel"
    FINISH = "finish"
    FAIL = "fail"
    STOP = "stop"  # everything that was told to stop has stopped
    MEND = "mend"
    REOPEN = "reopen"  # a follow-up of it that failed is tried again; its outcome stands


_S, _E = StepState, StepEvent
_NOT_BEGUN = {_E.CANCEL: _S.CANCELLED, _E.SKIP: _S.SKIPPED, _E.SUPPLY: _S.DONE}
_AGAIN = {_E.RENEW: _S.WAITING}

STEP_TABLE: dict[StepState, dict[StepEvent, StepState]] = {
    _S.WAITING: {**_NOT_BEGUN, _E.OPEN: _S.READY, _E.FAIL: _S.FAILED},
    _S.READY: {
        **_NOT_BEGUN,
        _E.BEGIN: _S.RUNNING,
        _E.TRY_AGAIN: _S.READY,  # the worker it was handed to is gone
        _E.FAIL: _S.FAILED,  # lost too often, or its deadline passed
        _E.HOLD: _S.PAUSED,
    },
    _S.RUNNING: {
        _E.FINISH: _S.DONE,
        _E.FAIL: _S.FAILED,
        _E.BACK_OFF: _S.BACKING_OFF,
        _E.REST: _S.RESTING,
        _E.TRY_AGAIN: _S.READY,
        _E.CHECKPOINT: _S.PAUSED,
        _E.CANCEL: _S.CANCELLED,
    },
    _S.BACKING_OFF: {
        **_NOT_BEGUN,
        _E.DUE: _S.READY,
        _E.RETRY: _S.READY,
        _E.FAIL: _S.FAILED,
        _E.HOLD: _S.PAUSED,
    },
    _S.RESTING: {
        **_NOT_BEGUN,
        _E.DUE: _S.READY,
        _E.RETRY: _S.READY,
        _E.FAIL: _S.FAILED,
        _E.HOLD: _S.PAUSED,
    },
    _S.PAUSED: {
        **_NOT_BEGUN,
        _E.RESUME: _S.READY,
        _E.BACK_OFF: _S.BACKING_OFF,  # paused by hand, and its time has not come
        _E.REST: _S.RESTING,
        _E.FAIL: _S.FAILED,
    },
    _S.DONE: {**_AGAIN},
    _S.FAILED: {**_AGAIN},
    _S.CANCELLED: {**_AGAIN},
    _S.SKIPPED: {**_AGAIN},
}

_P = PartState

PART_TABLE: dict[PartState, dict[StepEvent, PartState]] = {
    _P.WAITING: {
        _E.OPEN: _P.RUNNING,
        _E.SKIP: _P.SKIPPED,
        _E.CANCEL: _P.CANCELLED,
        _E.FAIL: _P.FAILED,
    },
    _P.RUNNING: {
        _E.FINISH: _P.DONE,
        _E.FAIL: _P.FAILED,
        _E.CANCEL: _P.CANCELLED,
        _E.SKIP: _P.SKIPPED,
        _E.HOLD: _P.PAUSED,
    },
    _P.PAUSED: {_E.RESUME: _P.RUNNING, _E.CANCEL: _P.CANCELLED, _E.FAIL: _P.FAILED},
    _P.DONE: {_E.RENEW: _P.WAITING, _E.REOPEN: _P.RUNNING},
    _P.FAILED: {_E.RENEW: _P.WAITING, _E.REOPEN: _P.RUNNING},
    _P.CANCELLED: {_E.RENEW: _P.WAITING, _E.REOPEN: _P.RUNNING},
    _P.SKIPPED: {_E.RENEW: _P.WAITING, _E.REOPEN: _P.RUNNING},
}

_R, _V = RunState, RunEvent
_ENDS = {_V.FINISH: _R.DONE, _V.FAIL: _R.FAILED}

RUN_TABLE: dict[RunState, dict[RunEvent, RunState]] = {
    _R.SCHEDULED: {
        _V.DUE: _R.QUEUED,
        _V.MOVE: _R.SCHEDULED,
        _V.PAUSE: _R.PAUSED,
        _V.CANCEL: _R.CANCELLING,  # in the same commit `cancelled`
    },
    _R.QUEUED: {
        **_ENDS,
        _V.BEGIN: _R.RUNNING,
        _V.MOVE: _R.SCHEDULED,  # one of many that were started, before its turn
        _V.PAUSE: _R.PAUSED,
        _V.PAUSE_IN_HAND: _R.PAUSING,
        _V.CANCEL: _R.CANCELLING,  # in the same commit `cancelled`, if no attempt is handed out
    },
    _R.RUNNING: {**_ENDS, _V.PAUSE: _R.PAUSING, _V.RESUME: _R.RUNNING, _V.CANCEL: _R.CANCELLING},
    _R.PAUSING: {
        **_ENDS,
        _V.PAUSE: _R.PAUSING,
        _V.HELD: _R.PAUSED,
        _V.RESUME: _R.RUNNING,
        _V.RESUME_QUEUED: _R.QUEUED,
        _V.CANCEL: _R.CANCELLING,
    },
    _R.PAUSED: {
        **_ENDS,  # its last step was skipped, or given an output, by hand
        _V.PAUSE: _R.PAUSED,
        _V.RESUME: _R.RUNNING,
        _V.RESUME_QUEUED: _R.QUEUED,
        _V.RESUME_SCHEDULED: _R.SCHEDULED,
        _V.CANCEL: _R.CANCELLING,
    },
    _R.CANCELLING: {**_ENDS, _V.CANCEL: _R.CANCELLING, _V.STOP: _R.CANCELLED},
    _R.DONE: {_V.MEND: _R.RUNNING, _V.REOPEN: _R.RUNNING},
    _R.FAILED: {_V.MEND: _R.RUNNING, _V.REOPEN: _R.RUNNING},
    _R.CANCELLED: {_V.MEND: _R.RUNNING, _V.REOPEN: _R.RUNNING},
}

STEP_ENDED = frozenset({_S.DONE, _S.FAILED, _S.CANCELLED, _S.SKIPPED})
CAME_TO_AN_END = frozenset({Outcome.DONE, Outcome.FAILED, Outcome.REFUSED})
"""Outcomes of attempts that were not stopped: how long they took says how long the step takes."""

RUN_ENDED = frozenset({_R.DONE, _R.FAILED, _R.CANCELLED})


HELD_RUN = frozenset({RunState.PAUSING, RunState.PAUSED})
"""States of a run that a person holds."""

NOT_BEGUN = "NotBegun"
"""The error type of an attempt that a worker took and did not begin."""


class IllegalTransition(Conflict):
    """A transition that is in no table."""


# What commands do to something is said in the passive voice.
_PASSIVE = {
    "cancel": "be cancelled",
    "hold": "be held",
    "mend": "be mended",
    "pause": "be paused",
    "resume": "be resumed",
    "retry": "be retried",
    "skip": "be skipped",
    "supply": "be supplied with an output",
}

State = TypeVar("State", StepState, PartState, RunState)
Event = TypeVar("Event", StepEvent, RunEvent)


def next_state(
    table: dict[State, dict[Event, State]], state: str, event: Event, what: str
) -> State:
    """The state that follows.

    Args:
        table: one of the tables above.
        state: the present state.
        event: what happens.
        what: names the run, part or step, for the error.

    Raises:
        IllegalTransition: the table has no such entry.
    """
    row: dict[Event, State] = table[state]  # type: ignore[index]  # a StrEnum equals its text
    found = row.get(event)
    if found is None:
        verb = _PASSIVE.get(event, event.replace("_", " "))
        raise IllegalTransition(f"{what} is {state}, so it cannot {verb}", state=str(state))
    return found
