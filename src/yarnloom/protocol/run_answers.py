"""Answers about runs."""

from __future__ import annotations

from typing import Literal

from pydantic import AliasChoices, ConfigDict, Field

from yarnloom.protocol.answer_fields import Answer, Cursor, Moment, OrUnreadable
from yarnloom.values import JsonObject, JsonValue

RunStateWord = Literal[
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


StepStateWord = Literal[
    "waiting",
    "ready",
    "running",
    "backing_off",
    "resting",
    "paused",
    "done",
    "failed",
    "cancelled",
    "skipped",
]
SkipWord = Literal["only_if", "not_reached", "stopped", "gone", "by_hand", "not_chosen"]


class StartedOne(Answer):
    """A run of many that were started together."""

    number: int
    key: str
    created: bool = Field(description="False where the start key had made the run before.")


class StartedMany(Answer):
    """The runs of many starts, in their order."""

    runs: list[StartedOne]
    created: int = Field(description="How many of them were made now.")


class RunProgress(Answer):
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


class Counts(Answer):
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


class Fault(Answer):
    """Why a step, part or attempt has failed."""

    model_config = ConfigDict(extra="allow")

    type: str = Field("", description="The error's class.")
    message: str = ""
    traceback: str = ""
    no_more_tries: str = Field("", description="Why it is not tried again.")
    step: str = Field("", description="Of a part: address of the step that failed first.")
    task: str | None = Field(None, description="The task of that step.")
    attempts: int = Field(0, description="How many attempts that step had.")


class RunAnswer(Answer):
    """A run."""

    number: int
    workflow: str
    task: str | None
    version: str
    state: RunStateWord
    outcome: Literal["done", "failed", "cancelled", "skipped"] | None = Field(
        description="Decided when the plan has ended; the state follows with the follow-ups."
    )
    stop_asked: str | None
    params: JsonObject
    output: JsonValue
    output_left_out: bool = Field(description="Whether the output is too large to be shown whole.")
    error: Fault | None
    failures_allowed: int = Field(description="Items that failed and were allowed to.")
    followups_failed: int = Field(description="Follow-ups that failed, as things stand now.")
    attempts: int = Field(description="Handed out so far.")
    progress: RunProgress
    counts: Counts
    priority: int
    share: str | None
    tags: list[str]
    key: str
    started_by: str
    round: int
    created_at: Moment
    start_at: Moment | None = Field(description="Not before that time.")
    start_by: Moment | None = Field(description="It is not begun after that time.")
    planned_at: Moment | None = Field(description="For when its schedule planned it.")
    schedule: str | None = Field(description="The schedule that started it.")
    after: int | None = Field(description="The run of whose end it tells.")
    deadline_at: Moment | None
    entered: bool = Field(description="False while it waits for other runs of its workflow.")
    paused_at: Moment | None = Field(description="Since when nothing of it executes, if paused.")
    started_at: Moment | None
    ended_at: Moment | None


class RowsFile(Answer):
    """A file of rows, or a list, as params name it."""

    model_config = ConfigDict(extra="allow")

    name: str = ""


class CheckAnswer(Answer):
    """How far the rows of a file are checked."""

    param: str = Field(description="The param's JSON Pointer.")
    file: RowsFile
    rows: int
    read: int = Field(description="Bytes read so far.")
    size: int = Field(description="Bytes of the file.")


class CheckingAnswer(Answer):
    """Nothing was started yet: send the same start again."""

    checking: list[CheckAnswer]


class RunList(Answer):
    """Runs, newest first; `next` is the cursor of the following page."""

    runs: list[OrUnreadable[RunAnswer]]
    next: Cursor | None


class AttemptTimes(Answer):
    """When an attempt could begin, began and ended, and on which worker."""

    id: int
    address: str = Field(description="Of its step.")
    task: str
    number: int
    round: int
    outcome: str | None
    worker: str
    pool: str | None
    ready_at: Moment = Field(description="Since when it could have begun.")
    pool_until: Moment | None = Field(description="Until then its pool let nothing begin.")
    handed_at: Moment
    begun_at: Moment | None
    ended_at: Moment | None
    guess: bool = Field(
        description="It counts as lost, and nobody can tell whether it had begun at all."
    )


class AttemptList(Answer):
    """A page of a run's attempts."""

    attempts: list[AttemptTimes]
    next: str | None


class FailureKind(Answer):
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
    first_at: Moment = Field(description="When the earliest ended.")


class FailuresAnswer(Answer):
    """What failed in a run, the most frequent kind first."""

    failed: int = Field(description="Failed steps that were looked at.")
    more: bool = Field(description="Whether there are more than were looked at.")
    kinds: list[FailureKind]
    steps: list[str] = Field(description="Addresses of the first failed steps, in plan order.")


class Waited(Answer):
    """Seconds, by what for."""

    pool: float
    worker: float
    back_off: float
    rest: float


class Waiting(Answer):
    """How many waited in each slice, by what for; left out where none did."""

    pool: list[float] = Field(default_factory=list)
    worker: list[float] = Field(default_factory=list)
    back_off: list[float] = Field(default_factory=list)
    rest: list[float] = Field(default_factory=list)


class TimesRow(Answer):
    """A step or an each, over all items; times in seconds."""

    address: str = Field(description="Without the keys of items.")
    label: str
    kind: Literal["step", "each"]
    depth: int = Field(description="The number of eaches around it.")
    attempts: int
    failed: int
    longest: float
    ran: float = Field(description="All attempts together.")
    waited: Waited = Field(description="All together, by what for.")
    running: list[float] = Field(description="By slice how many ran at once, on the average.")
    failing: list[float] = Field(description="By slice the share of ended attempts that failed.")
    waiting: Waiting = Field(
        description="By what for, and by slice, how many waited, on the average."
    )


class Outliers(Answer):
    """Attempts of a step, or of all steps in an each, that stand out."""

    slowest: list[AttemptTimes] = Field(description="Those that ran longest, the longest first.")
    failed: list[AttemptTimes] = Field(description="The first that failed.")


class TimesAnswer(Answer):
    """Where the time of a run went."""

    from_: Moment | None = Field(alias="from", validation_alias=AliasChoices("from", "from_"))
    to: Moment | None
    slices: int
    attempts: int
    rows: list[TimesRow]


class ReasonAnswer(Answer):
    """Why something does not run: a word for programs, words for people, and what belongs to it."""

    model_config = ConfigDict(extra="allow")

    kind: str
    text: str


class WaitAnswer(Answer):
    """A step that has not ended, or a part that has not begun."""

    address: str
    state: StepStateWord
    reasons: list[ReasonAnswer]
    begun_at: Moment | None = Field(None, description="Of a step that runs.")
    deadline_at: Moment | None = Field(None, description="Of a step that has a deadline.")
    last_line_at: Moment | None = Field(
        None, description="Of a step that runs: when its newest line arrived."
    )


class WhyAnswer(Answer):
    """What a run waits for."""

    run: int
    workflow: str
    state: RunStateWord
    reasons: list[ReasonAnswer] = Field(description="What holds for the whole run.")
    waits: list[WaitAnswer] = Field(description="Up to 50, in plan order.")
    more: bool = Field(description="Whether there are more.")


class LinkAnswer(Answer):
    """A link, without what it takes to use it."""

    id: int
    run: int
    details: bool = Field(description="Whether it shows output, errors, and names of steps.")
    made_at: Moment
    made_by: str
    expires_at: Moment
    revoked_at: Moment | None
    revoked_by: str | None


class MadeLink(LinkAnswer):
    """A link that was made: its token is told only now."""

    token: str
    address: str = Field(description="Of a page that shows the run; its secret is in the fragment.")
    path: str = Field(description="Of the events, for a browser's EventSource.")


class LinkList(Answer):
    """Links to a run, newest first."""

    links: list[LinkAnswer]
    next: str | None


class LinkedStep(Answer):
    """A step of a run, or an each of it, as a link with details shows it."""

    address: str
    state: str


class LinkedRun(Answer):
    """A run as a link shows it; the last seven fields only with details."""

    number: int
    state: RunStateWord
    message: str = Field(description="How it is, in words for an end user.")
    progress: RunProgress
    created_at: Moment
    started_at: Moment | None
    ended_at: Moment | None
    workflow: str = ""
    outcome: str | None = None
    stop_asked: str | None = None
    output: JsonValue = None
    error: Fault | None = None
    round: int = 1
    steps: list[LinkedStep] = Field(
        default_factory=list, description="In the order of the plan, the first 200."
    )


class ProblemAnswer(Answer):
    """RFC 9457 problem details."""

    type: str
    title: str
    status: int
    detail: str
    problems: list[JsonObject] | None = Field(
        None,
        description="One entry for each bad input: JSON Pointer and what is wrong; of a file's "
        "rows also the line and column.",
    )


class CommandAnswer(Answer):
    """One entry of the command log of a run."""

    at: Moment
    who: str
    what: str
    reason: str
    detail: JsonObject


class RunCommandAnswer(CommandAnswer):
    """One entry of the command log of all runs."""

    run: int | None


class RunCommands(Answer):
    """Who gave which command for a run, when and why."""

    commands: list[OrUnreadable[CommandAnswer]]


class CommandList(Answer):
    """Commands for all runs, newest first; `next` is the cursor of the following page."""

    commands: list[OrUnreadable[RunCommandAnswer]]
    next: Cursor | None


class EffectAnswer(Answer):
    """One entry of the ledger."""

    what: str
    address: str = Field(description="Of the step that uses it; empty for the whole run.")
    state: Literal["begun", "done", "not done", "unsure"]
    attempt: int
    token: str
    value: JsonValue
    begun_at: Moment
    done_at: Moment | None
    by: str | None = Field(description="Who decided about it, if somebody did.")
    is_used: bool
    used_at: Moment | None


class LedgerAnswer(Answer):
    """The side effects that a run has begun and done."""

    effects: list[OrUnreadable[EffectAnswer]]
    unsure: int = Field(description="Of how many nobody knows whether they happened.")


class SettledAnswer(Answer):
    """What was decided about an unsure entry of the ledger."""

    effect: str
    state: str


class RefusedRun(Answer):
    """A run for which a command was refused, and why."""

    run: int
    why: str


class BulkAnswer(Answer):
    """What came of a command for many runs."""

    count: int = Field(description="How many runs match.")
    done: list[int]
    refused: list[RefusedRun]
