"""What answers hold about pools, schedules and saved filters."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from yarnloom.protocol.answer_fields import Answer, Moment, OrUnreadable
from yarnloom.protocol.run_answers import ReasonAnswer, RunStateWord
from yarnloom.values import JsonObject


class RateAnswer(Answer):
    """How many attempts may begin in so many seconds."""

    count: int
    per: float


class Pause(Answer):
    """Who paused a pool, when and why."""

    by: str
    at: Moment
    reason: str


class PoolUser(Answer):
    """A run that uses a pool."""

    run: int
    weight: int = Field(description="How many of its places its attempts have in use.")


class PoolValue(Answer):
    """One value of a pool with `per`, which has the limit for itself."""

    value: str
    in_use: int
    waiting: int


class PoolDeclared(Answer):
    """What a loom says of a pool."""

    loom: str
    limit: int | None
    rate: RateAnswer | None
    note: str


class SavedFilter(Answer):
    """A filter of the list of runs, kept by name."""

    name: str
    wanted: JsonObject = Field(description="Which runs, as it was saved.")
    saved_at: Moment
    saved_by: str


class FilterList(Answer):
    """All saved filters, by name."""

    filters: list[SavedFilter]


class LevelAnswer(Answer):
    """How full a pool was in one minute."""

    at: Moment
    in_use: int = Field(description="At most.")
    waiting: int = Field(description="At most.")
    limit: int | None


class PoolWaits(Answer):
    """A run that waits for a pool."""

    run: int
    steps: int
    since: Moment


class PoolWaiter(Answer):
    """Ready steps of a share that use the same pools."""

    share: str
    priority: int
    pools: dict[str, int] = Field(description="By pool, with its value, the weight of a step.")
    steps: int
    reserved_at: Moment | None = Field(
        description="Since when room is kept for the next of them; null while none is."
    )
    reasons: list[ReasonAnswer] = Field(description="Why the next of them does not begin.")


class PoolUse(Answer):
    """How a pool was used within the last hour, and who waits for it."""

    minutes: list[LevelAnswer] = Field(description="Since it was first looked at.")
    waits: list[PoolWaits]
    queue: list[PoolWaiter] = Field(description="Next first, up to 50.")
    more: int = Field(description="How many shares follow behind those.")
    by_priority: dict[str, int] = Field(
        description="How many steps wait at each priority, the highest first."
    )


class PoolAnswer(Answer):
    """A pool as it is now."""

    name: str
    as_of: Moment = Field(description="When it was so.")
    limit: int | None
    rate: RateAnswer | None
    note: str
    paused: Pause | None
    in_use: int = Field(
        description="The weight of attempts that were handed out and have not ended."
    )
    waiting: int = Field(description="Steps that could run.")
    begun_last_minute: int
    used_by: list[PoolUser] = Field(description="The runs that use it most.")
    runs: int = Field(description="How many runs use it.")
    values: list[PoolValue] = Field(description="With `per`: the values that are used most.")
    by_hand: JsonObject = Field(description="Which settings were set by hand.")
    declared: list[PoolDeclared]


class PoolList(Answer):
    """Every pool, by name."""

    pools: list[PoolAnswer]


class LastTime(Answer):
    """What came of the newest planned time of a schedule."""

    planned_at: Moment
    result: Literal["started", "failed", "passed_over"]
    run: int | None
    why: str
    state: RunStateWord | None = Field(description="Of its run, now.")


class ScheduleAnswer(Answer):
    """A schedule as it is now."""

    name: str
    loom: str | None = Field(description="That declares it; null where it was made by hand.")
    workflow: str
    params: JsonObject
    cron: str = Field(description="Empty if it comes after an interval.")
    every: str = Field(description="The interval, as 90m; empty if it comes by cron.")
    first: str = Field(description="The first time of the interval; empty for when it was made.")
    spread: str = Field(description="Up to how much later each time it starts; empty for none.")
    zone: str
    remarks: list[str] = Field(description="What its times do that its author may not mean.")
    if_busy: Literal["wait", "skip", "replace", "start"]
    missed: Literal["one", "all", "none"]
    priority: int
    share: str
    tags: list[str]
    note: str
    paused: Pause | None
    next_at: Moment | None = Field(
        description="The next planned time, in its zone; null if paused."
    )
    next_times: list[Moment] = Field(
        description="The next five; of a paused one as if it were not."
    )
    waiting_at: Moment | None = Field(description="A time that waits for an earlier run's end.")
    running: list[int] = Field(description="Its runs that have not ended.")
    last: LastTime | None
    passed_over: int = Field(description="At how many times nothing was started.")
    by_hand: JsonObject = Field(description="Which settings were changed by hand.")
    created_at: Moment
    created_by: str


class ScheduleList(Answer):
    """Every schedule, by name."""

    schedules: list[OrUnreadable[ScheduleAnswer]]


class NextTimes(Answer):
    """When a schedule would come next."""

    cron: str
    every: str = Field(description="The interval, as 90m; empty if it comes by cron.")
    first: str = Field(description="The first time of the interval; empty for now.")
    zone: str
    remarks: list[str] = Field(description="What its times do that its author may not mean.")
    times: list[Moment] = Field(description="RFC 3339, with the zone's offset.")
