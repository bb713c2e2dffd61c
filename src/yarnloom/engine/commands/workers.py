"""Messages of workers, and commands about workers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from yarnloom.engine.commands.command import Command
from yarnloom.engine.records.errors import StepError
from yarnloom.values import JsonObject, JsonValue


@dataclass(frozen=True, slots=True)
class Register(Command):
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

    is_large = True
    changes_sessions = True

    worker: str
    name: str
    facts: JsonObject
    places: int
    tasks: dict[str, str]
    in_hand: tuple[int, ...] = ()
    io_places: int = 0
    io_tasks: tuple[str, ...] = ()
    plain_tasks: tuple[str, ...] = ()
    offers: dict[str, JsonObject] = field(default_factory=dict)
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
class Poll(Command):
    """A worker's open request: whatever there is for it, now or as soon as there is."""

    worker: str
    received: tuple[int, ...] = ()
    places: int | None = None
    io_places: int | None = None
    ahead: int | None = None
    trouble: str | None = None
    epoch: str | None = None


@dataclass(frozen=True, slots=True)
class ClosePoll(Command):
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
    output: JsonValue = None
    error: StepError | None = None
    begun_ago: float | None = None
    ended_ago: float = 0.0
    pid: int | None = None
    cpu: float | None = None
    memory: int | None = None
    after: float | None = None
    abandoned: bool = False
    saved: JsonObject | None = None


@dataclass(frozen=True, slots=True)
class Report(Command):
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
    saved: dict[int, JsonObject] = field(default_factory=dict)
    trouble: str | None = None
    epoch: str | None = None


@dataclass(slots=True)
class Reported:
    """Answer to `Report`.

    Attributes:
        refused: for each refused item its attempt and why; all others were accepted.
        messages: work and orders for the worker.
    """

    refused: list[JsonObject] = field(default_factory=list)
    messages: list[JsonObject] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class InHand(Command):
    """Ask which of some attempts a worker has in hand, before anything of them is kept."""

    worker: str
    attempts: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class LeaveService(Command):
    """A worker ends and has nothing in hand any more."""

    changes_sessions = True

    worker: str


@dataclass(frozen=True, slots=True)
class LoseWorker(Command):
    """A worker is known to be gone, before its lease ends.

    Attributes:
        begun: when its processes began attempts, in microseconds since 1970 UTC; None where nobody
            can tell.
    """

    is_large = True
    changes_sessions = True

    worker: str
    why: str
    begun: Mapping[int, int] | None = None


@dataclass(frozen=True, slots=True)
class BeginAttempt(Command):
    """An attempt begins that must be known to have begun before it does anything."""

    worker: str
    attempt: int


@dataclass(frozen=True, slots=True)
class DrainWorker(Command):
    """Let a worker, given by name or id, take nothing new, and end when it has nothing in hand."""

    worker: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class ListWorkers(Command):
    """The workers as they are now; the answer is a list."""

    is_query = True
