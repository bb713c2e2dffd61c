"""The rows of the tables that change while runs run, as mutable records.

Field names are column names; what each means is in `schema.sql`. Fields up to and including
`FIXED`'s number never change after the row was written.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar


@dataclass(slots=True, eq=False)
class RunRow:
    """A row of `runs`."""

    FIXED: ClassVar[int] = 18

    number: int
    plan: int
    workflow: str
    version: str
    params: str
    share: str
    tags: str
    start_key: str
    started_by: str
    created_at: int
    start_at: int | None
    after_a_while: int
    task: str | None
    start_by: int | None
    planned_at: str | None
    schedule: str | None
    after: int | None
    weights: int | None
    deadline_at: int | None
    priority: int
    state: str
    stop: str | None = None
    output: str | None = None
    error: str | None = None
    round: int = 1
    cancels: int = 0
    failures_allowed: int = 0
    attempts: int = 0
    admission: int = 1
    queue: str = ""
    put_off: int = 0
    paused_at: int | None = None
    paused_micros: int = 0
    followups_failed: int = 0
    step_actions: int = 0
    renewed: int = 0
    reopened_from: int | None = None
    progress: float | None = None
    left_micros: int | None = None
    sampled_at: int | None = None
    at_least: int = 0
    started_at: int | None = None
    ended_at: int | None = None


@dataclass(slots=True, eq=False)
class PartRow:
    """A row of `parts`."""

    FIXED: ClassVar[int] = 10

    id: int
    run: int
    parent: int | None
    node: int
    rank: bytes
    item_part: int | None
    item: int
    name: str | None
    value: str | None
    started_at: int
    total: int
    state: str
    rest_state: str | None = None
    rest_reason: str | None = None
    ready: int = 0
    running: int = 0
    backing_off: int = 0
    resting: int = 0
    paused: int = 0
    done: int = 0
    failed: int = 0
    cancelled: int = 0
    skipped: int = 0
    outcome: str | None = None
    closed: str | None = None
    following: int = 0
    unmade: int = 0
    skip_reason: str | None = None
    fault: str | None = None
    error: str | None = None
    output: str | None = None
    size: int = 0
    sleeping_children: int = 0
    items_to_rerun: int = 0
    awaits: str | None = None
    fraction: float = 0.0
    fraction_then: float = 0.0
    since: int = 0
    moved_at: int | None = None
    covers: int = 0
    covered: int = 0
    begun_at: int | None = None
    idle: int = 0
    ended_at: int | None = None

    @property
    def begun(self) -> int:
        """How many children have begun and not ended."""
        return self.ready + self.running + self.backing_off + self.resting + self.paused

    @property
    def over(self) -> int:
        """How many children have ended, or are decided."""
        return self.done + self.failed + self.cancelled + self.skipped


@dataclass(slots=True, eq=False)
class StepRow:
    """A row of `steps`."""

    FIXED: ClassVar[int] = 10

    id: int
    run: int
    part: int
    node: int
    rank: bytes
    item_part: int | None
    contract: str
    pool: str
    share: str
    input: str
    priority: int
    state: str
    ready_at: int
    stop: str | None = None
    skip_reason: str | None = None
    open: int | None = None
    attempts: int = 0
    tries: int = 0
    losses: int = 0
    due_at: int | None = None
    deadline_at: int | None = None
    output: str | None = None
    error: str | None = None
    saved: str | None = None
    held: str | None = None
    held_at: int | None = None
    paused_micros: int = 0
    retry_from_attempt: int = 0
    supplied: int = 0
    fraction: float = 0.0
    started_at: int | None = None
    ended_at: int | None = None


@dataclass(slots=True, eq=False)
class AttemptRow:
    """A row of `attempts`; `try_` is its column `try`."""

    FIXED: ClassVar[int] = 12

    id: int
    step: int
    run: int
    number: int
    try_: int
    worker: str
    code_hash: str
    ready_at: int
    handed_at: int
    pool: str
    round: int
    pool_until: int | None = None
    outcome: str | None = None
    error: str | None = None
    pid: int | None = None
    cpu: int | None = None
    memory: int | None = None
    begun_at: int | None = None
    abandoned: int = 0
    ended_at: int | None = None
