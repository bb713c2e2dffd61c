"""What can be submitted to the engine, and what it answers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Publish:
    """Make plans the current versions of their workflows, and keep what is said of tasks."""

    plans: list[dict[str, Any]]
    tasks: list[dict[str, Any]]
    who: str


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


@dataclass(frozen=True, slots=True)
class Ask:
    """A worker's open request: whatever there is for it, now or as soon as there is."""

    worker: str
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None


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


@dataclass(frozen=True, slots=True)
class Report:
    """A worker tells what happened to its attempts; without items it only renews its lease."""

    worker: str
    items: tuple[ReportItem, ...] = ()
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None


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
)
