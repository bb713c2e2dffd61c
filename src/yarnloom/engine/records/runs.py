"""Runs: their facts and progress, links to them, commands for them, the ledger."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.unreadable import Unreadable
from yarnloom.engine.rules.states import Outcome, PartState, RunState, StopReason
from yarnloom.values import JsonValue


@dataclass(frozen=True, slots=True)
class Counts:
    """The children of a part by state. Items in which no step has begun wait."""

    total: int
    waiting: int
    ready: int
    running: int
    backing_off: int
    resting: int
    paused: int
    done: int
    failed: int
    cancelled: int
    skipped: int


@dataclass(frozen=True, slots=True)
class RunProgress:
    """How far a run is, in numbers and in words.

    Attributes:
        fraction: of its time, from 0 to 1; None until known.
        text: of the innermost part that moves.
        address: of that part.
        done: what of that part is done, of `total`.
        per_second: of `done`.
        seconds_left: until the run's end; None if not known.
        at_least: whether it has steps of which no attempt was ever seen.
    """

    fraction: float | None
    text: str
    address: str
    done: float | None
    total: float | None
    per_second: float | None
    seconds_left: float | None
    at_least: bool


@dataclass(frozen=True, slots=True)
class RunRecord:
    """A run."""

    number: int
    workflow: str
    task: str | None
    version: str
    state: RunState
    outcome: PartState | None
    stop_asked: StopReason | None
    params: JsonValue
    output: JsonValue
    output_left_out: bool
    error: StepError | None
    failures_allowed: int
    followups_failed: int
    attempts: int
    progress: RunProgress
    counts: Counts
    priority: int
    share: str | None
    tags: list[str]
    key: str
    started_by: str
    round: int
    created_at: int
    start_at: int | None
    start_by: int | None
    planned_at: str | None
    schedule: str | None
    after: int | None
    deadline_at: int | None
    entered: bool
    paused_at: int | None
    started_at: int | None
    ended_at: int | None


@dataclass(frozen=True, slots=True)
class RunPage:
    """A page of the list of runs."""

    runs: list[RunRecord | Unreadable]
    next: int | None


@dataclass(frozen=True, slots=True)
class StartedOne:
    """A run of many that were started together."""

    number: int
    key: str
    created: bool


@dataclass(frozen=True, slots=True)
class LinkRecord:
    """A link, without what it takes to use it."""

    id: int
    run: int
    details: bool
    made_at: int
    made_by: str
    expires_at: int
    revoked_at: int | None
    revoked_by: str | None


@dataclass(frozen=True, slots=True)
class CommandRecord:
    """One entry of the command log; `run` and `id` are left out in the log of one run."""

    at: int
    who: str
    what: str
    reason: str
    detail: JsonValue


@dataclass(frozen=True, slots=True)
class RunCommandRecord(CommandRecord):
    """One entry of the log of all commands."""

    run: int | None


@dataclass(frozen=True, slots=True)
class EffectRecord:
    """One entry of the ledger. One that an ended attempt began is unsure."""

    what: str
    address: str
    state: str
    attempt: int
    token: str
    value: JsonValue
    begun_at: int
    done_at: int | None
    by: str | None
    is_used: bool
    used_at: int | None


@dataclass(frozen=True, slots=True)
class SettledEffect:
    """What was decided about an unsure entry of the ledger."""

    effect: str
    state: str


@dataclass(frozen=True, slots=True)
class FailureKind:
    """Failures of one task that are alike, but for numbers and quoted names."""

    task: str
    address: str
    addresses: list[str]
    type: str
    pattern: str
    said: str
    number: int
    in_items: bool
    first: str
    first_at: int


@dataclass(frozen=True, slots=True)
class FailuresRecord:
    """What failed in a run, the most frequent kind first."""

    failed: int
    more: bool
    kinds: list[FailureKind]
    steps: list[str]


@dataclass(frozen=True, slots=True)
class AttemptTimes:
    """When an attempt could begin, began and ended, and on which worker."""

    id: int
    address: str
    task: str
    number: int
    round: int
    outcome: Outcome | None
    worker: str
    pool: str | None
    ready_at: int
    pool_until: int | None
    handed_at: int
    begun_at: int | None
    ended_at: int | None
    guess: bool


@dataclass(frozen=True, slots=True)
class AttemptPage:
    """A page of a run's attempts."""

    attempts: list[AttemptTimes]
    next: str | None


@dataclass(frozen=True, slots=True)
class Outliers:
    """Attempts of a step, or of all steps in an each, that stand out."""

    slowest: list[AttemptTimes]
    failed: list[AttemptTimes]


@dataclass(frozen=True, slots=True)
class TimesRow:
    """A step or an each, over all items; times in seconds."""

    address: str
    label: str
    kind: str
    depth: int
    attempts: int
    failed: int
    longest: float
    ran: float
    waited: dict[str, float]
    running: list[float]
    failing: list[float]
    waiting: dict[str, list[float]]


@dataclass(frozen=True, slots=True)
class TimesRecord:
    """Where the time of a run went."""

    from_: int | None
    to: int | None
    slices: int
    attempts: int
    rows: list[TimesRow]
