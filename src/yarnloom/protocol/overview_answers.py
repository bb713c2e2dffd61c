"""What answers hold about many runs, or one run on a line."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from yarnloom.protocol.answer_fields import Answer, Moment
from yarnloom.protocol.run_answers import ReasonAnswer, RunStateWord


class RunCounts(Answer):
    """How many runs are in each state."""

    counts: dict[str, int]
    more: list[str] = Field(description="States of which there are more than are counted.")


class RunLine(Answer):
    """A line that a step of a run printed, logged or published."""

    mark: str = Field(description="The place behind it, to go on from.")
    address: str = Field(description="Of its step within the run.")
    attempt: int = Field(description="The attempt's number.")
    line: int = Field(description="Its index among the attempt's lines.")
    at: Moment
    stream: Literal["stdout", "stderr", "log", "published", "yarnloom"]
    level: str | None = None
    logger: str | None = None
    text: str


class LineList(Answer):
    """A page of a run's log."""

    lines: list[RunLine]
    next: str | None = Field(description="Behind these, or before the newest; null at the end.")
    end: str = Field(description="Behind all that was looked through.")


class Went(Answer):
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


class OverTimeAnswer(Answer):
    """How a workflow went over some days."""

    workflow: str
    days: list[DayWent]
    steps: list[StepWent]


class GlancePiece(Answer):
    """A part of the line, and the step that it is about; empty for the run."""

    what: Literal["progress", "moving", "running", "failed", "held", "left"]
    text: str
    address: str


class Hold(Answer):
    """The step with the longest queue, and why it waits."""

    address: str = Field(description="Of the step, without the keys of items; empty for the run.")
    waiting: int
    text: str
    reason: ReasonAnswer = Field(description="As `why` gives it.")


class GlanceAnswer(Answer):
    """A run on one line."""

    text: str
    pieces: list[GlancePiece]
    held: Hold | None


class MinuteAnswer(Answer):
    """What happened in one minute."""

    at: Moment
    begun: int = Field(description="Attempts that began.")
    waited: float = Field(description="How long these had been ready, together, in seconds.")
    longest: float = Field(description="How long the one had that had waited the longest.")
    ended: int
    failed: int = Field(description="Of those that ended: failed or lost.")


class StuckRun(Answer):
    """A run that does not go on by itself."""

    run: int
    workflow: str
    state: RunStateWord
    since: Moment = Field(description="When it was started.")
    reasons: list[str]


class OverviewAnswer(Answer):
    """What is going on."""

    minutes: list[MinuteAnswer] = Field(description="The last hour, oldest first.")
    stuck: list[StuckRun]
    looked_at: int = Field(description="How many runs were asked, the oldest, why they wait.")
