"""A run as the API shows it, from inside a transaction."""

from __future__ import annotations

from typing import Any

from yarnloom.engine.turn import Turn
from yarnloom.engine.views import run_view
from yarnloom.store import PartRow, RunRow


def present(turn: Turn, run: RunRow, root: PartRow | None = None) -> dict[str, Any]:
    """The run as the API shows it.

    Args:
        turn: the transaction.
        run: the run.
        root: its root part, where it is at hand.
    """
    root = root or turn.unit.parts.one("run = ? AND parent IS NULL", run.number)
    counters = {name: getattr(root, name) for name in root.__slots__} if root else {}
    facts = {name: getattr(run, name) for name in run.__slots__}
    decided = {"outcome": root and root.outcome, "size": root.size if root else 0}
    return run_view({**counters, **facts, **decided})
