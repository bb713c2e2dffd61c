"""What the rules of composition share about one run while they work."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.parts.references import Resolver
from yarnloom.engine.parts.work_queue import WorkItem
from yarnloom.engine.state.transaction import Transaction
from yarnloom.plan import Plan
from yarnloom.store import RunRow


@dataclass(slots=True)
class ComposedRun:
    """One run within a transaction.

    Attributes:
        transaction: the transaction.
        run: the run.
        plan: its plan.
        resolver: what its references mean.
        queue: what is still to be looked at, the newest last.
        without_grace: whether steps that stop have no time for it.
    """

    transaction: Transaction
    run: RunRow
    plan: Plan
    resolver: Resolver
    queue: list[WorkItem] = field(default_factory=list)
    without_grace: bool = False
