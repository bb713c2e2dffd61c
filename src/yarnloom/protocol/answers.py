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

    fraction: float = Field(description="Of its time, from 0 to 1, by its newest done runs.")
    text: str = Field(description="Of the innermost part that moves: `255 of 5,000 sacks`.")
    address: str = Field(description="Of that part.")
    done: float | None
    total: float | None
    per_second: float | None
    seconds_left: float | None = Field(description="Until the run's end; null if none can be told.")


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


class RateAnswer(BaseModel):
    """How many attempts may begin in so many seconds."""

    count: int
    per: float


class Pause(BaseModel):
    """Who paused a pool, when and why."""

    by: str
    at: str
    reason: str


class PoolUser(BaseModel):
    """A run that uses a pool."""

    run: int
    attempts: int


class PoolValue(BaseModel):
    """One value of a pool with `per`, which has the limit for itself."""

    value: str
    in_use: int
    waiting: int


class PoolDeclared(BaseModel):
    """What a loom says of a pool."""

    loom: str
    limit: int | None
    rate: RateAnswer | None
    note: str


class SavedFilter(BaseModel):
    """A filter of the list of runs, kept by name."""

    name: str
    wanted: JsonObject = Field(description="Which runs, as it was saved.")
    saved_at: str
    saved_by: str


class FilterList(BaseModel):
    """All saved filters, by name."""

    filters: list[SavedFilter]


class RunCounts(BaseModel):
    """How many runs are in each state."""

    counts: dict[str, int]
    more: list[str] = Field(description="States of which there are more than are counted.")


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


class AttemptList(BaseModel):
    """A page of a run's attempts."""

    attempts: list[AttemptTimes]
    next: str | None


class RunLine(BaseModel):
    """A line that a step of a run printed, logged or published."""

    mark: str = Field(description="The place behind it, to go on from.")
    address: str = Field(description="Of its step within the run.")
    attempt: int = Field(description="The attempt's number.")
    line: int = Field(description="Its index among the attempt's lines.")
    at: str | None = None
    stream: str | None = Field(None, description="stdout, stderr, log or published.")
    level: str | None = None
    logger: str | None = None
    text: str


class LineList(BaseModel):
    """A page of a run's log."""

    lines: list[RunLine]
    next: str | None = Field(description="Behind these, or before the newest; null at the end.")
    end: str = Field(description="Behind all that was looked through.")


class FailureKind(BaseModel):
    """Failures of one step that are alike, but for numbers and quoted names."""

    address: str = Field(description="Of the step, without the keys of items.")
    type: str = Field(description="Of the error.")
    pattern: str = Field(description="Its message, with … for what differs.")
    said: str = Field(description="The message where all have the same, else the pattern.")
    number: int
    in_items: bool = Field(description="Whether the step is inside an each.")
    first: str = Field(description="The address of the first, in plan order.")
    first_at: str = Field(description="When the earliest ended.")


class FailuresAnswer(BaseModel):
    """What failed in a run, the most frequent kind first."""

    failed: int = Field(description="Failed steps that were looked at.")
    more: bool = Field(description="Whether there are more than were looked at.")
    kinds: list[FailureKind]
    steps: list[str] = Field(description="Addresses of the first failed steps, in plan order.")


class Went(BaseModel):
    """How many ended how, and how long they took, in seconds; null where none did."""

    ended: int
    outcomes: dict[str, int]
    failure_rate: float | None
    median: float | None = Field(description="Of those that are done or failed, within 5%.")
    p95: float | None = Field(description="95 of 100 took no longer.")
    waited: float | None = Field(description="Until they began, on the average.")


class DayWent(Went):
    """The runs of a workflow on one day."""

    day: str


class StepWent(Went):
    """The attempts of a step."""

    address: str


class OverTimeAnswer(BaseModel):
    """How a workflow went over some days."""

    workflow: str
    days: list[DayWent]
    steps: list[StepWent]


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


class GlancePiece(BaseModel):
    """A part of the line, and the step that it is about; empty for the run."""

    what: Literal["progress", "moving", "running", "failed", "held", "left"]
    text: str
    address: str


