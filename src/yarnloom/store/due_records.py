"""The writer's statements about what is due: deadlines and back-offs."""

from __future__ import annotations

from yarnloom.store.unit_of_work import Unit

_LATE_RUN = "deadline_at IS NOT NULL AND ended_at IS NULL AND stop IS NULL AND paused_at IS NULL"


# A step that is to stop for a pause or drain can still be too late; one whose run is paused not.
_LATE_STEP = (
    "deadline_at IS NOT NULL AND ended_at IS NULL AND state <> 'paused'"
    " AND (stop IS NULL OR stop IN ('pause', 'drain'))"
    " AND run NOT IN (SELECT number FROM runs WHERE state = 'paused')"
)


def runs_past_deadline(unit: Unit, now: int) -> list[int]:
    """Runs that should have ended by now and were not told to stop."""
    unit.flush()
    sql = f"SELECT number FROM runs WHERE {_LATE_RUN} AND deadline_at <= ?"
    found = unit.execute(sql, (now,))
    return [number for (number,) in found]


def next_run_deadline(unit: Unit) -> int | None:
    """When the next run should have ended."""
    return unit.least(f"SELECT min(deadline_at) FROM runs WHERE {_LATE_RUN}")


def steps_past_deadline(unit: Unit, now: int, limit: int) -> list[int]:
    """Steps that should have ended by now and were not told to stop."""
    unit.flush()
    found = unit.execute(
        f"SELECT id FROM steps WHERE {_LATE_STEP} AND deadline_at <= ?"
        " ORDER BY deadline_at LIMIT ?",
        (now, limit),
    )
    return [step for (step,) in found]


def next_step_deadline(unit: Unit) -> int | None:
    """When the next step should have ended."""
    return unit.least(f"SELECT min(deadline_at) FROM steps WHERE {_LATE_STEP}")


_DUE = "due_at IS NOT NULL AND state <> 'paused'"


def steps_due(unit: Unit, now: int, limit: int) -> list[int]:
    """Steps whose back-off or rest is over."""
    unit.flush()
    found = unit.execute(
        f"SELECT id FROM steps WHERE {_DUE} AND due_at <= ? ORDER BY due_at LIMIT ?", (now, limit)
    )
    return [step for (step,) in found]


def next_due(unit: Unit) -> int | None:
    """When the next back-off or rest is over."""
    return unit.least(f"SELECT min(due_at) FROM steps WHERE {_DUE}")
