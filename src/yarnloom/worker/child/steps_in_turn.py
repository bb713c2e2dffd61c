"""Attempts that a process runs one behind the other: it gives each what those before it gave.

Where one is not simply done, with an output that can be passed on, those behind it are not run:
they go back to the service.

Decision: `docs/decisions/13-relays.md`.
"""

from __future__ import annotations

import contextlib

from yarnloom.errors import ValueRefused
from yarnloom.media_types import named_in
from yarnloom.values import JsonObject, JsonValue, encode
from yarnloom.worker.child.call_task import Called

Message = JsonObject

LARGEST_PASSED = 64 * 1024
"""Bytes of an output that is passed on; the service, which has limits, handles larger ones."""


class PassedOutputs:
    """What the attempts gave that a process ran last, one behind the other."""

    def __init__(self) -> None:
        self._outputs: dict[int, JsonValue] = {}

    def prepare(self, work: Message) -> bool:
        """Complete the input of an attempt that comes next; whether it may be run."""
        behind = work.get("behind")
        if behind is None:
            if self._outputs:
                self._outputs = {}
            return True
        if behind not in self._outputs:
            return False
        work["input"] |= {name: self._outputs[one] for name, one in work["passed"].items()}
        return True

    def keep(self, attempt: int, called: Called) -> None:
        """Remember what an attempt gave that others come behind."""
        if called.outcome != "done":
            return
        with contextlib.suppress(ValueRefused):
            text = encode(called.output, limit=LARGEST_PASSED)
            if not named_in(text):
                self._outputs[attempt] = called.output


def not_behind(attempt: int) -> Message:
    """Return the end of an attempt that does not run, since the one before it did not end well."""
    ended = {"kind": "ended", "attempt": attempt, "at": None, "outcome": "handed_back"}
    return {**ended, "output": None, "error": None, "after": None, "saved": None}
