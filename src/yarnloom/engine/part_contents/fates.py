"""What someone decided is to become of a step."""

from __future__ import annotations

from dataclasses import dataclass

FATE_FIELDS = ("fate", "output", "why")


@dataclass(frozen=True, slots=True)
class Fate:
    """What someone decided is to become of a step that nobody runs.

    Attributes:
        kind: `skip`, `cancel` or `supply`.
        output: of a supply, as JSON text.
        why: of a cancel: who and why.
    """

    kind: str
    output: str | None
    why: str
