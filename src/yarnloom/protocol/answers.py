"""What answers hold, for OpenAPI and for whoever reads it."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

JsonObject = dict[str, Any]


class StartedOne(BaseModel):
    """A run of many that were started together."""

    number: int
    key: str
    created: bool = Field(description="False where the start key had made the run before.")


class StartedMany(BaseModel):
    """The runs of many starts, in their order."""

    runs: list[StartedOne]
    created: int = Field(description="How many of them were made now.")


class Progress(BaseModel):
    """How far a run is."""

    fraction: float | None = Field(
        description="Of its time, from 0 to 1; null until known. It never falls within a round."
    )
    text: str = Field(description="Of the innermost part that moves: `255 of 5,000 sacks`.")
    address: str = Field(description="Of that part.")
    done: float | None
    total: float | None
    per_second: float | None
    seconds_left: float | None = Field(description="Until the run's end; null if not known.")
    at_least: bool = Field(description="Whether it has steps of which no attempt was ever seen.")


class Counts(BaseModel):
    """The parts of a run's plan by state."""

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


class RunAnswer(BaseModel):
    """A run."""

    number: int
    workflow: str
    task: str | None
    version: str
    state: Literal[
        "scheduled",
        "queued",
        "running",
        "pausing",
        "paused",
        "cancelling",
        "done",
        "failed",
        "cancelled",
    ]
    outcome: Literal["done", "failed", "cancelled", "skipped"] | None = Field(
        description="Decided when the plan has ended; the state follows with the follow-ups."
    )
    stop_asked: str | None
    params: JsonObject
    output: Any
    output_left_out: bool = Field(description="Whether the output is too large to be shown whole.")
    error: JsonObject | None
    failures_allowed: int = Field(description="Items that failed and were allowed to.")
    followups_failed: int = Field(description="Follow-ups that failed, as things stand now.")
    attempts: int = Field(description="Handed out so far.")
    progress: Progress
    counts: Counts
    priority: int
    share: str | None
    tags: list[str]
    key: str
    started_by: str
    round: int
    created_at: str
    start_at: str | None = Field(description="Not before that time.")
    start_by: str | None = Field(description="It is not begun after that time.")
    planned_at: str | None = Field(description="For when its schedule planned it.")
    schedule: str | None = Field(description="The schedule that started it.")
    after: int | None = Field(description="The run of whose end it tells.")
    deadline_at: str | None
    entered: bool = Field(description="False while it waits for other runs of its workflow.")
    paused_at: str | None = Field(description="Since when nothing of it executes, if paused.")
    started_at: str | None
    ended_at: str | None


class CheckAnswer(BaseModel):
    """How far the rows of a file are checked."""

    param: str = Field(description="The param's JSON Pointer.")
    file: JsonObject
    rows: int
    read: int = Field(description="Bytes read so far.")
    size: int = Field(description="Bytes of the file.")


class CheckingAnswer(BaseModel):
    """Nothing was started yet: send the same start again."""

    checking: list[CheckAnswer]


class RunList(BaseModel):
    """Runs, newest first; `next` is the cursor of the following page."""

    runs: list[RunAnswer]
    next: str | None


class AttemptTimes(BaseModel):
    """When an attempt could begin, began and ended, and on which worker."""

    id: int
    address: str = Field(description="Of its step.")
    task: str
    number: int
    round: int
    outcome: str | None
    worker: str
    pool: str | None
    ready_at: str = Field(description="Since when it could have begun.")
    pool_until: str | None = Field(description="Until then its pool let nothing begin.")
    handed_at: str
    begun_at: str | None
    ended_at: str | None
    guess: bool = Field(
        description="It counts as lost, and nobody can tell whether it had begun at all."
    )


class AttemptList(BaseModel):
    """A page of a run's attempts."""

    attempts: list[AttemptTimes]
    next: str | None


