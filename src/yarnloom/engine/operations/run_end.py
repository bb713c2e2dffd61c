"""What follows from the end of a run outside of it: a schedule goes on, and tasks are told."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import StartRun
from yarnloom.engine.operations.pace_learning import PaceLearning
from yarnloom.engine.operations.schedules import Schedules
from yarnloom.engine.operations.start import Starting
from yarnloom.engine.queries.run_in_transaction import record_of
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.afterwards import Afterwards
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.workflows import Listener, Workflows
from yarnloom.store import RunRow, Unit, schedule_records, workflow_records
from yarnloom.units import iso_time
from yarnloom.values import DEPTH_LIMIT, JsonObject, JsonValue, depth_problem, dump

TOLD = (
    "number",
    "workflow",
    "task",
    "version",
    "state",
    "round",
    "error",
    "failures_allowed",
    "followups_failed",
    "tags",
    "share",
    "key",
    "started_by",
    "schedule",
    "planned_at",
)
"""Facts of an ended run that tasks get: none that can be large."""

TOLD_TIMES = ("created_at", "started_at", "ended_at")

TOLD_IF_SMALL = ("params", "output")
SMALL = 64 * 1024
"""Bytes of each of these that are told. Besides, they stand deeper than in their own run."""


@dataclass(slots=True)
class RunEnds:
    """Does what follows from the end of a run."""

    unit: Unit
    time: RunTime
    plans: Plans
    afterwards: Afterwards
    workflows: Workflows
    pace_learning: PaceLearning
    schedules: Schedules
    starting: Starting

    def follow(self) -> None:
        """See to what follows from the runs that have ended in this transaction."""
        while self.afterwards.schedules:
            self.schedules.run_ended(self.afterwards.schedules.pop())
        while self.afterwards.ended_runs:
            run = self.afterwards.ended_runs.pop(0)
            self.pace_learning.learn(run)
            if run.after is None:
                self._tell(run)

    def _tell(self, run: RunRow) -> None:
        loom = run.workflow.partition("/")[0]
        for listener in self.workflows.listeners.get(loom, ()):
            if not listener.hears_of(run.workflow, run.state):
                continue
            record = record_of(self.unit, self.time, self.plans, run)
            facts: JsonObject = {name: getattr(record, name) for name in TOLD}
            facts |= {name: iso_time(getattr(record, name)) for name in TOLD_TIMES}
            values = {name: getattr(record, name) for name in TOLD_IF_SMALL}
            small = {name: _is_small(value) for name, value in values.items()}
            facts |= {name: value if small[name] else None for name, value in values.items()}
            left_out = [name for name in TOLD_IF_SMALL if not small[name]]
            facts["left_out"] = [*left_out, *(["output"] if record.output_left_out else [])]
            (name,) = workflow_records.task_facts(self.unit, listener.task)["input"]["properties"]
            self.starting.start_or_fail(
                StartRun(
                    workflow=listener.task,
                    task=True,
                    params={name: facts},
                    key=f"end/{run.number}/{run.round}",
                    who="service",
                    priority=run.priority,
                    share=run.share,
                    after=run.number,
                )
            )


def listeners_of(unit: Unit) -> dict[str, list[Listener]]:
    """By loom the tasks that are told of ends."""
    found: dict[str, list[Listener]] = {}
    for loom, task, states, workflows in schedule_records.listeners(unit):
        listener = Listener(task, frozenset(states), frozenset(workflows))
        found.setdefault(loom, []).append(listener)
    return found


def _is_small(value: JsonValue) -> bool:
    """Whether a value can be told as it is."""
    return depth_problem(value, DEPTH_LIMIT - 2) is None and len(dump(value)) <= SMALL
