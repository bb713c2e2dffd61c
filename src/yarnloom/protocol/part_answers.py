"""Answers about what is in a run: its parts as a tree, steps, items, attempts."""

from __future__ import annotations

from typing import Literal

from pydantic import AliasChoices, ConfigDict, Field

from yarnloom.protocol.answer_fields import Answer, Moment, OrUnreadable
from yarnloom.protocol.run_answers import CommandAnswer, Counts, EffectAnswer, RunAnswer
from yarnloom.values import JsonObject, JsonValue

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
SkipWord = Literal["only_if", "not_reached", "stopped", "gone", "by_hand"]


class ErrorAnswer(Answer):
    """Why a step, part or attempt has failed."""

    model_config = ConfigDict(extra="allow")

    type: str = Field("", description="The error's class.")
    message: str = ""
    traceback: str = ""
    no_more_tries: str = Field("", description="Why it is not tried again.")
    step: str = Field("", description="Of a part: address of the step that failed first.")
    task: str | None = Field(None, description="The task of that step.")
    attempts: int = Field(0, description="How many attempts that step had.")


class StepProgress(Answer):
    """How far a step is by its own account."""

    done: float | None
    total: float | None
    unit: str
    note: str
    rate: float | None = Field(description="Of `done`, a second.")
    seconds_left: float | None
    added: int
    skipped: int


class Bar(Answer):
    """How many attempts took from so many seconds to so many."""

    from_: float = Field(alias="from", validation_alias=AliasChoices("from", "from_"))
    to: float
    number: int


class Took(Answer):
    """How long attempts took, in seconds."""

    median: float = Field(description="Within five percent.")
    longest: float
    ended: int
    histogram: list[Bar]


class ItemAnswer(Answer):
    """An item of an each; one that was not made has only its state and reason."""

    item: int
    name: str
    address: str
    value: JsonValue
    state: StepStateWord
    skip_reason: SkipWord | None
    outcome: str | None = None
    closed: str | None = None
    error: ErrorAnswer | None = None
    fraction: float | None = None
    counts: Counts | None = None
    started_at: Moment | None = None
    ended_at: Moment | None = None


class PastProgress(Answer):
    """How far a run was at a moment."""

    fraction: float | None
    seconds_left: float | None
    at_least: bool


class PartAnswer(Answer):
    """A part of a plan with what is in it.

    Fields of other kinds of parts are left out; so are those of its state in a plan without a run
    and inside an each, where `counts` and `took` say how its steps are over all items.
    """

    kind: Literal["step", "sequence", "parallel", "each"]
    label: str = Field(description="Of an item its key.")
    address: str
    # Of the plan
    only_if: JsonObject | None = None
    waits_for: list[str] = Field(default_factory=list)
    task: str = ""
    inputs: dict[str, JsonObject] = Field(default_factory=dict, description="Their sources.")
    rules: JsonObject = Field(default_factory=dict)
    if_one_fails: Literal["stop", "finish"] = "stop"
    over: JsonObject | None = None
    at_once: int | None = None
    batch: int | None = None
    may_fail: str | None = Field(None, description="How many items, or a percentage.")
    # Of its state
    state: StepStateWord | None = None
    skip_reason: SkipWord | None = None
    begun: bool = Field(False, description="Of a follow-up.")
    error: ErrorAnswer | None = None
    fraction: float | None = None
    started_at: Moment | None = None
    ended_at: Moment | None = None
    outcome: str | None = Field(None, description="Decided before its follow-ups end.")
    closed: str | None = Field(None, description="Of a part in which no more begins: why.")
    counts: Counts | None = None
    top: list[ItemAnswer] = Field(
        default_factory=list, description="Of an each: failed items, and those that run longest."
    )
    took: Took | None = None
    stop_asked: str | None = None
    paused_by_hand: bool = False
    supplied: bool = Field(False, description="Its output was given by hand.")
    progress: StepProgress | PastProgress | None = None
    worker: str | None = None
    attempts: int = 0
    tries: int = 0
    losses: int = 0
    pool: str | None = None
    priority: int = 0
    due_at: Moment | None = None
    deadline_at: Moment | None = None
    ready_at: Moment | None = None
    # What is in it
    do: PartAnswer | None = Field(None, description="Of an each what it repeats.")
    parts: list[PartAnswer] = Field(default_factory=list)
    follow_ups: dict[str, PartAnswer] = Field(default_factory=dict)


