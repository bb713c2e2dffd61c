"""Pools, schedules and saved filters as they are now, and how pools were used."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.records.waits import Reason
from yarnloom.plan import Rate
from yarnloom.values import JsonObject, JsonValue


@dataclass(frozen=True, slots=True)
class PauseRecord:
    """Who paused something, when and why."""

    by: str
    at: int
    reason: str


@dataclass(frozen=True, slots=True)
class PoolUser:
    """A run that uses a pool."""

    run: int
    weight: int


@dataclass(frozen=True, slots=True)
class PoolWaiter:
    """Ready steps of a share that enter the same pools."""

    share: str
    priority: int
    pools: dict[str, int]
    steps: int
    reserved_at: int | None
    reasons: list[Reason]


@dataclass(frozen=True, slots=True)
class PoolQueueRecord:
    """Who waits for a pool, next first; how many steps at each priority."""

    waiters: list[PoolWaiter]
    more: int
    by_priority: dict[int, int]


@dataclass(frozen=True, slots=True)
class PoolValue:
    """One value of a pool with `per`, which has the limit for itself."""

    value: str
    in_use: int
    waiting: int


@dataclass(frozen=True, slots=True)
class PoolDeclared:
    """What a loom says of a pool."""

    loom: str
    limit: int | None
    rate: Rate | None
    note: str


@dataclass(frozen=True, slots=True)
class PoolRecord:
    """A pool: its settings and where they come from, and how it is used."""

    name: str
    as_of: int
    limit: int | None
    rate: Rate | None
    note: str
    paused: PauseRecord | None
    in_use: int
    waiting: int
    begun_last_minute: int
    used_by: list[PoolUser]
    runs: int
    values: list[PoolValue]
    by_hand: JsonObject
    declared: list[PoolDeclared]


@dataclass(frozen=True, slots=True)
class MinuteRecord:
    """What happened in one minute; times in seconds."""

    at: int
    begun: int
    waited: float
    longest: float
    ended: int
    failed: int


@dataclass(frozen=True, slots=True)
class LevelRecord:
    """How full a pool was in one minute, at most."""

    at: int
    in_use: int
    waiting: int
    limit: int | None


@dataclass(frozen=True, slots=True)
class LastTime:
    """What came of the newest planned time of a schedule."""

    planned_at: str
    result: str
    run: int | None
    why: str
    state: str | None


@dataclass(frozen=True, slots=True)
class ScheduleRecord:
    """A schedule as it is now. Planned times are texts, in its zone."""

    name: str
    loom: str | None
    workflow: str
    params: JsonValue
    cron: str
    every: str
    first: str
    spread: str
    zone: str
    remarks: list[str]
    if_busy: str
    missed: str
    priority: int
    share: str
    tags: list[str]
    note: str
    paused: PauseRecord | None
    next_at: str | None
    next_times: list[str]
    waiting_at: str | None
    running: list[int]
    last: LastTime | None
    passed_over: int
    by_hand: JsonObject
    created_at: int
    created_by: str


@dataclass(frozen=True, slots=True)
class FilterRecord:
    """A filter of the list of runs, kept by name."""

    name: str
    wanted: JsonObject
    saved_at: int
    saved_by: str
