"""What the rules of composition share about one run while they work."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.compact.granted_items import GrantedItems
from yarnloom.engine.compact.relay_steps import RelaySteps
from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.parts.create_rows import NewRows
from yarnloom.engine.parts.item_matching import ItemMatching
from yarnloom.engine.parts.items import Items
from yarnloom.engine.parts.list_jobs import ListJobs
from yarnloom.engine.parts.outcomes import Outcomes
from yarnloom.engine.parts.references import References, Resolver
from yarnloom.engine.parts.work_queue import WorkItem
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.changes import Changes
from yarnloom.engine.state.composing import Composing
from yarnloom.engine.state.grants import Grants
from yarnloom.engine.state.memory import Parts
from yarnloom.engine.state.open_relays import Relays
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.timers import Timers
from yarnloom.engine.state.transitions import Moves
from yarnloom.plan import Plan
from yarnloom.store import RunRow, Unit


@dataclass(slots=True)
class CompositionNeeds:
    """What the rules of composition are made of."""

    unit: Unit
    time: RunTime
    plans: Plans
    changes: Changes
    settings: EngineSettings
    composing: Composing
    progress: Progress
    moves: Moves
    grants: Grants
    relays: Relays
    timers: Timers
    parts: Parts
    granted_items: GrantedItems
    item_matching: ItemMatching
    items: Items
    list_jobs: ListJobs
    new_rows: NewRows
    outcomes: Outcomes
    references: References
    relay_steps: RelaySteps
    worker_orders: WorkerOrders


@dataclass(slots=True)
class ComposedRun:
    """One run within a transaction.

    Attributes:
        needs: what the rules are made of.
        run: the run.
        plan: its plan.
        resolver: what its references mean.
        queue: what is still to be looked at, the newest last.
        without_grace: whether steps that stop have no time for it.
    """

    needs: CompositionNeeds
    run: RunRow
    plan: Plan
    resolver: Resolver
    queue: list[WorkItem] = field(default_factory=list)
    without_grace: bool = False
