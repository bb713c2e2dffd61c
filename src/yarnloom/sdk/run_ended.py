"""Records of runs that begin or end, for tasks that listen."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict

from yarnloom.values import JsonObject, JsonValue


class RunBegun(BaseModel):
    """A run whose first attempt has begun.

    Attributes:
        number: the run's number.
        workflow: full name of its workflow, or of a run of a single task of the task.
        task: of a run of a single task its full name.
        version: of the plan that it was started with.
        round: 1, and one more for each mend: a mended run begins once more.
        params: what it was started with, secrets masked; None if they are too large to be told.
        left_out: "params" where they are; `client.run(begun.number)` has them.
        tags: as it was started.
        share: the name that fair turns count by; None for the run itself.
        key: its start key.
        started_by: who gave the start command.
        schedule: the schedule that started it.
        planned_at: for when that planned it.
        created_at: when the start was accepted.
        started_at: when its first attempt began.
    """

    model_config = ConfigDict(extra="ignore", frozen=True)

    number: int
    workflow: str
    task: str | None
    version: str
    round: int
    params: JsonObject | None = None
    left_out: list[str] = []
    tags: list[str]
    share: str | None
    key: str
    started_by: str
    schedule: str | None
    planned_at: datetime | None
    created_at: datetime
    started_at: datetime


class RunEnded(BaseModel):
    """A run that has ended.

    Attributes:
        number: the run's number.
        workflow: full name of its workflow, or of a run of a single task of the task.
        task: of a run of a single task its full name.
        version: of the plan that it was started with.
        state: how it ended.
        round: 1, and one more for each mend: a mended run ends once more.
        error: what went wrong, with at least `type` and `message`; None if it is done.
        failures_allowed: how many items failed that were allowed to.
        followups_failed: how many follow-ups failed.
        params: what it was started with, secrets masked; None if they are too large to be told.
        output: what its plan gave; None if it gave nothing, or that is too large to be told.
        left_out: which of the two are too large; `client.run(ended.number)` has them.
        tags: as it was started.
        share: whom fair turns were counted for; None for itself.
        key: its start key.
        started_by: who gave the start command.
        schedule: the schedule that started it.
        planned_at: for when that planned it.
        created_at: when the start was accepted.
        started_at: when its first attempt began; None if none did.
        ended_at: when it ended.
    """

    model_config = ConfigDict(extra="ignore", frozen=True)

    number: int
    workflow: str
    task: str | None
    version: str
    state: Literal["done", "failed", "cancelled"]
    round: int
    error: JsonObject | None
    failures_allowed: int
    followups_failed: int = 0
    params: JsonObject | None = None
    output: JsonValue = None
    left_out: list[str] = []
    tags: list[str]
    share: str | None
    key: str
    started_by: str
    schedule: str | None
    planned_at: datetime | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime
