"""The record of a run, from inside a transaction."""

from __future__ import annotations

from yarnloom.engine.queries.runs import Look, run_record, under_way_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState
from yarnloom.engine.state.plans import Plans
from yarnloom.store import PartRow, RunRow, Unit

_OF_ROOT = ("outcome", "size")


def record_of(
    unit: Unit, time: RunTime, plans: Plans, run: RunRow, root: PartRow | None = None
) -> RunRecord:
    """Return the record of a run.

    Args:
        run: the run.
        root: its root part, where it is at hand.
    """
    root = root or unit.parts.one("run = ? AND parent IS NULL", run.number)
    counters = {name: getattr(root, name) for name in root.__slots__} if root else {}
    facts = {name: getattr(run, name) for name in run.__slots__}
    of_root = {name: getattr(root, name, None) for name in _OF_ROOT}
    if run.state not in (RunState.SCHEDULED, RunState.QUEUED, RunState.DONE):
        unit.flush()  # what is under way is asked of the store
    row = {"total": None, "done": None, **counters, **facts, **of_root}
    look = Look(time.now, plans.by_id)
    under_way = under_way_of(unit.execute, [row])
    return run_record(row, look, under_way.get(run.number, {}))
