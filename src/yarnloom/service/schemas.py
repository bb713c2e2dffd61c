"""What requests carry and answers hold, for checking and for OpenAPI."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, model_validator

from yarnloom.engine.states import RunState

JsonObject = dict[str, Any]
Number = Annotated[int, Field(ge=1, le=2**53)]
Name = Annotated[str, Field(min_length=1, max_length=201)]
Word = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,49}$")]
Tags = Annotated[list[Annotated[str, Field(max_length=100)]], Field(max_length=20)]
LONGEST = 315_360_000.0
"""Ten years, in seconds."""
Trouble = Annotated[
    str | None, Field(max_length=20_000, description="Why its processes can take nothing.")
]
Who = Annotated[str, Field(max_length=200)]


class Strict(BaseModel):
    """A request body: a field that is not known is a mistake."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class StartBody(Strict):
    """Start a workflow, or a single task."""

    workflow: Name | None = Field(
        None, description="Full name `loom/workflow`, or the short one if unique."
    )
    task: Name | None = Field(
        None, description="Instead of a workflow: a task, whose inputs are the params."
    )
    params: JsonObject = Field(default_factory=dict)
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = Field(
        None, description="Start key: starting twice with one makes one run."
    )
    priority: Annotated[int, Field(ge=-1000, le=1000)] = 0
    share: Annotated[str, Field(max_length=200)] = Field(
        "", description="Whom fair turns are counted for; the run itself unless given."
    )
    tags: Tags = Field(default_factory=list)
    start_at: AwareDatetime | None = Field(
        None, description="Not before that time, RFC 3339 with an offset."
    )
    start_in: Annotated[float, Field(ge=0, le=LONGEST)] | None = Field(
        None, description="Instead of it: seconds from now, by the service's clock."
    )
    start_by: AwareDatetime | None = Field(
        None, description="It is not begun after that time, but ends cancelled as expired."
    )

    @model_validator(mode="after")
    def one_of_both(self) -> StartBody:
        """Either is started, never both."""
        if (self.workflow is None) == (self.task is None):
            raise ValueError("expected either workflow or task")
        if self.start_at is not None and self.start_in is not None:
            raise ValueError("expected either start_at or start_in")
        return self


class StartManyBody(Strict):
    """Many starts in one transaction: all, or none."""

    starts: Annotated[list[StartBody], Field(min_length=1, max_length=10_000)]


class StartedOne(BaseModel):
    """A run of many that were started together."""

    number: int
    key: str
    created: bool = Field(description="False where the start key had made the run before.")


class StartedMany(BaseModel):
    """The runs of many starts, in their order."""

    runs: list[StartedOne]
    created: int = Field(description="How many of them were made now.")


class ScheduleSettings(Strict):
    """What can be set of a schedule; what is not given stays as it is, or is as the default."""

    workflow: Name = Field("", description="Full name `loom/workflow`, or the short one.")
    params: JsonObject = Field(default_factory=dict)
    cron: Annotated[str, Field(max_length=200)] = Field(
        "", description="Five fields: minute, hour, day of month, month, day of week."
    )
    zone: Annotated[str, Field(max_length=100)] = Field("UTC", description="An IANA name.")
    if_busy: Annotated[str, Field(max_length=20)] = Field(
        "wait",
        description="What becomes of a time that comes while an earlier run of the schedule is "
        "under way: wait (one at most), skip, replace, or start beside it.",
    )
    missed: Annotated[str, Field(max_length=20)] = Field(
        "one",
        description="Which times that were missed are caught up with: one (the newest), all (the "
        "newest 100), none.",
    )
    priority: Annotated[int, Field(ge=-1000, le=1000)] = 0
    share: Annotated[str, Field(max_length=200)] = ""
    tags: Tags = Field(default_factory=list)
    note: Annotated[str, Field(max_length=500)] = ""
    reason: Annotated[str, Field(max_length=2_000)] = Field("", description="For the record.")


class MakeScheduleBody(ScheduleSettings):
    """A schedule that is made by hand."""

    name: Annotated[str, Field(min_length=1, max_length=100)]
    paused: bool = False


