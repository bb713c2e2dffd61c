"""What failed in a run, grouped: what differs only in numbers and names is one kind of failure."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from yarnloom.engine.queries.run_graph import addresses_in
from yarnloom.engine.records.runs import FailureKind, FailuresRecord
from yarnloom.plan import Plan
from yarnloom.store import Connection
from yarnloom.store.runs import step_queries
from yarnloom.values import JsonObject

MOST = 5_000
"""How many failed steps are looked at, the first in plan order."""

SHOWN = 500
"""How many addresses of failed steps are given."""

_DIFFERS = re.compile(
    r"'[^']{0,200}'|\"[^\"]{0,200}\"|\b0x[0-9a-f]+\b|\b[0-9a-f]{8,}\b|\d+(?:[.,:]\d+)*", re.I
)


@dataclass(slots=True)
class FailureGroup:
    """Failures of one task that are alike, wherever in the run they happened.

    Attributes:
        task: the task that failed.
        type: of the error.
        pattern: its message with … for what differs.
        message: of the first.
        first: the id of the step that failed first in plan order.
        first_at: when the earliest ended.
        number: how many there are.
        messages: the texts that are among them.
        nodes: the steps in the plan, in plan order of their first failures.
    """

    task: str
    type: str
    pattern: str
    message: str
    first: int
    first_at: int
    number: int = 0
    messages: set[str] = field(default_factory=set)
    nodes: list[int] = field(default_factory=list)

    @property
    def said(self) -> str:
        """The message if all have the same, else the pattern."""
        return (self.message if len(self.messages) == 1 else self.pattern) or self.type


def pattern_of(message: str) -> str:
    """A message with … for numbers, identifiers and quoted text."""
    return _DIFFERS.sub("…", message)


def kinds_of(rows: list[JsonObject], plan: Plan) -> list[FailureGroup]:
    """Return failures by kind, the most frequent first.

    Args:
        rows: as `step_queries.failed_steps` gives them.
        plan: the run's.
    """
    groups: dict[tuple[str, str, str], FailureGroup] = {}
    for row in rows:
        message = row["message"] or ""
        type_, pattern = row["type"] or "error", pattern_of(message)
        task = plan.nodes[row["node"]].task
        kind = groups.get((task, type_, pattern))
        if kind is None:
            kind = FailureGroup(task, type_, pattern, message, row["id"], row["ended_at"])
            groups[task, type_, pattern] = kind
        kind.number += 1
        if row["node"] not in kind.nodes:
            kind.nodes.append(row["node"])
        kind.first_at = min(kind.first_at, row["ended_at"])
        kind.messages.add(message)
    return sorted(groups.values(), key=lambda group: -group.number)


def failures(connection: Connection, plan: Plan, number: int) -> FailuresRecord:
    """Return what failed in a run, by kind, and where.

    Args:
        connection: a reader's.
        plan: the run's.
        number: the run.
    """
    rows = step_queries.failed_steps(connection, number, MOST)
    kinds = kinds_of(rows, plan)
    shown = {row["id"]: row for row in rows[:SHOWN]}
    firsts = {row["id"]: row for row in rows if row["id"] in {kind.first for kind in kinds}}
    addresses = addresses_in(connection, plan, {**shown, **firsts})
    return FailuresRecord(
        failed=len(rows),
        more=len(rows) == MOST,
        kinds=[
            FailureKind(
                task=kind.task,
                address=plan.address(plan.nodes[kind.nodes[0]]),
                addresses=[plan.address(plan.nodes[node]) for node in kind.nodes],
                type=kind.type,
                pattern=kind.pattern,
                said=kind.said,
                number=kind.number,
                in_items=firsts[kind.first]["item_part"] is not None,
                first=addresses[kind.first],
                first_at=kind.first_at,
            )
            for kind in kinds
        ],
        steps=[addresses[key] for key in shown],
    )
