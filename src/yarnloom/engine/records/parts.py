"""Parts of a run as a tree, items, steps with their attempts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from yarnloom.engine.records.errors import StepError
from yarnloom.engine.records.runs import CommandRecord, Counts, EffectRecord
from yarnloom.engine.records.unreadable import Unreadable
from yarnloom.engine.rules.states import Outcome, PartState, SkipReason, StepState
from yarnloom.plan import Node, Plan
from yarnloom.store import Record
from yarnloom.values import JsonObject, JsonValue


@dataclass(frozen=True, slots=True)
class StepProgress:
    """How far a step is by its own account; rate in items a second."""

    done: float | None
    total: float | None
    unit: str
    note: str
    rate: float | None
    seconds_left: float | None
    added: int
    skipped: int


@dataclass(frozen=True, slots=True)
class StepStanding:
    """A step's state, times and error.

    The worker is the one that has it in hand, or had it when it ended.
    """

    state: StepState
    stop_asked: str | None
    skip_reason: SkipReason | None
    paused_by_hand: bool
    supplied: bool
    progress: StepProgress | None
    fraction: float | None
    worker: str | None
    attempts: int
    tries: int
    losses: int
    error: StepError | None
    pool: str | None
    priority: int
    due_at: int | None
    deadline_at: int | None
    ready_at: int | None
    started_at: int | None
    ended_at: int | None


@dataclass(frozen=True, slots=True)
class PartStanding:
    """A part's state, its children by state, and what failed first in it."""

    state: PartState
    outcome: PartState | None
    skip_reason: SkipReason | None
    closed: str | None
    error: StepError | None
    fraction: float | None
    counts: Counts
    started_at: int | None
    ended_at: int | None


@dataclass(frozen=True, slots=True)
class Unbegun:
    """The state of a part or step without a row: that of what became of the rest around it."""

    state: str = StepState.WAITING
    skip_reason: str | None = None


Standing = StepStanding | PartStanding | Unbegun


@dataclass(frozen=True, slots=True)
class Bar:
    """A bar of a histogram: how many took from so many seconds to so many."""

    from_: float
    to: float
    number: int


@dataclass(frozen=True, slots=True)
class Took:
    """How long attempts took, in seconds. The median is within five percent."""

    median: float
    longest: float
    ended: int
    histogram: list[Bar]


@dataclass(frozen=True, slots=True)
class InsideRecord:
    """What is counted of a step or each over all items of the each around it.

    Attributes:
        counts: how many are how.
        took: how long a step's attempts took; None where none has ended.
        is_step: whether it is of a step, which has `took`.
    """

    counts: Counts
    took: Took | None
    is_step: bool


@dataclass(frozen=True, slots=True)
class ItemRecord:
    """An item of an each; of one that was not made the state that it would have."""

    item: int
    name: str
    address: str
    value: JsonValue
    standing: PartStanding | Unbegun


@dataclass(frozen=True, slots=True)
class PartRecord:
    """A part of a plan, and of a run its state, with all that is in it.

    Attributes:
        node: the part in the plan.
        label: of the node; of an item its key.
        address: within the run.
        standing: its state; None of a plan without a run, and inside an each.
        begun: of a follow-up whether it has begun.
        top: of an each the items to look at first.
        inside: of a box inside an each what is counted in it.
        do: of an each what it repeats.
        parts: its children, but for an each.
        follow_ups: by name.
    """

    node: Node
    label: str
    address: str
    standing: Standing | None = None
    begun: bool | None = None
    top: list[ItemRecord] | None = None
    inside: InsideRecord | None = None
    do: PartRecord | None = None
    parts: list[PartRecord] = field(default_factory=list)
    follow_ups: Mapping[str, PartRecord] = field(default_factory=dict)

    @property
    def state(self) -> str | None:
        """Its state, where it has one."""
        return None if self.standing is None else self.standing.state

    @property
    def counts(self) -> Counts | None:
        """Its children by state, or inside an each the items by its state."""
        if self.inside is not None:
            return self.inside.counts
        return self.standing.counts if isinstance(self.standing, PartStanding) else None


@dataclass(frozen=True, slots=True)
class PlanRecord:
    """A plan as a tree of parts, without states."""

    plan: Plan
    part: PartRecord


@dataclass(frozen=True, slots=True)
class GraphRecord:
    """A part of a run as a tree.

    Attributes:
        plan: the run's.
        part: the part, with all that is in it.
        progress: of the whole run at a moment; None of one that is as it is now.
    """

    plan: Plan
    part: PartRecord
    progress: PastProgress | None = None


@dataclass(frozen=True, slots=True)
class PastProgress:
    """How far a run was.

    Attributes:
        fraction: from 0 to 1; None while that was not known.
        seconds_left: None where that was not known.
        at_least: whether it was at least that.
    """

    fraction: float | None = None
    seconds_left: float | None = None
    at_least: bool = False


@dataclass(frozen=True, slots=True)
class AttemptRecord:
    """One attempt of a step."""

    id: int
    number: int
    tries: int
    round: int
    state: str
    outcome: Outcome | None
    error: StepError | None
    worker: str
    abandoned: bool
    pid: int | None
    cpu_seconds: float | None
    memory_bytes: int | None
    code_hash: str
    ready_at: int
    handed_at: int
    begun_at: int | None
    ended_at: int | None


@dataclass(frozen=True, slots=True)
class Decided:
    """What people decided about a step: it holds when the step begins, or begins again."""

    inputs: JsonValue
    pool: str | None
    priority: int | None
    end: str | None
    output: JsonValue


@dataclass(frozen=True, slots=True)
class StepRecord:
    """A step with its values and attempts.

    Attributes:
        plan: the run's.
        part: its part of the tree.
        address: with the run's number.
        standing: its state; None if it has not begun.
        folded: how many attempts are left out of `attempts`.
        decided: what people decided about it.
    """

    plan: Plan
    part: PartRecord
    address: str
    standing: StepStanding | None
    input: JsonValue
    output: JsonValue
    attempts: list[AttemptRecord]
    folded: int
    decided: Decided | None


@dataclass(frozen=True, slots=True)
class ItemPage:
    """A page of an each's items."""

    items: list[ItemRecord | Unreadable]
    next: str | None


@dataclass(frozen=True, slots=True)
class ExportedItem:
    """An item with its outcome and output, to be taken out."""

    value: JsonValue
    line: int | None
    item: int
    name: str
    address: str
    state: str
    reason: str | None
    error: str | None
    begun_at: int | None
    ended_at: int | None
    output: JsonValue


@dataclass(frozen=True, slots=True)
class ExportPage:
    """A page of exported items."""

    items: list[ExportedItem]
    next: str | None


@dataclass(frozen=True, slots=True)
class RunHead:
    """What the record of a run has once."""

    plan: JsonObject
    graph: GraphRecord
    commands: list[CommandRecord | Unreadable]
    ledger: list[EffectRecord | Unreadable]
    files: list[Record]