class ChangeScheduleBody(ScheduleSettings):
    """What is changed of a schedule."""

    paused: bool | None = Field(None, description="True pauses it, false lets it go on.")
    as_declared: bool = Field(False, description="First forget what was set by hand before.")


class StartScheduleBody(Strict):
    """Start what a schedule starts, now."""

    reason: Annotated[str, Field(max_length=2_000)] = ""
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = None


class ReasonBody(Strict):
    """Why a command is given."""

    reason: Annotated[str, Field(max_length=2_000)] = ""


class RerunBody(ReasonBody):
    """What is changed where a run is started anew."""

    params: JsonObject = Field(default_factory=dict, description="In place of the run's own.")
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = None


class StepBody(ReasonBody):
    """What is decided about a step."""

    inputs: JsonObject | None = Field(None, description="Of an edit: constants, by input.")
    pool: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Of an edit; empty for none."
    )
    priority: Annotated[int, Field(ge=-1000, le=1000)] | None = None
    output: Any = Field(None, description="Of a supply.")


class SettleBody(ReasonBody):
    """Whether something unsure was done."""

    what: Annotated[str, Field(min_length=1, max_length=200)]
    address: Annotated[str, Field(max_length=2_000)] = Field(
        "", description="The step's, within the run; empty where the entry is the run's."
    )
    done: bool
    value: Any = None


class BulkBody(ReasonBody):
    """The same command for many runs."""

    action: Literal["pause", "resume", "cancel", "mend"]
    states: Annotated[list[RunState], Field(max_length=9)] = Field(default_factory=list)
    workflow: Annotated[str, Field(max_length=201)] | None = None
    tag: Annotated[str, Field(max_length=100)] | None = None
    key: Annotated[str, Field(max_length=200)] | None = None
    schedule: Annotated[str, Field(max_length=100)] | None = None
    who: Annotated[str, Field(max_length=200)] | None = None
    since: AwareDatetime | None = None
    until: AwareDatetime | None = None
    text: Annotated[str, Field(max_length=200)] | None = None
    count: Annotated[int, Field(ge=0)] | None = Field(
        None, description="How many they are. Without it nothing is done, and the count is told."
    )


class LinkBody(Strict):
    """How long a link to a run holds."""

    seconds: Annotated[float, Field(gt=0, le=31_622_400)] = 3_600.0


class RateBody(Strict):
    """How many attempts may begin in a time."""

    count: Annotated[int, Field(ge=1, le=100_000)]
    per: Annotated[float, Field(gt=0, le=31_622_400)] = Field(1.0, description="Seconds.")


class PoolSettings(Strict):
    """What can be set of a pool; null is no limit, what is not given stays as it is."""

    limit: Annotated[int, Field(ge=0, le=1_000_000)] | None = Field(
        None, description="Attempts at once; 0 halts."
    )
    rate: RateBody | None = None
    note: Annotated[str, Field(max_length=500)] = ""
    reason: Annotated[str, Field(max_length=2_000)] = Field("", description="For the record.")


class MakePoolBody(PoolSettings):
    """A pool that is made by hand."""

    name: Annotated[str, Field(min_length=1, max_length=100)]


class ChangePoolBody(PoolSettings):
    """What is changed of a pool."""

    paused: bool | None = Field(None, description="True pauses it, false lets it go on.")
    as_declared: bool = Field(False, description="First forget what was set by hand before.")


class PublishBody(Strict):
    """What a loom declares."""

    plans: Annotated[list[JsonObject], Field(max_length=1_000)]
    tasks: Annotated[list[JsonObject], Field(max_length=10_000)] = Field(default_factory=list)
    pools: Annotated[list[JsonObject], Field(max_length=1_000)] | None = Field(
        None, description="All that the looms declare, each with its `loom`; else as before."
    )
    schedules: Annotated[list[JsonObject], Field(max_length=1_000)] | None = Field(
        None, description="The same for schedules."
    )


class TokenBody(Strict):
    """The service's token, as typed by a viewer of the console."""

    token: Annotated[str, Field(max_length=1_000)]


class Offer(Strict):
    """A task as a worker has it."""

    code_hash: Annotated[str, Field(max_length=100)]
    input: JsonObject | None = Field(None, description="JSON Schema of its inputs.")
    output: JsonObject | None = Field(None, description="JSON Schema of what it returns.")
    source: Annotated[str, Field(max_length=200_000)] = Field("", description="The code.")


