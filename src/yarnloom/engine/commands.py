"""What can be submitted to the engine, and what it answers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Publish:
    """Make plans the current versions of their workflows, and keep what is said of tasks and pools.

    Attributes:
        pools: all that the looms declare, each with its `loom`; what one declared before and does
            not any more is forgotten. None leaves them as they are.
    """

    plans: list[dict[str, Any]]
    tasks: list[dict[str, Any]]
    who: str
    pools: list[dict[str, Any]] | None = None


@dataclass(frozen=True, slots=True)
class StartRun:
    """Start a workflow, or a single task.

    Attributes:
        workflow: its name; of a single task the task's.
        task: whether it is a single task.
    """

    workflow: str
    params: dict[str, Any]
    key: str
    who: str
    priority: int = 0
    share: str = ""
    tags: tuple[str, ...] = ()
    task: bool = False


@dataclass(frozen=True, slots=True)
class Started:
    """Answer to `StartRun`; `created` is False where the start key had made the run before."""

    run: dict[str, Any]
    created: bool


@dataclass(frozen=True, slots=True)
class CancelRun:
    """Tell a run to stop; the answer is the run."""

    run: int
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Register:
    """A worker says what it is, what it can run and what it has in hand.

    Attributes:
        tasks: by full name the code hash of each.
        offers: by full name its input and output schema; a task without is taken at its word.
        sources: by full name the code, to be kept for whoever asks what ran.
        ahead: how many attempts more than its places it may have in hand, since they begin at once.
        has: what steps can ask for with `only_on`.
        pools: the only pools that it takes from; None for any.
        draining: whether it takes nothing new, and ends.
        until_idle: whether it wants to be told when there is nothing left to do.
        abandoned: attempts whose processes go on although they have ended.
    """

    worker: str
    name: str
    facts: dict[str, Any]
    places: int
    tasks: dict[str, str]
    in_hand: tuple[int, ...] = ()
    io_places: int = 0
    io_tasks: tuple[str, ...] = ()
    offers: dict[str, dict[str, Any]] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    ahead: int = 0
    has: tuple[str, ...] = ()
    pools: tuple[str, ...] | None = None
    draining: bool = False
    until_idle: bool = False
    abandoned: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Ask:
    """A worker's open request: whatever there is for it, now or as soon as there is."""

    worker: str
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None
    ahead: int | None = None


@dataclass(frozen=True, slots=True)
class CloseAsk:
    """A worker's open request ended without an answer."""

    worker: str


@dataclass(frozen=True, slots=True)
class ReportItem:
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


@dataclass(frozen=True, slots=True)
class Report:
    """A worker tells what happened to its attempts; without items it only renews its lease.

    Attributes:
        freed: abandoned attempts whose process has ended.
    """

    worker: str
    items: tuple[ReportItem, ...] = ()
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None
    ahead: int | None = None
    freed: tuple[int, ...] = ()


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
class Why:
    """What a run, or a part of it, waits for.

    Attributes:
        rank: where it stands; empty for all of the run.
        item: the row of the item that it stands in; None if it stands in none.
    """

    run: int
    rank: bytes = b""
    item: int | None = None


@dataclass(frozen=True, slots=True)
class ListWorkers:
    """The workers as they are now; the answer is a list."""


Command = (
    Publish
    | StartRun
    | CancelRun
    | Register
    | Ask
    | CloseAsk
    | Report
    | Leave
    | LoseWorker
    | Tick
    | ListWorkers
    | DrainWorker
    | MakePool
    | ChangePool
    | RemovePool
    | ListPools
    | Why
)
