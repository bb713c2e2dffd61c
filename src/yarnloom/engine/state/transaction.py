"""One transaction: the unit of work, the memory, the time, and what changed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.afterwards import Afterwards
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.due_times import DueTimes
from yarnloom.engine.state.each_counts import Flow
from yarnloom.engine.state.hourly_counts import Hours
from yarnloom.engine.state.last_hour import Recent, Tally
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import PASSED_OVER, Progress
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.time_sums import TimeSums
from yarnloom.engine.state.transitions import Moves
from yarnloom.secrets import Vault
from yarnloom.store import FileFolder, Past, StepRow, Unit


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
        return f"{self.id}-"


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
class Transaction:
    """One transaction.

    Attributes:
        unit: the store's unit of work.
        folder: the data folder.
        memory: the state beside the store.
        settings: limits, and what the engine takes from outside.
        plans: plans, and addresses in them.
        time: the time.
        due_times: sets timers.
        counts: what is counted over many runs.
        changes: what looks different now.
        composing: notes of the rules of composition.
        afterwards: what follows once the commands are done.
        progress: keeps up how far everything is.
        moves: changes the states of runs and steps.
        pool_places: lets attempts into pools, and out of them.
    """

    unit: Unit
    folder: Folder
    memory: Memory
    settings: EngineSettings
    plans: Plans
    time: RunTime
    due_times: DueTimes
    counts: Statistics
    changes: Changes
    afterwards: Afterwards
    progress: Progress
    moves: Moves
    pool_places: PoolPlaces
    composing: Composing = field(default_factory=Composing)

    @property
    def vault(self) -> Vault:
        """Seals what must not be seen."""
        assert self.settings.vault is not None
        return self.settings.vault
