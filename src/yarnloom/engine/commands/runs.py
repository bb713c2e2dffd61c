"""Starting runs, and what is decided about a whole run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yarnloom.engine.commands.command import Command
from yarnloom.engine.records.runs import RunRecord
from yarnloom.values import JsonObject


@dataclass(frozen=True, slots=True)
class StartRun(Command):
    """Start a workflow, or a single task.

    Attributes:
        target: the workflow or task, by its full name or a short one.
        start_at: not before that time, in microseconds since 1970 UTC.
        start_in: instead of it, seconds from now.
        start_by: a time after which it is not begun any more.
        planned_at: for when it was planned, where a schedule starts it.
        schedule: that schedule.
        after: the run of whose end it tells.
        reason: why, for the record.
        keywords: options that were given among named inputs: none may be an input, too.
        within: patterns that limit what the caller may start; empty for all.
    """

    target: str
    params: JsonObject
    key: str
    who: str
    priority: int = 0
    share: str = ""
    tags: tuple[str, ...] = ()
    start_at: int | None = None
    start_in: float | None = None
    start_by: int | None = None
    planned_at: str | None = None
    schedule: str | None = None
    after: int | None = None
    reason: str = ""
    keywords: tuple[str, ...] = ()
    within: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Started:
    """Answer to `StartRun`; `created` is False where the start key had made the run before."""

    run: RunRecord
    created: bool


@dataclass(frozen=True, slots=True)
class CheckStarts(Command):
    """Look at some of many starts; the answer is a list for `StartMany`, and nothing changes.

    Attributes:
        first: where they stand in the list of all, for what is said of mistakes.
    """

    starts: tuple[StartRun, ...]
    first: int = 0


@dataclass(frozen=True, slots=True)
class StartMany(Command):
    """Start many runs that were looked at, all or none; for each its number and key."""

    is_large = True

    prepared: tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class CancelRun(Command):
    """Tell a run to stop; the answer is the run.

    Attributes:
        now: whether what runs gets no grace. A second cancel means that, too.
    """

    is_large = True
    changes_run = True

    run: int
    who: str
    reason: str = ""
    now: bool = False


@dataclass(frozen=True, slots=True)
class PauseRun(Command):
    """Begin nothing more of a run, and let what runs stop; the answer is the run."""

    is_large = True
    changes_run = True

    run: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ResumeRun(Command):
    """Let a pausing or paused run go on; the answer is the run."""

    is_large = True
    changes_run = True

    run: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class FailuresOf:
    """Some failures of a run.

    Attributes:
        address: of the step, without the keys of items; empty for any step of the task.
        type: of the error; any, if it is None.
        pattern: of its message, as `failure_kinds` makes it; any, if it is None.
        task: of the steps; any, if it is None.
    """

    address: str = ""
    type: str | None = None
    pattern: str | None = None
    task: str | None = None


@dataclass(frozen=True, slots=True)
class MendRun(Command):
    """Run again what failed, was cancelled or not reached; the answer is the run.

    Attributes:
        paused: what was decided by hand is met, and nothing begins until someone resumes the run.
        only: the failures to mend; None is all.
    """

    is_large = True
    changes_run = True
    reads_ended_steps = True

    run: int
    who: str
    reason: str = ""
    paused: bool = False
    only: FailuresOf | None = None


@dataclass(frozen=True, slots=True)
class ChangeRun(Command):
    """Change a run that has not begun; what is None stays. The answer is the run.

    Attributes:
        start_at: when it is to begin, in microseconds since 1970 UTC; what has passed is now.
        start_in: the same as so many seconds from now.
        priority: higher comes first.
        tags: all of them.
    """

    changes_run = True

    run: int
    who: str
    reason: str = ""
    start_at: int | None = None
    start_in: float | None = None
    priority: int | None = None
    tags: list[str] | None = None


@dataclass(frozen=True, slots=True)
class RerunRun(Command):
    """Start a run's workflow or task anew, with its params and what is changed of them.

    The answer is as to `StartRun`.
    """

    run: int
    changes: JsonObject
    key: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class StillRunning:
    """Answer to a command while workers may have begun steps of its run that have no rows yet.

    The engine has asked these workers; give the command again in a moment.
    """

    run: int
