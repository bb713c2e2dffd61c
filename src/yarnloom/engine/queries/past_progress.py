"""Looking back: how far a run was at a moment, by the samples that were kept."""

from __future__ import annotations

from typing import Any, NamedTuple

from yarnloom.engine.queries.run_views import cut, short
from yarnloom.engine.rules.progress import between
from yarnloom.store import progress_samples, run_queries

Connection = Any


class Progress(NamedTuple):
    """How far a run was."""

    fraction: float | None = None
    """From 0 to 1; None while that was not known."""
    seconds_left: float | None = None
    """None where that was not known."""
    at_least: bool = False
    """Whether it was at least that."""


def progress_at(connection: Connection, number: int, at: int) -> Progress:
    """Return the progress and the time left of a run at a moment.

    Args:
        connection: a reader's.
        number: the run.
        at: the moment, in microseconds since 1970 UTC.
    """
    done_at = run_queries.done_at(connection, number)
    if done_at is not None and done_at <= at:
        return Progress(1.0)
    begin = max((mend for mend in run_queries.mends(connection, number) if mend <= at), default=0)
    sample = progress_samples.newest_by(connection, number, at)
    if sample is None or sample["at"] < begin:
        return Progress()
    fraction, left = between(sample["progress"], sample["left_micros"], sample["at"], at)
    return Progress(
        None if fraction is None else cut(fraction),
        None if left is None else short(left),
        bool(sample["at_least"]) and left is not None,
    )
