"""One transaction: the unit of work, the memory, the time, and what changed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.attempts import Unbegun
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.each_counts import Flow
from yarnloom.engine.state.hourly_counts import Hours
from yarnloom.engine.state.last_hour import Recent, Tally
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.progress import PASSED_OVER
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.time_sums import TimeSums
from yarnloom.errors import Gone, NotFound
from yarnloom.plan import Node, Plan, address_in, item_key, read_plan
from yarnloom.secrets import Vault
from yarnloom.store import FileFolder, PartRow, Past, RunRow, StepRow, Unit, workflow_records

BACK_OFF_DUE, DEADLINE_DUE, RUN_DEADLINE_DUE = "back_off", "deadline", "run_deadline"
FILES_DUE, CHORES_DUE = "files", "chores"
START_DUE, START_BY_DUE, SCHEDULE_DUE = "start", "start_by", "schedule"
"""What falls due and is kept in the store by time."""

TIMEOUT_DUE, QUIET_DUE, UNBEGUN_DUE, GRANT_DUE = "timeout", "quiet", "unbegun", "grant"

BEGIN_SECONDS = 5.0
"""Within which what was handed out begins, where nothing is wrong."""


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
class DeferredAnswer:
    """An answer that is made when the whole transaction is done, with what follows from it."""

    make: Callable[[], Any]


@dataclass(frozen=True, slots=True)
class Folder:
    """The data folder of a service.

    Attributes:
        files: the bytes of files and lists.
        id: a text that no other folder has.
        past: whether the records went back, and their epoch.
    """

    files: FileFolder
    id: str
    past: Past


@dataclass(frozen=True, slots=True)
class RunTime:
    """The time of one transaction.

    Attributes:
        now: microseconds since 1970 UTC. It never runs backwards while a run is under way, and what
            waits for a duration waits by it.
        mono: seconds of a clock that never jumps.
        ahead: by how much `now` is ahead of the clock, which was set back.
    """

    now: int
    mono: float
    ahead: int = 0

    @property
    def wall(self) -> int:
        """The time of day, by the clock as it is."""
        return self.now - self.ahead

    def mono_of(self, micros: int) -> float:
        """Return a time as one of the steady clock."""
        return self.mono + (micros - self.now) / 1_000_000


@dataclass(slots=True)
class Statistics:
    """What is counted over many runs.

    Attributes:
        last_hour: what happened within the last hour.
        tally: what began and ended in this transaction.
        eaches: changed counts inside eaches.
        hours: ended runs and attempts, by workflow and step.
        times: where the time of runs went.
    """

    last_hour: Recent
    eaches: Flow
    hours: Hours
    times: TimeSums
    tally: Tally = field(default_factory=Tally)


@dataclass(slots=True)
class Composing:
    """What the rules of composition note while a transaction lasts.

    Attributes:
        children: how children ended, by part row and node.
        made: how many items were made.
        relayed: by attempt the legs of relays that were reported as done, and have no rows yet.
        left_at: of sequences whose step ended: when.
    """

    children: dict[tuple[int, int], Ended] = field(default_factory=dict)
    made: int = 0
    relayed: dict[int, tuple[ReportItem, str]] = field(default_factory=dict)
    left_at: dict[int, int] = field(default_factory=dict)


@dataclass(slots=True)
class Afterwards:
    """What follows once the commands of a transaction are done.

    Attributes:
        made_room: workflows of which a run has ended while others wait.
        settling: pausing runs of which something has ended, so that they may be paused now.
        ended_runs: runs that have ended, and whose end nobody handled yet.
        schedules: schedules of which a run has ended, also one that had ended before.
    """

    made_room: set[str] = field(default_factory=set)
    settling: set[int] = field(default_factory=set)
    ended_runs: list[RunRow] = field(default_factory=list)
    schedules: set[str] = field(default_factory=set)

    @property
    def are_left(self) -> bool:
        """Whether anything of it is still to be done before the transaction ends."""
        return bool(self.ended_runs or self.schedules or self.made_room)


@dataclass(slots=True)
class Transaction:
    """One transaction.

    Attributes:
        unit: the store's unit of work.
        folder: the data folder.
        memory: the state beside the store.
        settings: limits, and what the engine takes from outside.
        plans: plans that were read, by id.
        time: the time.
        counts: what is counted over many runs.
        changes: what looks different now.
        composing: notes of the rules of composition.
        afterwards: what follows once the commands are done.
    """

    unit: Unit
    folder: Folder
    memory: Memory
    settings: EngineSettings
    plans: dict[int, Plan]
    time: RunTime
    counts: Statistics
    changes: Changes = field(default_factory=Changes)
    composing: Composing = field(default_factory=Composing)
    afterwards: Afterwards = field(default_factory=Afterwards)

    @property
    def now(self) -> int:
        """Microseconds since 1970 UTC, as `time` says."""
        return self.time.now

    @property
    def mono(self) -> float:
        """Seconds of the steady clock."""
        return self.time.mono

    @property
    def vault(self) -> Vault:
        """Seals what must not be seen."""
        assert self.settings.vault is not None
        return self.settings.vault

    # Timers

    def set_timer(self, kind: str, at: int) -> None:
        """Set the timer of a kind: at that time the engine looks into the store for what is due.

        The times are in the store; in memory is one entry for each kind, of the earliest.
        """
        self.memory.timers.set(kind, self.time.mono_of(at))

    def set_timer_by_day(self, kind: str, wall: int) -> None:
        """Set the timer of a kind for a time of day."""
        self.set_timer(kind, wall + self.time.ahead)

    def set_start_timer(self, run: RunRow) -> None:
        """Set the timer that opens a run when its start time comes."""
        at = (run.start_at or 0) + (0 if run.after_a_while else self.time.ahead)
        self.set_timer(START_DUE, max(at, self.now))

    def expect_begin(self, attempt: int) -> None:
        """Look again at an attempt that a worker got, if it does not begin."""
        self.memory.attempts.unbegun[attempt] = Unbegun(self.mono)
        self.memory.timers.set(UNBEGUN_DUE, self.mono + BEGIN_SECONDS)

    # Tokens of steps

    def token_of(self, step: StepRow) -> str:
        """Return a text that is the same over all attempts of a step, and of no other's."""
        if step.item_part is None:
            return self.token_of_place(step.part, step.node)
        return f"{self.token}{step.id}"

    def token_of_place(self, part: int, node: int) -> str:
        """Return the token of a step in no item, which may have no row yet."""
        return f"{self.token}{part}.{node}"

    @property
    def token(self) -> str:
        """What the tokens of all steps begin with."""
        return f"{self.folder.id}-"

    # Runs and parts

    def plan(self, run: RunRow) -> Plan:
        """The plan that a run started with."""
        return self.plan_by_id(run.plan)

    def plan_by_id(self, plan_id: int) -> Plan:
        """A plan that is kept."""
        plan = self.plans.get(plan_id)
        if plan is None:
            plan = self.plans[plan_id] = read_plan(
                workflow_records.plan_document(self.unit, plan_id)
            )
            self.memory.workers.contracts.learn(plan)
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

    def around(self, part: PartRow) -> PartRow:
        """The part around a part."""
        assert part.parent is not None
        return self.unit.parts.need(part.parent)

    def address(self, run: RunRow, node: Node, part: PartRow) -> str:
        """The address of a node that stands in a part: `1042/harbours[brackwater]/fetch`."""
        keys: dict[int, str] = {}
        inside = part.id if part.value is not None else part.item_part
        while inside is not None:
            item = self.unit.parts.need(inside)
            keys[item.node] = item_key(item.name, item.item)
            inside = item.item_part
        return f"{run.number}/{address_in(self.plan(run), node, keys)}"

    def part_address(self, run: RunRow, part: PartRow) -> str:
        """The address of a part."""
        return self.address(run, self.plan(run).nodes[part.node], part).rstrip("/")
