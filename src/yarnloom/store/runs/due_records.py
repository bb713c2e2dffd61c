"""Which steps are ready, and which fall due."""

from __future__ import annotations

from yarnloom.store.unit_of_work import Unit

# What is ready of a run that is pausing or paused, or was put off, is in no lane.
NOT_HELD = (
    "run NOT IN (SELECT number FROM runs WHERE state IN ('pausing', 'paused')"
    " UNION ALL SELECT number FROM runs WHERE put_off = 1)"
)


READY_BY_LANE = (
    "SELECT pool, priority, share, contract, count(*), min(run) FROM steps"
    f" WHERE state = 'ready' AND open IS NULL AND {NOT_HELD}"
    " GROUP BY pool, priority, share, contract"
)


NEXT_READY = (
    "SELECT id, run, rank FROM steps INDEXED BY steps_to_start"
    " WHERE state = 'ready' AND open IS NULL AND pool = ? AND priority = ? AND share = ?"
    " AND contract = ? {held} ORDER BY run, rank LIMIT ?"
)


def ready_by_lane(unit: Unit) -> list[tuple[str, int, str, str, int, int]]:
    """How many steps could be handed out, by pool, priority, share and contract.

    The last number is the lane's oldest run, and lanes come in the order of these.
    """
    return sorted(unit.execute(READY_BY_LANE), key=lambda row: row[5])


def next_ready(
    unit: Unit, lane: tuple[str, int, str, str], limit: int, *, some_held: bool
) -> list[tuple[int, int, bytes]]:
    """The first steps of a lane in plan order: id, run and rank.

    Args:
        unit: the transaction.
        lane: pool, priority, share and contract.
        limit: how many.
        some_held: whether any runs are pausing or paused; theirs are passed over.
    """
    sql = NEXT_READY.format(held=f"AND {NOT_HELD}" if some_held else "")
    return unit.execute(sql, (*lane, limit))


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
