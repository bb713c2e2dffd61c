"""What came of a batch of commands."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from yarnloom.engine.commands import ListJob
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.values import JsonObject


@dataclass(slots=True)
class Results:
    """What came of a batch.

    Attributes:
        answers: one for each command, in order: its answer, or the exception that refused it.
        messages: for workers with an open request: what the service sends to them now.
        changes: what looks different now.
        list_jobs: jobs for others, each ended by `EndListJob`.
        commit_seconds: how long the disk took to make it durable; None if nothing was stored.
        next_due: when the caller submits `Tick`, on the steady clock; None if never.
        fault: why nothing could be stored.
    """

    answers: list[Any] = field(default_factory=list)
    messages: dict[str, list[JsonObject]] = field(default_factory=dict)
    changes: Changes = field(default_factory=Changes)
    list_jobs: list[ListJob] = field(default_factory=list)
    commit_seconds: float | None = None
    next_due: float | None = None
    fault: str | None = None

    def add(self, later: Results) -> None:
        """Add the results of a command that was done behind these."""
        self.answers += later.answers
        for worker, messages in later.messages.items():
            self.messages.setdefault(worker, []).extend(messages)
        self.changes.add(later.changes)
        self.list_jobs += later.list_jobs
        self.next_due, self.fault = later.next_due, later.fault
