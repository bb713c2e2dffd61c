"""What requests carry: one model for each body, checked as it comes in.

Nothing is converted on the way: `true` is no number and `"5"` is none either. A field that is not
known is a mistake. Values are held to the limits of `yarnloom.values`.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarnloom.engine.rules.states import RunState
from yarnloom.protocol.fields import (
    LONGEST,
    FilterName,
    Name,
    Priority,
    Strict,
    Tags,
    Time,
    Truth,
    Value,
    ValueObject,
)
from yarnloom.protocol.filter_fields import FilterBody, FilterQuery
from yarnloom.run_filters import RUN_FILTERS


class StartBody(Strict):
    """Start a workflow, or a single task."""

    target: Name = Field(
        description="A workflow or task: its full name `loom/name`, or the short one. A short name "
        "is a workflow if exactly one has it, else a task."
    )
    params: ValueObject = Field(
        default_factory=dict, description="Params by name; of a task its inputs."
    )
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = Field(
        None, description="Start key: starting twice with one makes one run."
    )
    priority: Priority = 0
    share: Annotated[str, Field(max_length=200)] = Field(
        "", description="Whom fair turns are counted for; the run itself unless given."
    )
    tags: Tags = Field(default_factory=list)
    at: Time | None = Field(None, description="Not before that time, RFC 3339 with an offset.")
    after: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = Field(
        None, description="Instead of `at`: seconds from now, by the service's clock."
    )
    start_by: Time | None = Field(
        None, description="It is not begun after that time, but ends cancelled as expired."
    )
    keywords: Annotated[list[Annotated[str, Field(max_length=100)]], Field(max_length=10)] = Field(
        default_factory=list,
        description="Options that a caller gave among named params; refused where one of them is a "
        "param of the target, too.",
    )

    @model_validator(mode="after")
    def one_of_both(self) -> StartBody:
        """The time is given once."""
        if self.at is not None and self.after is not None:
            raise ValueError("expected either at or after")
        return self


class StartManyBody(Strict):
    """Many starts in one transaction: all, or none."""

    starts: Annotated[list[StartBody], Field(min_length=1, max_length=10_000, fail_fast=True)]


class ReasonBody(Strict):
    """Why a command is given."""

    reason: Annotated[str, Field(max_length=2_000)] = ""


class CancelBody(ReasonBody):
    """How a run is told to stop."""

    now: Truth = Field(False, description="What runs gets no grace.")


class FailuresBody(Strict):
    """Some failures of a run, as `GET /runs/{number}/failures` gives their kinds."""

    address: str = Field(
        "", max_length=2_000, description="Of the step, without the keys of items; else any."
    )
    task: str | None = Field(None, max_length=201, description="Of the steps; else any.")
    type: str | None = Field(None, max_length=200, description="Of the error; else any.")
    pattern: str | None = Field(None, max_length=100_000, description="Of its message; else any.")

    @model_validator(mode="after")
    def names_steps(self) -> FailuresBody:
        """Which steps are meant is said."""
        if not self.address and self.task is None:
            raise ValueError("expected the address of a step, or a task")
        return self


class MendBody(ReasonBody):
    """How an ended run is mended."""

    paused: Truth = Field(
        False, description="Only what was decided by hand is met; the rest waits for a resume."
    )
    only: FailuresBody | None = Field(None, description="The failures to mend; else all.")


class ChangeBody(ReasonBody):
    """What is changed of a run that has not begun; what is not given stays."""

    at: Time | None = Field(None, description="When it is to begin; a time that has passed is now.")
    after: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = Field(
        None, description="Instead of `at`: seconds from now, 0 is now."
    )
    priority: Priority | None = None
    tags: Tags | None = Field(None, description="All of them, in place of those it has.")

    @model_validator(mode="after")
    def says_something(self) -> ChangeBody:
        """Something is changed, and the time is given once."""
        if self.at is not None and self.after is not None:
            raise ValueError("expected either at or after")
        given = (self.at, self.after, self.priority, self.tags)
        if all(one is None for one in given):
            raise ValueError("expected at, after, priority or tags")
        return self


class RerunBody(ReasonBody):
    """What is changed where a run is started anew."""

    params: ValueObject = Field(default_factory=dict, description="In place of the run's own.")
    key: Annotated[str, Field(min_length=1, max_length=200)] | None = None


class StepBody(ReasonBody):
    """What is decided about a step."""

    inputs: ValueObject | None = Field(None, description="Of an edit: constants, by input.")
    pool: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Of an edit; empty for none."
    )
    priority: Priority | None = None
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


class RowsPreviewBody(Strict):
    """A file of rows, as a start would have it among its params."""

    target: Name = Field(description="The workflow or task.")
    param: Annotated[str, Field(min_length=1, max_length=200, description="Which takes the rows.")]
    value: ValueObject = Field(description="The file, with how it is read.")


class RunsWanted(FilterBody):
    """Which runs a list shows; a field that is not given allows any."""

    states: Annotated[list[RunState], Field(max_length=9)] = Field(default_factory=list)

    @property
    def given(self) -> ValueObject:
        """The fields that are given, as JSON."""
        return self.model_dump(mode="json", exclude_defaults=True, include=set(WANTED))


WANTED = tuple(RunsWanted.model_fields)


class RunsQuery(FilterQuery):
    """The query of the list of runs."""

    state: Annotated[list[RunState], Field(description="In one of these states.")] = Field(
        default_factory=list
    )
    saved: FilterName | None = Field(None, description="A saved filter; other fields count more.")
    cursor: Annotated[int, Field(ge=1, le=2**53)] | None = None
    limit: Annotated[int, Field(ge=1, le=500)] = 50

    @property
    def wanted(self) -> RunsWanted:
        """The filter in it."""
        fields = {field.name: getattr(self, field.name) for field in RUN_FILTERS}
        return RunsWanted.model_construct(states=self.state, **fields)


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


Ago = Annotated[float, Field(strict=True, ge=0, le=LONGEST)]
Natural = Annotated[int, Field(strict=True, ge=0, le=2**53)]
