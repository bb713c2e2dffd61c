"""What requests carry: one model for each body, checked as it comes in.

Nothing is converted on the way: `true` is no number and `"5"` is none either. A field that is not
known is a mistake. Values are held to the limits of `yarnloom.values`.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    model_validator,
)

from yarnloom.engine.rules.states import RunState
from yarnloom.units import seconds
from yarnloom.values import PLAN_DEPTH, depth_problem


def _not_too_deep(limit: int) -> AfterValidator:
    def check(value: Any) -> Any:
        if problem := depth_problem(value, limit):
            raise ValueError(f"{problem.message}: see {problem.where}")
        return value

    return AfterValidator(check)


def _is_text(value: Any) -> Any:
    if isinstance(value, str | datetime):
        return value
    raise ValueError("expected text as 2027-03-01T07:30:00Z")


def _within_calendar(value: datetime) -> datetime:
    if FIRST_YEAR <= value.year <= LAST_YEAR:
        return value
    raise ValueError(f"expected a year from {FIRST_YEAR} to {LAST_YEAR}")


def _is_span(value: str) -> str:
    seconds(value)
    return value


FIRST_YEAR, LAST_YEAR = 1970, 9998
"""Beyond them an offset can lead out of the calendar."""

Time = Annotated[AwareDatetime, BeforeValidator(_is_text), AfterValidator(_within_calendar)]
"""RFC 3339 with an offset."""

Span = Annotated[str, Field(max_length=50), AfterValidator(_is_span)]
"""A duration as text."""

FilterName = Annotated[str, Field(pattern=r"^\w[\w .-]{0,59}$")]
"""The name of a saved filter."""

Value = Annotated[Any, _not_too_deep(64)]
"""Any JSON value, as deep as a value may be."""

JsonObject = Annotated[dict[str, Any], _not_too_deep(64)]
"""An object of them: one level more."""

PlanDocument = Annotated[dict[str, Any], _not_too_deep(PLAN_DEPTH)]
Reported = dict[str, Any]
"""An object in a report: it is looked at on its own, so that the others are taken in."""

Integer = Annotated[int, Field(strict=True)]
Real = Annotated[float, Field(strict=True)]
Truth = Annotated[bool, Field(strict=True)]
Id = Annotated[int, Field(strict=True, ge=1, le=2**53)]
"""The number of an attempt or a message."""

AttemptKey = Annotated[int, Field(ge=1, le=2**53)]
"""The same as the key of an object, which is a text."""

Ids = Annotated[list[Id], Field(max_length=100_000)]
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
    priority: Annotated[int, Field(strict=True, ge=-1000, le=1000)] = 0
    share: Annotated[str, Field(max_length=200)] = Field(
        "", description="Whom fair turns are counted for; the run itself unless given."
    )
    tags: Tags = Field(default_factory=list)
    start_at: Time | None = Field(
        None, description="Not before that time, RFC 3339 with an offset."
    )
    start_in: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = Field(
        None, description="Instead of it: seconds from now, by the service's clock."
    )
    start_by: Time | None = Field(
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
    priority: Annotated[int, Field(strict=True, ge=-1000, le=1000)] = 0
    share: Annotated[str, Field(max_length=200)] = ""
    tags: Tags = Field(default_factory=list)
    note: Annotated[str, Field(max_length=500)] = ""
    reason: Annotated[str, Field(max_length=2_000)] = Field("", description="For the record.")


class MakeScheduleBody(ScheduleSettings):
    """A schedule that is made by hand."""

    name: Annotated[str, Field(min_length=1, max_length=100)]
    paused: Truth = False


class ChangeScheduleBody(ScheduleSettings):
    """What is changed of a schedule."""

    paused: Truth | None = Field(None, description="True pauses it, false lets it go on.")
    as_declared: Truth = Field(False, description="First forget what was set by hand before.")


class StartScheduleBody(Strict):
    """Start what a schedule starts, now."""

    reason: Annotated[str, Field(max_length=2_000)] = ""
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = None


class ReasonBody(Strict):
    """Why a command is given."""

    reason: Annotated[str, Field(max_length=2_000)] = ""


class CancelBody(ReasonBody):
    """How a run is told to stop."""

    now: Truth = Field(False, description="What runs gets no grace.")


class FailuresBody(Strict):
    """Some failures of a run, as `GET /runs/{number}/failures` gives their kinds."""

    address: str = Field(max_length=2_000, description="Of the step, without the keys of items.")
    type: str | None = Field(None, max_length=200, description="Of the error; else any.")
    pattern: str | None = Field(None, max_length=100_000, description="Of its message; else any.")


class MendBody(ReasonBody):
    """How an ended run is mended."""

    paused: Truth = Field(
        False, description="Only what was decided by hand is met; the rest waits for a resume."
    )
    only: FailuresBody | None = Field(None, description="The failures to mend; else all.")


class ChangeBody(ReasonBody):
    """What is changed of a run that has not begun; what is not given stays."""

    start_at: Time | None = Field(
        None, description="When it is to begin; a time that has passed is now."
    )
    start_in: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = Field(
        None, description="Instead of it: seconds from now, 0 is now."
    )
    priority: Annotated[int, Field(strict=True, ge=-1000, le=1000)] | None = None
    tags: Tags | None = Field(None, description="All of them, in place of those it has.")

    @model_validator(mode="after")
    def says_something(self) -> ChangeBody:
        """Something is changed, and the time is given once."""
        if self.start_at is not None and self.start_in is not None:
            raise ValueError("expected either start_at or start_in")
        given = (self.start_at, self.start_in, self.priority, self.tags)
        if all(one is None for one in given):
            raise ValueError("expected start_at, start_in, priority or tags")
        return self


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
    priority: Annotated[int, Field(strict=True, ge=-1000, le=1000)] | None = None
    output: Value = Field(None, description="Of a supply.")
    now: Truth = Field(False, description="Of a cancel: without a grace.")


class SettleBody(ReasonBody):
    """Whether something unsure was done."""

    what: Annotated[str, Field(min_length=1, max_length=200)]
    address: Annotated[str, Field(max_length=2_000)] = Field(
        "", description="The step's, within the run; empty where the entry is the run's."
    )
    done: Truth
    value: Value = Field(
        None, description="What it gave; needed where it was done and the step uses that."
    )


class RunsWanted(Strict):
    """Which runs a list shows; a field that is not given allows any."""

    states: Annotated[list[RunState], Field(max_length=9)] = Field(default_factory=list)
    workflow: Annotated[str, Field(max_length=201)] | None = None
    tag: Annotated[str, Field(max_length=100)] | None = None
    key: Annotated[str, Field(max_length=200)] | None = None
    schedule: Annotated[str, Field(max_length=100)] | None = None
    who: Annotated[str, Field(max_length=200)] | None = None
    since: Time | None = None
    until: Time | None = None
    within: Span | None = Field(None, description="Started so long ago or later: 24h, 7d.")
    text: Annotated[str, Field(max_length=200)] | None = None
    followups_failed: Truth = False
    without_reports: Truth = False

    @property
    def given(self) -> dict[str, Any]:
        """The fields that are given, as JSON."""
        return self.model_dump(mode="json", exclude_defaults=True, include=set(WANTED))


WANTED = tuple(RunsWanted.model_fields)


class BulkBody(ReasonBody, RunsWanted):
    """The same command for many runs."""

    action: Literal["pause", "resume", "cancel", "mend"]
    now: Truth = Field(False, description="Of a cancel: what runs gets no grace.")
    paused: Truth = Field(False, description="Of a mend: nothing begins until a resume.")
    saved: FilterName | None = Field(None, description="A saved filter; other fields count more.")
    count: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = Field(
        None, description="How many they are. Without it nothing is done, and the count is told."
    )


class LinkBody(Strict):
    """How long a link to a run holds."""

    seconds: Annotated[float, Field(strict=True, gt=0, le=31_622_400)] = 3_600.0
    details: Truth = Field(
        False, description="Also its output and errors as they are, and what its steps are called."
    )


class RateBody(Strict):
    """How many attempts may begin in a time."""

    count: Annotated[int, Field(strict=True, ge=1, le=100_000)]
    per: Annotated[float, Field(strict=True, gt=0, le=31_622_400)] = Field(
        1.0, description="Seconds."
    )


class PoolSettings(Strict):
    """What can be set of a pool; null is no limit, what is not given stays as it is."""

    limit: Annotated[int, Field(strict=True, ge=0, le=1_000_000)] | None = Field(
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

    paused: Truth | None = Field(None, description="True pauses it, false lets it go on.")
    as_declared: Truth = Field(False, description="First forget what was set by hand before.")


class ToldBody(Strict):
    """Of which ends of runs a task is told."""

    states: Annotated[list[Literal["done", "failed", "cancelled"]], Field(max_length=3)]
    workflows: Annotated[list[Name], Field(max_length=1_000)]


class TaskBody(BaseModel):
    """A task as its loom declares it."""

    # What a newer loom adds is kept, and shown.
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)

    name: Annotated[str, Field(pattern=r"^[^/]{1,100}/[^/]{1,100}$")] = Field(
        description="Full name, `loom/task`."
    )
    code_hash: Annotated[str, Field(min_length=1, max_length=100)]
    input: JsonObject = Field(description="JSON Schema of its inputs, an object by input name.")
    output: JsonObject = Field(description="JSON Schema of what it returns.")
    source: Annotated[str, Field(max_length=200_000)] = Field("", description="The code.")
    on_run_end: ToldBody | None = Field(None, description="Of which runs' ends it is told.")

    @model_validator(mode="before")
    @classmethod
    def not_too_deep(cls, facts: Any) -> Any:
        """Hold also what is not known here to the depth of a value."""
        if problem := depth_problem(facts):
            raise ValueError(f"{problem.message}: see {problem.where}")
        return facts


class PublishBody(Strict):
    """What a loom declares."""

    plans: Annotated[list[PlanDocument], Field(max_length=1_000)]
    tasks: Annotated[list[TaskBody], Field(max_length=10_000)] = Field(default_factory=list)
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
    grace: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = Field(
        0.0, description="Seconds that it needs to hear of a time-out before it has come."
    )


class RegisterBody(Strict):
    """A worker says what it is."""

    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")]
    name: Annotated[str, Field(max_length=100)]
    facts: JsonObject = Field(default_factory=dict, description="Host, pid and the like.")
    places: Annotated[int, Field(strict=True, ge=0, le=100_000)]
    io_places: Annotated[int, Field(strict=True, ge=0, le=100_000)] = 0
    tasks: dict[str, str | Offer] = Field(
        description="Full task names, each with its code hash, or that and its types."
    )
    io_tasks: list[str] = Field(
        default_factory=list, description="Those of them that have the io places."
    )
    plain_tasks: list[str] = Field(
        default_factory=list, description="Those of them that need nothing but their input."
    )
    in_hand: Ids = Field(default_factory=list, description="Attempts it is running.")
    ahead: Annotated[int, Field(strict=True, ge=0, le=100_000)] = Field(
        0, description="Attempts over its places that it may hold, since they begin at once."
    )
    has: Annotated[list[Word], Field(max_length=100)] = Field(
        default_factory=list, description="What steps can ask for with `only_on`."
    )
    pools: list[Name] | None = Field(None, description="Takes from these only; null takes all.")
    draining: Truth = Field(False, description="Takes nothing new, and ends.")
    until_idle: Truth = Field(False, description="To be told when nothing is left to do.")
    abandoned: Ids = Field(
        default_factory=list, description="Ended attempts whose processes go on."
    )
    trouble: Trouble = None
    service: Annotated[str, Field(max_length=100)] = Field(
        "", description="The service that it was registered with before."
    )
    epoch: Annotated[str, Field(max_length=100)] = Field(
        "", description="Of that service's records, as they were then."
    )
    commits: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        0, description="The newest commit of them that it has seen."
    )


class FromWorker(Strict):
    """What every request of a worker carries."""

    epoch: Annotated[str, Field(max_length=100)] = Field(
        description="As the registration was answered: in which its attempts were given out."
    )

    received: Ids = Field(
        default_factory=list, description="Serial numbers of messages that have arrived."
    )
    places: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    io_places: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    ahead: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    trouble: Trouble = None


class AskBody(FromWorker):
    """The open request."""


class ItemBody(Strict):
    """What happened to one attempt."""

    attempt: Id
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
    error: Reported | None = None
    begun_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    ended_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = 0.0
    pid: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    cpu: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    memory: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    after: Annotated[float, Field(strict=True, ge=0, le=31_622_400)] | None = Field(
        None, description="Seconds after which the task asked to be tried, or called, again."
    )
    saved: Reported | None = Field(None, description="All that it saved.")
    abandoned: Truth = Field(False, description="Its process goes on with it: see `freed`.")


Ago = Annotated[float, Field(strict=True, ge=0, le=LONGEST)]
Natural = Annotated[int, Field(strict=True, ge=0, le=2**53)]


class DoneBody(Strict):
    """Attempts that are done, with nothing special about them: an entry for each in every list."""

    attempts: Ids
    outputs: list[Any]
    begun_ago: list[Ago]
    ended_ago: list[Ago]
    pids: list[Natural | None]
    cpu: list[Ago | None]
    memory: list[Natural | None]

    @model_validator(mode="after")
    def _are_of_one_length(self) -> DoneBody:
        lengths = {name: len(getattr(self, name)) for name in type(self).model_fields}
        if len(set(lengths.values())) > 1:
            found = ", ".join(f"{name} {length}" for name, length in lengths.items())
            raise ValueError(f"every list has an entry for each attempt; found {found}")
        return self


class LogBody(Strict):
    """Lines that an attempt printed."""

    attempt: Id
    first: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        description="How many lines came before these."
    )
    lines: Annotated[list[Reported], Field(max_length=100_000)]


class ReportBody(FromWorker):
    """What happened to a worker's attempts, and what they printed."""

    items: list[ItemBody] = Field(default_factory=list)
    done: DoneBody | None = None
    logs: list[LogBody] = Field(default_factory=list)
    freed: Ids = Field(
        default_factory=list, description="Abandoned attempts whose processes have ended."
    )
    saved: dict[AttemptKey, Reported] = Field(
        default_factory=dict, description="By running attempt all that it saved so far."
    )


class EffectBody(Strict):
    """A side effect, as an attempt names it."""

    attempt: Id
    what: Annotated[str, Field(min_length=1, max_length=200)]
    scope: Literal["step", "run"] = "step"


class BeginEffectBody(EffectBody):
    """A side effect is about to begin."""

    call: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        description="Counts the attempt's calls."
    )
    again: Truth = Field(False, description="Begin it also where it is unsure.")
    is_used: Truth = Field(True, description="Whether the task looks at what it gives.")


class EndEffectBody(EffectBody):
    """A side effect was done, or did not happen."""

    done: Truth
    value: Value = None
