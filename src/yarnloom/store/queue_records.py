"""The writer's statements about steps that are ready, by lane."""

from __future__ import annotations

from yarnloom.store.unit_of_work import Unit

# What is ready of a run that is pausing or paused is in no lane.
NOT_HELD = "run NOT IN (SELECT number FROM runs WHERE state IN ('pausing', 'paused'))"


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
