"""Bodies of requests about pools and schedules."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yarnloom.protocol.fields import Name, Priority, Strict, Tags, Truth, ValueObject


class ScheduleSettings(Strict):
    """What can be set of a schedule; what is not given stays as it is, or is as the default."""

    workflow: Name = Field("", description="Full name `loom/workflow`, or the short one.")
    params: ValueObject = Field(default_factory=dict)
    cron: Annotated[str, Field(max_length=200)] = Field(
        "", description="Five fields: minute, hour, day of month, month, day of week."
    )
    every: Annotated[str, Field(max_length=100)] = Field(
        "", description="An interval in place of cron, as 90m."
    )
    first: Annotated[str, Field(max_length=100)] = Field(
        "", description="The first time of the interval; when it is made unless given."
    )
    spread: Annotated[str, Field(max_length=100)] = Field(
        "", description="Up to how much later each time it starts, as 5m: the same for each time."
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
    priority: Priority = 0
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
