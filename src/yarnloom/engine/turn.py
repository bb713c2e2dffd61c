"""What a use case works with while one transaction lasts."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.flow import Flow
from yarnloom.engine.hours import RUN, Hours
from yarnloom.engine.memory import Memory, Unbegun
from yarnloom.engine.pools import base_of
from yarnloom.engine.progress import PASSED_OVER, step_moved
from yarnloom.engine.recent import Recent, Tally
from yarnloom.engine.states import (
    RUN_ENDED,
    RUN_TABLE,
    STEP_ENDED,
    STEP_TABLE,
    Entry,
    RunEvent,
    StepEvent,
    StepState,
    next_state,
)
from yarnloom.engine.verdicts import Verdicts
from yarnloom.errors import Gone, NotFound
from yarnloom.plan import Node, Plan, address_in, item_key, read_plan
from yarnloom.secrets import Vault
from yarnloom.store import FileFolder, PartRow, Past, RunRow, StepRow, Unit
from yarnloom.store import writing as store
from yarnloom.values import VALUE_LIMIT

LEASE = 30.0
LOSSES = 3
KEEP_FILES = 86_400.0


@dataclass(slots=True)
class Settings:
    """What the engine is told once.

    Attributes:
        lease: seconds a worker is thought to live after its last request.
        losses: how often a step may lose its worker or process before it fails, unless it says so.
        chance: gives numbers from 0 to 1, for the jitter of waits.
        vault: seals secret params; None for that of the data folder.
        list_above: over how many bytes a gathered list is kept as a file.
        straight: whether items may go to workers without rows (`granting`).
        failures_above: over how many failed items their list is.
        keep_files: seconds that a file is kept that no run uses.
        verdicts: finds out what is wrong with values from outside.
    """

    lease: float = LEASE
    losses: int = LOSSES
    list_above: int = VALUE_LIMIT
    failures_above: int = 200
    straight: bool = True
    keep_files: float = KEEP_FILES
    chance: Callable[[], float] = random.random
    vault: Vault | None = None
    verdicts: Verdicts = field(default_factory=Verdicts)


BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE = "back_off", "deadline", "run_deadline"
FILES_DUE, CHORES_DUE = "files", "chores"
START_DUE, START_BY_DUE, SCHEDULE_DUE = "start", "start_by", "schedule"
"""What falls due and is kept in the store by time."""

TIMEOUT_DUE, QUIET_DUE, UNBEGUN_DUE, GRANT_DUE = "timeout", "quiet", "unbegun", "grant"

BEGIN_SECONDS = 5.0
"""Within which what was handed out begins, where nothing is wrong."""

ASLEEP = frozenset({StepState.BACKING_OFF, StepState.RESTING})
KEEPS_DUE = ASLEEP | {StepState.PAUSED}


@dataclass(frozen=True, slots=True)
class Ended:
    """How a child of a part stands.

    Attributes:
        state: its state, or what was decided.
        reason: why it was skipped.
        output: its output as JSON text.
        size: of the output in bytes, also where it is too large to be kept as one value.
    """

    state: str
    reason: str | None = None
    output: str | None = None
    size: int = 0

    @property
    def gave(self) -> bool:
        """Whether readers may go on: it is done, or was passed over."""
        return self.state == StepState.DONE or self.passed_over

    @property
    def passed_over(self) -> bool:
        """Whether it was skipped without anything being wrong."""
        return self.state == StepState.SKIPPED and self.reason in PASSED_OVER


@dataclass(frozen=True, slots=True)
class Late:
    """An answer that is made when the whole transaction is done, with what follows from it."""

    make: Callable[[], Any]


@dataclass(slots=True)
class Turn:
    """One transaction: the store's unit, the memory, the time, and what changed.

    Attributes:
        past: whether the records went back, and their epoch.
        recent: what happened within the last hour.
        flow: changed counts inside eaches.
        hours: ended runs and attempts, by workflow and step.
        now: microseconds since 1970 UTC. It never runs backwards while a run is under way, and what
            waits for a duration waits by it.
        ahead: by how much that is ahead of the clock, which was set back.
        mono: seconds of a clock that never jumps.
        changed: numbers of runs that look different now.
        ended: numbers of runs that have ended now.
        gone: workers that left or were lost.
        reporters: workers whose report is part of this transaction, so that they can be answered.
        workers: whether a worker came, went or took something.
        pools: names of pools that look different now.
        schedules: the same of schedules.
        children: how children ended that did so in this transaction, by part row and node.
        made: how many items were made in this transaction.
        made_room: workflows of which a run has ended while others wait.
        ended_now: runs that have ended of which nobody was told yet.
        settling: pausing runs of which something has ended, so that they may be paused now.
        dropped: hashes of files that are not kept any more.
        tally: what began and ended.
        relayed: by attempt the legs of relays that were reported as done, and have no rows yet.
        left_at: of sequences whose step ended in this transaction: when.
    """

    unit: Unit
    files: FileFolder
    memory: Memory
    settings: Settings
    plans: dict[int, Plan]
    service_id: str
    past: Past
    recent: Recent
    flow: Flow
    hours: Hours
    now: int
    mono: float
    ahead: int = 0
    changed: set[int] = field(default_factory=set)
    ended: set[int] = field(default_factory=set)
    gone: set[str] = field(default_factory=set)
    reporters: set[str] = field(default_factory=set)
    workers: bool = False
    pools: set[str] = field(default_factory=set)
    schedules: set[str] = field(default_factory=set)
    children: dict[tuple[int, int], Ended] = field(default_factory=dict)
    made: int = 0
    made_room: set[str] = field(default_factory=set)
    settling: set[int] = field(default_factory=set)
    ended_now: list[RunRow] = field(default_factory=list)
    dropped: list[str] = field(default_factory=list)
    tally: Tally = field(default_factory=Tally)
    relayed: dict[int, tuple[ReportItem, str]] = field(default_factory=dict)
    left_at: dict[int, int] = field(default_factory=dict)

    @property
    def vault(self) -> Vault:
        """Seals what must not be seen."""
        assert self.settings.vault is not None
        return self.settings.vault

    @property
    def wall(self) -> int:
        """The time of day, by the clock as it stands."""
        return self.now - self.ahead

    def remind_by_day(self, kind: str, wall: int) -> None:
        """The same for a time of day."""
        self.remind(kind, wall + self.ahead)

    def remind_of_start(self, run: RunRow) -> None:
        """See to it that a run is opened when its start time comes."""
        at = (run.start_at or 0) + (0 if run.after_a_while else self.ahead)
        self.remind(START_DUE, max(at, self.now))

    def mono_of(self, micros: int) -> float:
        """A time of the day as one of the steady clock."""
        return self.mono + (micros - self.now) / 1_000_000

    def remind(self, kind: str, at: int) -> None:
        """See to it that what falls due then is looked for in the store.

        The times are in the store; in memory is one entry for each kind, of the earliest.
        """
        self.memory.arm(kind, self.mono_of(at))

    def token_of(self, step: StepRow) -> str:
        """A text that is the same over all attempts of a step, and of no other's."""
        if step.inside is None:
            return self.token_of_place(step.part, step.node)
        return f"{self.token}{step.id}"

    def token_of_place(self, part: int, node: int) -> str:
        """The same of a step in no item, which may have no row yet."""
        return f"{self.token}{part}.{node}"

    @property
    def token(self) -> str:
        """What the tokens of all steps begin with."""
        return f"{self.service_id}-"

    def count_children(self, part: PartRow, done: int) -> None:
        """So many children of a part are done that were not counted yet."""
        part.done += done
        self.unit.parts.touch(part)

    def expect_begin(self, attempt: int) -> None:
        """An attempt was handed out: look at it again if it does not begin."""
        self.memory.unbegun[attempt] = Unbegun(self.mono)
        self.memory.arm(UNBEGUN_DUE, self.mono + BEGIN_SECONDS)

    def plan(self, run: RunRow) -> Plan:
        """The plan that a run started with."""
        return self.plan_by_id(run.plan)

    def plan_by_id(self, plan_id: int) -> Plan:
        """A plan that is kept."""
        plan = self.plans.get(plan_id)
        if plan is None:
            plan = self.plans[plan_id] = read_plan(store.plan_document(self.unit, plan_id))
            self.memory.contracts.learn(plan)
        return plan

    def run(self, number: int) -> RunRow:
        """A run by number.

        Raises:
            NotFound: there never was one.
            Gone: it was removed.
        """
        run = self.unit.runs.get(number)
        if run is None and self.unit.was_given_out(number):
            raise Gone(f"run {number} was removed")
        if run is None:
            raise NotFound(f"there is no run {number}; `yarnloom runs` lists what there is")
        return run

    def move_run(self, run: RunRow, event: RunEvent) -> None:
        """Let something happen to a run."""
        run.state = next_state(RUN_TABLE, run.state, event, f"run {run.number}")
        if run.state in RUN_ENDED:
            run.ended_at = self.now
            run.paused_at = None
            self.memory.paused.discard(run.number)
            self.memory.relays.barred.discard(run.number)
            self.ended.add(run.number)
            self.ended_now.append(run)
            took = None if run.started_at is None else self.now - run.started_at - run.spared
            waited = (run.started_at or self.now) - run.created_at
            self.hours.end(run.workflow, self.now, RUN, str(run.state), waited, took)
            if run.entered != Entry.AHEAD:
                self.memory.counted(run.entered)[run.workflow] -= 1
            if self.memory.held[run.workflow]:
                self.made_room.add(run.workflow)
        self.unit.runs.touch(run)
        self.changed.add(run.number)
        if run.schedule is not None:
            self.schedules.add(run.schedule)

    def move_step(self, step: StepRow, event: StepEvent, *, closing: bool = False) -> None:
        """Let something happen to a step; counters and lanes follow.

        Args:
            closing: its open attempt has ended.
        """
        before, was_free = step.state, self.free_to_start(step)
        after = next_state(STEP_TABLE, before, event, f"step {step.id} of run {step.run}")
        step.state = after
        if closing:
            step.open = step.stop = None
        is_free = self.free_to_start(step)
        if was_free and not is_free:
            self.take_out_of_lane(step)
        if is_free and not was_free:
            self.put_in_lane(step)
        if after == StepState.READY and before != StepState.READY:
            step.ready_at = self.now
        if after in STEP_ENDED:
            step.ended_at = self.now
        if after not in KEEPS_DUE:
            step.due_at = None
        if step.deadline_at is not None and after not in STEP_ENDED:
            self.remind(DEADLINE_DUE, step.deadline_at)
        self.unit.steps.touch(step)
        step_moved(self, step, event)
        self.count_child(step.part, before, after)
        if (after in ASLEEP) != (before in ASLEEP):
            self._count_asleep(step.inside, 1 if after in ASLEEP else -1)
        self.changed.add(step.run)
        if step.pool and (was_free or is_free):
            self.pools.add(base_of(step.pool))

    def put_in_lane(self, step: StepRow) -> None:
        """Add a step that can be handed out to its lane."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.memory.lanes.add(*lane)
        self.memory.ready.add(lane, (step.run, step.rank, step.id))

    def take_out_of_lane(self, step: StepRow) -> None:
        """Remove a step from its lane: it was handed out, or cannot be."""
        lane = (step.pool, step.priority, step.share, step.contract)
        self.memory.lanes.remove(*lane)
        self.memory.ready.discard(lane, step.id)

    def _count_asleep(self, item: int | None, more: int) -> None:
        """Something in an item fell asleep or woke: the each around it counts such items."""
        while item is not None:
            each = None
            for key in (item, self.unit.parts.need(item).parent):
                assert key is not None
                row = self.unit.parts.need(key)
                was = row.asleep > 0
                row.asleep += more
                self.unit.parts.touch(row)
                if was == (row.asleep > 0):
                    return
                each = row
            assert each is not None
            item = each.inside

    def free_to_start(self, step: StepRow) -> bool:
        """Whether a step could be handed out: as of the index `steps_to_start`, but for its run."""
        free = step.state == StepState.READY and step.open is None
        return free and step.run not in self.memory.paused

    def count_child(self, part: int, before: str | None, after: str) -> None:
        """A child of a part went from one state to another; None is waiting."""
        row = self.unit.parts.need(part)
        if before not in (None, StepState.WAITING):
            setattr(row, str(before), getattr(row, str(before)) - 1)
        if after != StepState.WAITING:
            setattr(row, after, getattr(row, after) + 1)
        self.unit.parts.touch(row)

    def around(self, part: PartRow) -> PartRow:
        """The part around a part."""
        assert part.parent is not None
        return self.unit.parts.need(part.parent)

    def address(self, run: RunRow, node: Node, part: PartRow) -> str:
        """The address of a node that stands in a part: `1042/harbours[brackwater]/fetch`."""
        keys: dict[int, str] = {}
        inside = part.id if part.value is not None else part.inside
        while inside is not None:
            item = self.unit.parts.need(inside)
            keys[item.node] = item_key(item.name, item.item)
            inside = item.inside
        return f"{run.number}/{address_in(self.plan(run), node, keys)}"

    def part_address(self, run: RunRow, part: PartRow) -> str:
        """The address of a part."""
        return self.address(run, self.plan(run).nodes[part.node], part).rstrip("/")
