"""Made from `run_filters.py` by `make generate`: change that file instead."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yarnloom.protocol.fields import Priority, Span, Strict, Time, Truth


class FilterBody(Strict):
    """Which runs, in a body; a field that is not given allows any."""

    workflow: Annotated[str, Field(max_length=201)] | None = Field(
        None, description="Runs of this workflow."
    )
    tag: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs with this tag."
    )
    key: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs that this start key made."
    )
    schedule: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs of this schedule."
    )
    who: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs that this one started."
    )
    pool: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs that use this pool now, or wait for it."
    )
    priority: Priority | None = Field(None, description="Runs of this priority.")
    since: Time | None = Field(None, description="Runs started then or later: 2h ago, or a time.")
    until: Time | None = Field(None, description="Runs started before then: 2h ago, or a time.")
    within: Span | None = Field(None, description="Runs started so long ago or later, as 24h.")
    text: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs with this in their workflow, params, tags, key, error, …."
    )
    followups_failed: Truth = Field(False, description="Runs of which a follow-up failed.")
    without_reports: Truth = Field(
        False, description="Runs but for those that only tell of another run's end."
    )


class FilterQuery(Strict):
    """Which runs, in a query; a field that is not given allows any."""

    workflow: Annotated[str, Field(max_length=201)] | None = Field(
        None, description="Runs of this workflow."
    )
    tag: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs with this tag."
    )
    key: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs that this start key made."
    )
    schedule: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs of this schedule."
    )
    who: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs that this one started."
    )
    pool: Annotated[str, Field(max_length=100)] | None = Field(
        None, description="Runs that use this pool now, or wait for it."
    )
    priority: int | None = Field(None, description="Runs of this priority.")
    since: Time | None = Field(None, description="Runs started then or later: 2h ago, or a time.")
    until: Time | None = Field(None, description="Runs started before then: 2h ago, or a time.")
    within: Span | None = Field(None, description="Runs started so long ago or later, as 24h.")
    text: Annotated[str, Field(max_length=200)] | None = Field(
        None, description="Runs with this in their workflow, params, tags, key, error, …."
    )
    followups_failed: bool = Field(False, description="Runs of which a follow-up failed.")
    without_reports: bool = Field(
        False, description="Runs but for those that only tell of another run's end."
    )