class FailureKind(BaseModel):
    """Failures of one task that are alike, but for numbers and quoted names."""

    task: str
    address: str = Field(description="Of the first step, without the keys of items.")
    addresses: list[str] = Field(description="Of all such steps, without the keys of items.")
    type: str = Field(description="Of the error.")
    pattern: str = Field(description="Its message, with … for what differs.")
    said: str = Field(description="The message where all have the same, else the pattern.")
    number: int
    in_items: bool = Field(description="Whether the first is inside an each.")
    first: str = Field(description="The address of the first, in plan order.")
    first_at: str = Field(description="When the earliest ended.")


class FailuresAnswer(BaseModel):
    """What failed in a run, the most frequent kind first."""

    failed: int = Field(description="Failed steps that were looked at.")
    more: bool = Field(description="Whether there are more than were looked at.")
    kinds: list[FailureKind]
    steps: list[str] = Field(description="Addresses of the first failed steps, in plan order.")


class TimesRow(BaseModel):
    """A step or an each, over all items; times in seconds."""

    address: str = Field(description="Without the keys of items.")
    label: str
    kind: str
    depth: int = Field(description="The number of eaches around it.")
    attempts: int
    failed: int
    longest: float
    ran: float = Field(description="All attempts together.")
    waited: dict[str, float] = Field(description="All together, by what for.")
    running: list[float] = Field(description="By slice how many ran at once, on the average.")
    failing: list[float] = Field(description="By slice the share of ended attempts that failed.")
    waiting: dict[str, list[float]] = Field(
        description="By what for, and by slice, how many waited, on the average."
    )


class Outliers(BaseModel):
    """Attempts of a step, or of all steps in an each, that stand out."""

    slowest: list[AttemptTimes] = Field(description="Those that ran longest, the longest first.")
    failed: list[AttemptTimes] = Field(description="The first that failed.")


class TimesAnswer(BaseModel):
    """Where the time of a run went."""

    from_: str | None = Field(alias="from")
    to: str | None
    slices: int
    attempts: int
    rows: list[TimesRow]


class ReasonAnswer(BaseModel):
    """Why something does not run: a word for programs, words for people, and what belongs to it."""

    model_config = ConfigDict(extra="allow")

    kind: str
    text: str


class WaitAnswer(BaseModel):
    """A step that has not ended, or a part that has not begun."""

    model_config = ConfigDict(extra="allow")

    address: str
    state: str
    reasons: list[ReasonAnswer]


class WhyAnswer(BaseModel):
    """What a run waits for."""

    run: int
    workflow: str
    state: str
    reasons: list[ReasonAnswer] = Field(description="What holds for the whole run.")
    waits: list[WaitAnswer] = Field(description="Up to 50, in plan order.")
    more: bool = Field(description="Whether there are more.")


class LinkAnswer(BaseModel):
    """A link, without what it takes to use it."""

    id: int
    run: int
    details: bool = Field(description="Whether it shows output, errors, and names of steps.")
    made_at: str
    made_by: str
    expires_at: str
    revoked_at: str | None
    revoked_by: str | None


class MadeLink(LinkAnswer):
    """A link that was made: its token is told only now."""

    token: str
    path: str = Field(description="For a browser's EventSource.")


class LinkList(BaseModel):
    """Links to a run, newest first."""

    links: list[LinkAnswer]
    next: str | None


class LinkedRun(BaseModel):
    """A run as a link shows it; with details also the rest of a run's fields."""

    model_config = ConfigDict(extra="allow")

    number: int
    state: str
    message: str = Field(description="How it is, in words for an end user.")
    progress: Progress
    created_at: str
    started_at: str | None
    ended_at: str | None


class ProblemAnswer(BaseModel):
    """RFC 9457 problem details."""

    type: str
    title: str
    status: int
    detail: str
    problems: list[dict[str, Any]] | None = Field(
        None,
        description="One entry for each bad input: JSON Pointer and what is wrong; of a file's "
        "rows also the line and column.",
    )
