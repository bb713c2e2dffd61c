"""Answers about what is in a run: its parts as a tree, steps, items, attempts."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AliasChoices, Field

from yarnloom.protocol.answer_fields import Answer, Moment, OrUnreadable
from yarnloom.protocol.run_answers import (
    CommandAnswer,
    Counts,
    EffectAnswer,
    Fault,
    RunAnswer,
    SkipWord,
    StepStateWord,
)
from yarnloom.values import JsonObject, JsonValue


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
    error: Fault | None = None
    fraction: float | None = None
    counts: Counts | None = None
    started_at: Moment | None = None
    ended_at: Moment | None = None


class PastProgress(Answer):
    """How far a run was at a moment."""

    fraction: float | None
    seconds_left: float | None
    at_least: bool


class CommonPart(Answer):
    """What every part of a plan has; fields that do not hold for it are left out.

    A part has its state but in a plan without a run, and inside an each: there `counts` says how
    its steps are over all items.
    """

    label: str = Field(description="Of an item its key.")
    address: str
    only_if: JsonObject | None = None
    waits_for: list[str] = Field(
        default_factory=list, description="Of a branch: labels of the branches that it reads."
    )
    state: StepStateWord | None = None
    skip_reason: SkipWord | None = None
    begun: bool = Field(False, description="Of a follow-up.")
    error: Fault | None = None
    fraction: float | None = None
    started_at: Moment | None = None
    ended_at: Moment | None = None
    counts: Counts | None = Field(
        None, description="Parts or items by state; inside an each over all of its items."
    )
    outcome: str | None = Field(None, description="Decided before its follow-ups end.")
    closed: str | None = Field(None, description="Of a part in which no more begins: why.")
    follow_ups: dict[str, PartAnswer] = Field(default_factory=dict)


class CommonStep(CommonPart):
    """All of a step but its attempts: their number, or the attempts themselves."""

    kind: Literal["step"]
    task: str
    inputs: dict[str, JsonObject] = Field(description="Their sources.")
    rules: JsonObject = Field(default_factory=dict, description="How it is run.")
    took: Took | None = Field(None, description="Inside an each: how long its attempts took.")
    stop_asked: str | None = None
    paused_by_hand: bool = False
    supplied: bool = Field(False, description="Its output was given by hand.")
    progress: StepProgress | None = None
    worker: str | None = None
    tries: int = 0
    losses: int = 0
    pool: str | None = Field(None, description="With the value that it has a limit for.")
    priority: int = 0
    due_at: Moment | None = Field(None, description="When it is tried, or called, again.")
    deadline_at: Moment | None = None
    ready_at: Moment | None = None


class StepPart(CommonStep):
    """A step."""

    attempts: int = 0


class SequencePart(CommonPart):
    """A sequence."""

    kind: Literal["sequence"]
    parts: list[PartAnswer]
    progress: PastProgress | None = Field(None, description="Of a whole run at a moment.")


class ParallelPart(CommonPart):
    """A parallel."""

    kind: Literal["parallel"]
    if_one_fails: Literal["stop", "cancel", "finish"]
    parts: list[PartAnswer]
    progress: PastProgress | None = Field(None, description="Of a whole run at a moment.")


class EachPart(CommonPart):
    """An each."""

    kind: Literal["each"]
    if_one_fails: Literal["stop", "cancel", "finish"]
    over: JsonObject
    at_once: int | None
    batch: int | None
    may_fail: str | None = Field(description="How many items, or a percentage.")
    top: list[ItemAnswer] = Field(
        default_factory=list, description="Failed items, and those that run longest."
    )
    do: PartAnswer = Field(description="What it repeats.")
    progress: PastProgress | None = Field(None, description="Of a whole run at a moment.")


class ChoosePart(CommonPart):
    """A choose: of its branches one runs."""

    kind: Literal["choose"]
    by: JsonObject
    parts: list[PartAnswer] = Field(description="Its branches, each labelled by its value.")
    progress: PastProgress | None = Field(None, description="Of a whole run at a moment.")


class FallbackPart(CommonPart):
    """A part with another that runs in its place when it has failed."""

    kind: Literal["fallback"]
    parts: list[PartAnswer] = Field(description="The part itself, and the other.")
    progress: PastProgress | None = Field(None, description="Of a whole run at a moment.")


PartAnswer = Annotated[
    StepPart | SequencePart | ParallelPart | EachPart | ChoosePart | FallbackPart,
    Field(discriminator="kind"),
]
"""A part of a plan, or of a run, with what is in it."""


class AttemptAnswer(Answer):
    """One attempt of a step."""

    id: int
    number: int
    tries: int
    round: int
    state: str
    outcome: str | None
    error: Fault | None
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


class StepAnswer(CommonStep):
    """A step of a run with its values and attempts."""

    state: StepStateWord
    input: JsonValue
    output: JsonValue
    attempts: list[AttemptAnswer]
    folded: int = Field(description="How many attempts are left out.")
    decided: Decided | None


class StepList(Answer):
    """The steps of a run, or of one item."""

    steps: list[StepPart]


class ItemList(Answer):
    """A page of the items of an each."""

    items: list[OrUnreadable[ItemAnswer]]
    next: str | None


class ExportedItem(Answer):
    """An item with its outcome and output, as it is exported."""

    value: JsonValue
    line: int | None = Field(description="Of one that is a row of a file: where that begins.")
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
    error: Fault | None
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
    at: Moment
    stream: Literal["stdout", "stderr", "log", "published", "yarnloom"]
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
    at: Moment
    address: str = Field(description="Of the step.")
    attempt: int
    value: JsonValue
    to: str = Field("", description="What it is called, where it has a name.")
    append: bool = Field(
        False, description="It is put behind the text of its name, that of the same attempt."
    )
    dropped: bool = Field(False, description="What follows was too much, and is not kept.")


class PublishedList(Answer):
    """What a run published."""

    published: list[PublishedEntry]