class RegisterBody(Strict):
    """A worker says what it is."""

    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")]
    name: Annotated[str, Field(max_length=100)]
    facts: JsonObject = Field(default_factory=dict, description="Host, pid and the like.")
    places: Annotated[int, Field(ge=0, le=100_000)]
    io_places: Annotated[int, Field(ge=0, le=100_000)] = 0
    tasks: dict[str, str | Offer] = Field(
        description="Full task names, each with its code hash, or that and its types."
    )
    io_tasks: list[str] = Field(
        default_factory=list, description="Those of them that have the io places."
    )
    in_hand: list[int] = Field(default_factory=list, description="Attempts it is running.")
    ahead: Annotated[int, Field(ge=0, le=100_000)] = Field(
        0, description="Attempts over its places that it may hold, since they begin at once."
    )
    has: Annotated[list[Word], Field(max_length=100)] = Field(
        default_factory=list, description="What steps can ask for with `only_on`."
    )
    pools: list[Name] | None = Field(None, description="Takes from these only; null takes all.")
    draining: bool = Field(False, description="Takes nothing new, and ends.")
    until_idle: bool = Field(False, description="To be told when nothing is left to do.")
    abandoned: list[int] = Field(
        default_factory=list, description="Ended attempts whose processes go on."
    )
    trouble: Trouble = None


class FromWorker(Strict):
    """What every request of a worker carries."""

    received: list[int] = Field(
        default_factory=list, description="Serial numbers of messages that have arrived."
    )
    places: Annotated[int, Field(ge=0, le=100_000)] | None = None
    io_places: Annotated[int, Field(ge=0, le=100_000)] | None = None
    ahead: Annotated[int, Field(ge=0, le=100_000)] | None = None
    trouble: Trouble = None


class AskBody(FromWorker):
    """The open request."""


class ItemBody(Strict):
    """What happened to one attempt."""

    attempt: int
    outcome: (
        Literal[
            "done",
            "failed",
            "refused",
            "lost",
            "stopped",
            "handed_back",
            "called_again",
            "cancelled",
        ]
        | None
    ) = None
    output: Any = None
    error: JsonObject | None = None
    begun_ago: Annotated[float, Field(ge=0)] | None = None
    ended_ago: Annotated[float, Field(ge=0)] = 0.0
    pid: int | None = None
    cpu: Annotated[float, Field(ge=0)] | None = None
    memory: Annotated[int, Field(ge=0)] | None = None
    after: Annotated[float, Field(ge=0, le=31_622_400)] | None = Field(
        None, description="Seconds after which the task asked to be tried, or called, again."
    )
    saved: JsonObject | None = Field(None, description="All that it saved.")
    abandoned: bool = Field(False, description="Its process goes on with it: see `freed`.")


class LogBody(Strict):
    """Lines that an attempt printed."""

    attempt: int
    first: Annotated[int, Field(ge=0)] = Field(description="How many lines came before these.")
    lines: list[JsonObject]


class ReportBody(FromWorker):
    """What happened to a worker's attempts, and what they printed."""

    items: list[ItemBody] = Field(default_factory=list)
    logs: list[LogBody] = Field(default_factory=list)
    freed: list[int] = Field(
        default_factory=list, description="Abandoned attempts whose processes have ended."
    )
    saved: dict[int, JsonObject] = Field(
        default_factory=dict, description="By running attempt all that it saved so far."
    )


class EffectBody(Strict):
    """A side effect, as an attempt names it."""

    attempt: int
    what: Annotated[str, Field(min_length=1, max_length=200)]
    scope: Literal["step", "run"] = "step"


class BeginEffectBody(EffectBody):
    """A side effect is about to begin."""

    call: Annotated[int, Field(ge=0)] = Field(description="Counts the attempt's calls.")
    again: bool = Field(False, description="Begin it also where it is unsure.")


class EndEffectBody(EffectBody):
    """A side effect was done, or did not happen."""

    done: bool
    value: Any = None


class Progress(BaseModel):
    """How far a run is: the parts of its plan by state."""

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
    attempts: int = Field(description="Handed out so far.")
    progress: Progress
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
