"""Why something does not run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from yarnloom.values import JsonObject


class Reason(NamedTuple):
    """Why something does not go on: `service/render/reasons.py` has the words.

    Attributes:
        kind: which reason.
        facts: what the API shows of it, by name.
        words: what only the sentence needs.
    """

    kind: str
    facts: JsonObject
    words: JsonObject


@dataclass(frozen=True, slots=True)
class WaitRecord:
    """A step that has not ended, or a part that has not begun.

    Attributes:
        attempt: the open attempt, of a step that runs.
        begun_at: when that began.
        deadline_at: of a step with a deadline.
    """

    address: str
    state: str
    reasons: list[Reason]
    attempt: int | None = None
    begun_at: int | None = None
    deadline_at: int | None = None


@dataclass(frozen=True, slots=True)
class WhyRecord:
    """What a run, or a part of it, waits for.

    Attributes:
        reasons: what holds for all of it.
        waits: in plan order, up to a limit.
        more: whether there are more.
    """

    run: int
    workflow: str
    state: str
    reasons: list[Reason]
    waits: list[WaitRecord]
    more: bool
