"""What can be submitted to the engine, and what it answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from yarnloom.engine.data_commands import EndChore, KeepFile, KeepRows


@dataclass(frozen=True, slots=True)
class Publish:
    """Make plans the current versions of their workflows, and keep what is said of tasks and pools.

    Attributes:
        pools: all that the looms declare, each with its `loom`; what one declared before and does
            not any more is forgotten. None leaves them as they are.
        schedules: the same for schedules.
    """

    plans: list[dict[str, Any]]
    tasks: list[dict[str, Any]]
    who: str
    pools: list[dict[str, Any]] | None = None
    schedules: list[dict[str, Any]] | None = None


@dataclass(frozen=True, slots=True)
class StartRun:
    """Start a workflow, or a single task.

    Attributes:
        workflow: its name; of a single task the task's.
        task: whether it is a single task.
        start_at: not before that time, in microseconds since 1970 UTC.
        start_in: instead of it, seconds from now.
        start_by: a time after which it is not begun any more.
        planned_at: for when it was planned, where a schedule starts it.
        schedule: that schedule.
        after: the run of whose end it tells.
        reason: why, for the record.
    """

    workflow: str
    params: dict[str, Any]
    key: str
    who: str
    priority: int = 0
    share: str = ""
    tags: tuple[str, ...] = ()
    task: bool = False
    start_at: int | None = None
    start_in: float | None = None
    start_by: int | None = None
    planned_at: str | None = None
    schedule: str | None = None
    after: int | None = None
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Started:
    """Answer to `StartRun`; `created` is False where the start key had made the run before."""

    run: dict[str, Any]
    created: bool


@dataclass(frozen=True, slots=True)
class CheckStarts:
    """Look at some of many starts; the answer is a list for `StartMany`, and nothing changes.

    Attributes:
        first: where they stand in the list of all, for what is said of mistakes.
    """

    starts: tuple[StartRun, ...]
    first: int = 0


@dataclass(frozen=True, slots=True)
class StartMany:
    """Start many runs that were looked at, all or none; for each its number and key."""

    prepared: tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class CancelRun:
    """Tell a run to stop; the answer is the run.

    Attributes:
        now: whether what runs gets no grace. A second cancel means that, too.
    """

    run: int
    who: str
    reason: str = ""
    now: bool = False


@dataclass(frozen=True, slots=True)
class Unfold:
    """Give rows to items of a run that are done and have none; whether more are left.

    Attributes:
        first: the index of the first item that is to have a row.
        last: of the last; None for all, also those that are done later.
    """

    run: int
    first: int = 0
    last: int | None = None


@dataclass(frozen=True, slots=True)
class PauseRun:
    """Begin nothing more of a run, and let what runs stop; the answer is the run."""

    run: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ResumeRun:
    """Let a pausing or paused run go on; the answer is the run."""

    run: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class FailuresOf:
    """Some failures of a run.

    Attributes:
        address: of the step, without the keys of items.
        type: of the error; any, if it is None.
        pattern: of its message, as `failing` makes it; any, if it is None.
    """

    address: str
    type: str | None = None
    pattern: str | None = None


@dataclass(frozen=True, slots=True)
class MendRun:
    """Run again what failed, was cancelled or not reached; the answer is the run.

    Attributes:
        paused: what was decided by hand is met, and nothing begins until someone resumes the run.
        only: the failures to mend; None is all.
    """

    run: int
    who: str
    reason: str = ""
    paused: bool = False
    only: FailuresOf | None = None


@dataclass(frozen=True, slots=True)
class ChangeRun:
    """Change a run that has not begun; what is None stays. The answer is the run.

    Attributes:
        start_at: when it is to begin, in microseconds since 1970 UTC; what has passed is now.
        start_in: the same as so many seconds from now.
        priority: higher comes first.
        tags: all of them.
    """

    run: int
    who: str
    reason: str = ""
    start_at: int | None = None
    start_in: float | None = None
    priority: int | None = None
    tags: list[str] | None = None


@dataclass(frozen=True, slots=True)
class RerunRun:
    """Start a run's workflow or task anew, with its params and what is changed of them.

    The answer is as to `StartRun`.
    """

    run: int
    changes: dict[str, Any]
    key: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class HandleStep:
    """What someone decides about one step; the answer is its run.

    Attributes:
        address: within the run, without attempt, as the plan and the items' keys make it.
        node: the step's index in the plan.
        holder: the row of the part that it stands in; None if that has not begun.
        action: one of `ACTIONS`.
        inputs: of an edit: constants, by the task's input.
        pool: of an edit; empty for none.
        priority: of an edit.
        output: of a supply.
        now: of a cancel: without a grace. A second cancel means that, too.
    """

    run: int
    address: str
    node: int
    holder: int | None
    action: str
    who: str
    reason: str = ""
    inputs: dict[str, Any] | None = None
    pool: str | None = None
    priority: int | None = None
    output: Any = None
    now: bool = False


ACTIONS = ("pause", "resume", "cancel", "retry", "edit", "skip", "supply")
"""What can be done with a step by hand."""


@dataclass(frozen=True, slots=True)
class BeginEffect:
    """An attempt is about to do something outside that must not happen twice.

    The answer is an object with `now`: `go` (do it), `done` (with its `value`), `unsure`, or
    `busy` (another attempt is at it); and the `token` for the outside.

    Attributes:
        what: the task's name for it.
        call: counts the attempt's calls, so that a request sent twice counts once.
        scope: `step` or `run`.
        again: whether it is to be done again where it is unsure.
        is_used: whether the task looks at what it gives.
    """

    worker: str
    attempt: int
    what: str
    call: int
    scope: str = "step"
    again: bool = False
    is_used: bool = True


@dataclass(frozen=True, slots=True)
class EndEffect:
    """What an attempt did outside is done, with a value, or did not happen."""

    worker: str
    attempt: int
    what: str
    done: bool
    value: Any = None
    scope: str = "step"


@dataclass(frozen=True, slots=True)
class SettleEffect:
    """Someone says whether a side effect that is unsure was done.

    Attributes:
        value: what it gave, where it was done.
        valued: whether that was said, also where it is null.
    """

    run: int
    scope: str
    what: str
    done: bool
    who: str
    reason: str = ""
    value: Any = None
    valued: bool = False


@dataclass(frozen=True, slots=True)
class StillRunning:
    """Answer to a command while workers may have begun steps of its run that have no rows yet.

    The engine has asked these workers; give the command again in a moment.
    """

    run: int


@dataclass(frozen=True, slots=True)
class Register:
    """A worker says what it is, what it can run and what it has in hand.

    Attributes:
        tasks: by full name the code hash of each.
        plain_tasks: those that need nothing but their input, so that one can be run right behind
            another without the service.
        offers: by full name its input and output schema; a task without is taken at its word.
        sources: by full name the code, to be kept for whoever asks what ran.
        graces: by full name the seconds that a task needs to hear of a time-out before it comes.
        ahead: how many attempts more than its places it may have in hand, since they begin at once.
        has: what steps can ask for with `only_on`.
        pools: the only pools that it takes from; None for any.
        draining: whether it takes nothing new, and ends.
        until_idle: whether it wants to be told when there is nothing left to do.
        abandoned: attempts whose processes go on although they have ended.
        trouble: why its processes can take nothing.
        service: the service that it was registered with before.
        epoch: of that service's records, as it knows them.
        commits: how many commits of them it has seen.
    """

    worker: str
    name: str
    facts: dict[str, Any]
    places: int
    tasks: dict[str, str]
    in_hand: tuple[int, ...] = ()
    io_places: int = 0
    io_tasks: tuple[str, ...] = ()
    plain_tasks: tuple[str, ...] = ()
    offers: dict[str, dict[str, Any]] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    graces: dict[str, float] = field(default_factory=dict)
    ahead: int = 0
    has: tuple[str, ...] = ()
    pools: tuple[str, ...] | None = None
    draining: bool = False
    until_idle: bool = False
    abandoned: tuple[int, ...] = ()
    trouble: str | None = None
    service: str = ""
    epoch: str = ""
    commits: int = 0


@dataclass(frozen=True, slots=True)
class Ask:
    """A worker's open request: whatever there is for it, now or as soon as there is."""

    worker: str
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None
    ahead: int | None = None
    trouble: str | None = None
    epoch: str | None = None


