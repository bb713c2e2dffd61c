"""What follows from the end of a run outside of it: a schedule goes on, and tasks are told."""

from __future__ import annotations

from yarnloom.engine.commands import StartRun
from yarnloom.engine.operations.schedules import run_ended
from yarnloom.engine.operations.start import start_or_fail
from yarnloom.engine.queries.run_in_transaction import record_of
from yarnloom.engine.state.time_shares import learn
from yarnloom.engine.state.transaction import Transaction
from yarnloom.engine.state.workflows import Listener
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


def follow(transaction: Transaction) -> None:
    """See to what follows from the runs that have ended in this transaction."""
    while transaction.afterwards.schedules:
        run_ended(transaction, transaction.afterwards.schedules.pop())
    while transaction.afterwards.ended_runs:
        run = transaction.afterwards.ended_runs.pop(0)
        learn(transaction, run)
        if run.after is None:
            _tell(transaction, run)


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


def _tell(transaction: Transaction, run: RunRow) -> None:
    loom = run.workflow.partition("/")[0]
    for listener in transaction.memory.workflows.listeners.get(loom, ()):
        if not listener.hears_of(run.workflow, run.state):
            continue
        record = record_of(transaction.unit, transaction.time, transaction.plans, run)
        facts: JsonObject = {name: getattr(record, name) for name in TOLD}
        facts |= {name: iso_time(getattr(record, name)) for name in TOLD_TIMES}
        values = {name: getattr(record, name) for name in TOLD_IF_SMALL}
        small = {name: _is_small(value) for name, value in values.items()}
        facts |= {name: value if small[name] else None for name, value in values.items()}
        left_out = [name for name in TOLD_IF_SMALL if not small[name]]
        facts["left_out"] = [*left_out, *(["output"] if record.output_left_out else [])]
        (name,) = workflow_records.task_facts(transaction.unit, listener.task)["input"][
            "properties"
        ]
        start_or_fail(
            transaction,
            StartRun(
                workflow=listener.task,
                task=True,
                params={name: facts},
                key=f"end/{run.number}/{run.round}",
                who="service",
                priority=run.priority,
                share=run.share,
                after=run.number,
            ),
        )