class Hold(BaseModel):
    """The step with the longest queue, and why it waits."""

    address: str = Field(description="Of the step, without the keys of items; empty for the run.")
    waiting: int
    text: str
    reason: dict[str, Any] = Field(description="As `why` gives it.")


class GlanceAnswer(BaseModel):
    """A run on one line."""

    text: str
    pieces: list[GlancePiece]
    held: Hold | None


class MinuteAnswer(BaseModel):
    """What happened in one minute."""

    at: str
    begun: int = Field(description="Attempts that began.")
    waited: float = Field(description="How long these had been ready, together, in seconds.")
    longest: float = Field(description="How long the one had that had waited the longest.")
    ended: int
    failed: int = Field(description="Of those that ended: failed or lost.")


class StuckRun(BaseModel):
    """A run that does not go on by itself."""

    run: int
    workflow: str
    state: str
    since: str = Field(description="When it was started.")
    reasons: list[str]


class OverviewAnswer(BaseModel):
    """What is going on."""

    minutes: list[MinuteAnswer] = Field(description="The last hour, oldest first.")
    stuck: list[StuckRun]
    looked_at: int = Field(description="How many runs were asked, the oldest, why they wait.")


class LevelAnswer(BaseModel):
    """How full a pool was in one minute."""

    at: str
    in_use: int = Field(description="At most.")
    waiting: int = Field(description="At most.")
    limit: int | None


class PoolWaits(BaseModel):
    """A run that waits for a pool."""

    run: int
    steps: int
    since: str


class PoolUse(BaseModel):
    """How a pool was used within the last hour, and who waits for it."""

    minutes: list[LevelAnswer] = Field(description="Since it was first looked at.")
    waits: list[PoolWaits]


class PoolAnswer(BaseModel):
    """A pool as it is now."""

    name: str
    as_of: str = Field(description="When it was so.")
    limit: int | None
    rate: RateAnswer | None
    note: str
    paused: Pause | None
    in_use: int = Field(description="Attempts that were handed out and have not ended.")
    waiting: int = Field(description="Steps that could run.")
    begun_last_minute: int
    used_by: list[PoolUser] = Field(description="The runs that use it most.")
    runs: int = Field(description="How many runs use it.")
    values: list[PoolValue] = Field(description="With `per`: the values that are used most.")
    by_hand: JsonObject = Field(description="Which settings were set by hand.")
    declared: list[PoolDeclared]


class PoolList(BaseModel):
    """Every pool, by name."""

    pools: list[PoolAnswer]


class LastTime(BaseModel):
    """What came of the newest planned time of a schedule."""

    planned_at: str
    result: Literal["started", "failed", "passed_over"]
    run: int | None
    why: str
    state: str | None = Field(description="Of its run, now.")


class ScheduleAnswer(BaseModel):
    """A schedule as it is now."""

    name: str
    loom: str | None = Field(description="That declares it; null where it was made by hand.")
    workflow: str
    params: JsonObject
    cron: str
    zone: str
    if_busy: Literal["wait", "skip", "replace", "start"]
    missed: Literal["one", "all", "none"]
    priority: int
    share: str
    tags: list[str]
    note: str
    paused: Pause | None
    next_at: str | None = Field(description="The next planned time, in its zone; null if paused.")
    next_times: list[str] = Field(description="The next five; of a paused one as if it were not.")
    waiting_at: str | None = Field(description="A time that waits for an earlier run's end.")
    running: list[int] = Field(description="Its runs that have not ended.")
    last: LastTime | None
    passed_over: int = Field(description="At how many times nothing was started.")
    by_hand: JsonObject = Field(description="Which settings were changed by hand.")
    created_at: str
    created_by: str


class ScheduleList(BaseModel):
    """Every schedule, by name."""

    schedules: list[ScheduleAnswer]


class NextTimes(BaseModel):
    """When a cron expression comes true next."""

    cron: str
    zone: str
    times: list[str] = Field(description="RFC 3339, with the zone's offset.")


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
