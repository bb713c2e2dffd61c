"""Looking back: how far a run was at a moment, by the samples that were kept."""

from __future__ import annotations

from yarnloom.engine.queries.runs import cut, short
from yarnloom.engine.records.parts import PastProgress
from yarnloom.engine.rules.progress import between
from yarnloom.store import Connection
from yarnloom.store.runs import progress_samples, run_lists


def progress_at(connection: Connection, number: int, at: int) -> PastProgress:
    """Return the progress and the time left of a run at a moment.

    Args:
        connection: a reader's.
        number: the run.
        at: the moment, in microseconds since 1970 UTC.
    """
    done_at = run_lists.done_at(connection, number)
    if done_at is not None and done_at <= at:
        return PastProgress(1.0)
    begin = max((mend for mend in run_lists.mends(connection, number) if mend <= at), default=0)
    sample = progress_samples.newest_by(connection, number, at)
    if sample is None or sample["at"] < begin:
        return PastProgress()
    fraction, left = between(sample["progress"], sample["left_micros"], sample["at"], at)
    return PastProgress(
        None if fraction is None else cut(fraction),
        None if left is None else short(left),
        bool(sample["at_least"]) and left is not None,
    )