@dataclass(frozen=True, slots=True)
class CloseAsk:
    """A worker's open request ended without an answer."""

    worker: str


class ReportItem(NamedTuple):
    """What happened to one attempt: it began, or it ended.

    Attributes:
        attempt: its id.
        outcome: how it ended; None when it has only begun.
        output: the task's value, where it is done.
        error: what went wrong, otherwise.
        begun_ago: seconds since the task was called; None when it never was.
        ended_ago: seconds since it ended.
        pid: the process that ran it.
        cpu: processor time that it took, in seconds, where that can be told.
        memory: the peak of its process's memory so far, in bytes.
        after: seconds after which the task asked to be tried again.
        abandoned: whether its process goes on with it: it counts in its pool until it is `freed`.
        saved: all that it saved, where it saved anything: as of `Report.saved`.
    """

    attempt: int
    outcome: str | None = None
    output: Any = None
    error: dict[str, Any] | None = None
    begun_ago: float | None = None
    ended_ago: float = 0.0
    pid: int | None = None
    cpu: float | None = None
    memory: int | None = None
    after: float | None = None
    abandoned: bool = False
    saved: dict[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class Report:
    """A worker tells what happened to its attempts; without items it only renews its lease.

    Attributes:
        freed: abandoned attempts whose process has ended.
        saved: by running attempt all that it saved so far: progress, places in its loops, counts,
            its checkpoint.
    """

    worker: str
    items: tuple[ReportItem, ...] = ()
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None
    ahead: int | None = None
    freed: tuple[int, ...] = ()
    saved: dict[int, dict[str, Any]] = field(default_factory=dict)
    trouble: str | None = None
    epoch: str | None = None


@dataclass(slots=True)
class Reported:
    """Answer to `Report`.

    Attributes:
        refused: for each refused item its attempt and why; all others were accepted.
        messages: work and orders for the worker.
    """

    refused: list[dict[str, Any]] = field(default_factory=list)
    messages: list[dict[str, Any]] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class MakeLink:
    """Let whoever gets the link watch a run for some seconds; the answer is the link.

    Attributes:
        details: also its output and errors as they are, and what its steps are called.
    """

    run: int
    seconds: float
    details: bool
    who: str


@dataclass(frozen=True, slots=True)
class SaveFilter:
    """Keep a filter of the list of runs by name; the answer is the filter.

    Attributes:
        wanted: the query of the list, by the names of its fields.
    """

    name: str
    wanted: dict[str, Any]
    who: str


@dataclass(frozen=True, slots=True)
class DropFilter:
    """Forget a saved filter."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class RevokeLink:
    """End a link before its time; the answer is the link."""

    run: int
    link: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class InHand:
    """Ask which of some attempts a worker has in hand, before anything of them is kept."""

    worker: str
    attempts: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Leave:
    """A worker ends and has nothing in hand any more."""

    worker: str


@dataclass(frozen=True, slots=True)
class LoseWorker:
    """A worker is known to be gone, before its lease ends."""

    worker: str
    why: str


@dataclass(frozen=True, slots=True)
class Tick:
    """Something in the due-queue has fallen due."""


@dataclass(frozen=True, slots=True)
class DrainWorker:
    """Let a worker, given by name or id, take nothing new, and end when it has nothing in hand."""

    worker: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class MakePool:
    """Make a pool; the answer is the pool.

    Attributes:
        changes: `limit`, `rate` (as JSON) and `note`, as far as they are given.
    """

    name: str
    changes: dict[str, Any]
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ChangePool:
    """Change a pool; the answer is the pool.

    Attributes:
        changes: as of `MakePool`.
        paused: True pauses it, False lets it go on.
        as_declared: first forget what was set by hand before.
    """

    name: str
    changes: dict[str, Any]
    who: str
    reason: str = ""
    paused: bool | None = None
    as_declared: bool = False


@dataclass(frozen=True, slots=True)
class RemovePool:
    """Remove a pool that nothing names."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListPools:
    """The pools as they are now, or one of them; the answer is a list."""

    name: str | None = None


@dataclass(frozen=True, slots=True)
class MakeSchedule:
    """Make a schedule by hand; the answer is the schedule.

    Attributes:
        settings: as of `engine.scheduling.SETTINGS`.
        paused: whether it is made paused.
    """

    name: str
    settings: dict[str, Any]
    who: str
    reason: str = ""
    paused: bool = False


@dataclass(frozen=True, slots=True)
class ChangeSchedule:
    """Change a schedule; the answer is the schedule.

    Attributes:
        changes: of its settings.
        paused: True pauses it, False lets it go on.
        as_declared: first forget what was set by hand before.
    """

    name: str
    changes: dict[str, Any]
    who: str
    reason: str = ""
    paused: bool | None = None
    as_declared: bool = False


@dataclass(frozen=True, slots=True)
class RemoveSchedule:
    """Remove a schedule that no loom declares; runs that it started stay."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class StartSchedule:
    """Start what a schedule starts, now; the answer is as to `StartRun`."""

    name: str
    key: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListSchedules:
    """The schedules as they are now, or one of them; the answer is a list."""

    name: str | None = None


@dataclass(frozen=True, slots=True)
class Why:
    """What a run, or a part of it, waits for.

    Attributes:
        rank: where it stands; empty for all of the run.
        item: the row of the item that it stands in; None if it stands in none.
        waiters: attempts in which a task waits for another run, and for which.
        order: whether it is told who comes before, for which all that waits is looked at.
    """

    run: int
    rank: bytes = b""
    item: int | None = None
    waiters: Mapping[int, int] = field(default_factory=dict)
    order: bool = True


@dataclass(frozen=True, slots=True)
class ListQuiet:
    """Return the runs of which something runs that says nothing of its progress for too long."""


@dataclass(frozen=True, slots=True)
class Recently:
    """The last hour by minute: what began and ended, or with a pool how full that was."""

    pool: str | None = None


@dataclass(frozen=True, slots=True)
class ListWorkers:
    """The workers as they are now; the answer is a list."""


Command = (
    Publish
    | StartRun
    | CheckStarts
    | StartMany
    | KeepFile
    | KeepRows
    | EndChore
    | CancelRun
    | PauseRun
    | Unfold
    | ResumeRun
    | MendRun
    | ChangeRun
    | RerunRun
    | HandleStep
    | BeginEffect
    | EndEffect
    | SettleEffect
    | Register
    | Ask
    | CloseAsk
    | Report
    | MakeLink
    | RevokeLink
    | SaveFilter
    | DropFilter
    | InHand
    | Leave
    | LoseWorker
    | Tick
    | ListWorkers
    | DrainWorker
    | MakePool
    | ChangePool
    | RemovePool
    | ListPools
    | MakeSchedule
    | ChangeSchedule
    | RemoveSchedule
    | StartSchedule
    | ListSchedules
    | Why
    | ListQuiet
    | Recently
)