class AttemptAnswer(Answer):
    """One attempt of a step."""

    id: int
    number: int
    tries: int
    round: int
    state: str
    outcome: str | None
    error: ErrorAnswer | None
    worker: str
    abandoned: bool = Field(description="Its process goes on with it.")
    pid: int | None
    cpu_seconds: float | None
    memory_bytes: int | None
    code_hash: str
    ready_at: Moment
    handed_at: Moment
    begun_at: Moment | None
    ended_at: Moment | None


class Decided(Answer):
    """What people decided about a step: it holds when the step begins, or begins again."""

    inputs: JsonValue
    pool: str | None
    priority: int | None
    end: str | None
    output: JsonValue


class StepAnswer(PartAnswer):
    """A step with its values and attempts."""

    input: JsonValue
    output: JsonValue
    attempts: list[AttemptAnswer]  # type: ignore[assignment]  # the list in place of their number
    folded: int = Field(description="How many attempts are left out.")
    decided: Decided | None


class StepList(Answer):
    """The steps of a run, or of one item."""

    steps: list[PartAnswer]


class ItemList(Answer):
    """A page of the items of an each."""

    items: list[OrUnreadable[ItemAnswer]]
    next: str | None


class ExportedItem(Answer):
    """An item with its outcome and output, as it is exported."""

    value: JsonValue
    item: int
    name: str
    address: str
    state: str
    reason: str | None
    error: str | None
    begun_at: Moment | None
    ended_at: Moment | None
    output: JsonValue


class RecordedStep(Answer):
    """A step in the record of a run, with its values and attempts."""

    address: str = Field(description="With the run's number.")
    task: str
    state: StepStateWord
    stop_asked: str | None
    skip_reason: SkipWord | None
    paused_by_hand: bool
    supplied: bool
    progress: StepProgress | None
    fraction: float | None
    worker: str | None
    attempts: list[AttemptAnswer]
    tries: int
    losses: int
    error: ErrorAnswer | None
    pool: str | None
    priority: int
    due_at: Moment | None
    deadline_at: Moment | None
    ready_at: Moment | None
    started_at: Moment | None
    ended_at: Moment | None
    input: JsonValue
    output: JsonValue


class RunRecordAnswer(Answer):
    """All that is known of a run."""

    run: RunAnswer
    plan: JsonObject = Field(description="As `docs/plan-format.md` has it.")
    graph: PartAnswer
    commands: list[OrUnreadable[CommandAnswer]]
    ledger: list[OrUnreadable[EffectAnswer]]
    files: list[JsonObject]
    steps: list[RecordedStep]


class LogLine(Answer):
    """A line that an attempt printed or logged."""

    line: int = Field(description="Its index among the attempt's lines.")
    at: str
    stream: str
    text: str
    level: str | None = None
    logger: str | None = None
    address: str | None = None


class AttemptLog(Answer):
    """What an attempt printed and logged."""

    address: str
    attempt: int | None
    lines: list[LogLine]


class PublishedEntry(Answer):
    """A value that a step published."""

    line: int = Field(description="Its index among those of the run.")
    at: str
    address: str = Field(description="Of the step.")
    attempt: int
    value: JsonValue
    dropped: bool = Field(False, description="What follows was too much, and is not kept.")


class PublishedList(Answer):
    """What a run published."""

    published: list[PublishedEntry]
