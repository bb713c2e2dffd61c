"""What the engine keeps in memory beside the store.

All of it can be rebuilt from the store, and is, at a start and after a failed commit. Workers'
leases are only here: after a rebuild every worker gets a full one.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.due_times import Timers
from yarnloom.engine.state.each_memory import Jobs, Parts
from yarnloom.engine.state.given_items import Grants
from yarnloom.engine.state.plans import Workflows
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.workers import Workers


@dataclass(slots=True)
class Memory:
    """The state beside the store.

    Attributes:
        workers: the workers that are thought to live.
        queue: the steps that they can take.
        pools: what limits how many run at once.
        attempts: what is expected of those that they have.
        grants: items of eaches that have no rows while workers have them.
        relays: steps of sequences that have no rows while workers have them.
        timers: what is looked at when a time has come.
        workflows: plans, runs under way, listeners, times to expect.
        parts: what saves a second look at parts.
        jobs: what others do for eaches.
    """

    workers: Workers = field(default_factory=Workers)
    queue: StepQueue = field(default_factory=StepQueue)
    pools: Pools = field(default_factory=Pools)
    attempts: OpenAttempts = field(default_factory=OpenAttempts)
    grants: Grants = field(default_factory=Grants)
    relays: Relays = field(default_factory=Relays)
    timers: Timers = field(default_factory=Timers)
    workflows: Workflows = field(default_factory=Workflows)
    parts: Parts = field(default_factory=Parts)
    jobs: Jobs = field(default_factory=Jobs)
