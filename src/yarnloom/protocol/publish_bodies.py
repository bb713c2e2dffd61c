"""The body that publishes looms."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from yarnloom.protocol.fields import Name, PlanDocument, Strict, ValueObject
from yarnloom.values import JsonValue, depth_problem


class ToldBody(Strict):
    """Of which runs a task is told, and when."""

    at: Literal["begin", "end"] = Field(description="Whether it starts when they begin, or end.")
    states: Annotated[list[Literal["done", "failed", "cancelled"]], Field(max_length=3)] = Field(
        description="Only of runs that ended so; of all if empty."
    )
    targets: Annotated[list[Name], Field(max_length=1_000)] = Field(
        description="Only of runs of these workflows and tasks; of all if empty."
    )


class TaskBody(BaseModel):
    """A task as its loom declares it."""

    # What a newer loom adds is kept, and shown.
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)

    name: Annotated[str, Field(pattern=r"^[^/]{1,100}/[^/]{1,100}$")] = Field(
        description="Full name, `loom/task`."
    )
    code_hash: Annotated[str, Field(min_length=1, max_length=100)]
    input: ValueObject = Field(description="JSON Schema of its inputs, an object by input name.")
    output: ValueObject = Field(description="JSON Schema of what it returns.")
    source: Annotated[str, Field(max_length=200_000)] = Field("", description="The code.")
    on_run: ToldBody | None = Field(None, description="Of which runs it is told.")

    @model_validator(mode="before")
    @classmethod
    def not_too_deep(cls, facts: JsonValue) -> JsonValue:
        """Hold also what is not known here to the depth of a value."""
        if problem := depth_problem(facts):
            raise ValueError(f"{problem.message}: see {problem.where}")
        return facts


class PublishBody(Strict):
    """What a loom declares."""

    plans: Annotated[list[PlanDocument], Field(max_length=1_000)]
    tasks: Annotated[list[TaskBody], Field(max_length=10_000)] = Field(default_factory=list)
    pools: Annotated[list[ValueObject], Field(max_length=1_000)] | None = Field(
        None, description="All that the looms declare, each with its `loom`; else as before."
    )
    schedules: Annotated[list[ValueObject], Field(max_length=1_000)] | None = Field(
        None, description="The same for schedules."
    )
