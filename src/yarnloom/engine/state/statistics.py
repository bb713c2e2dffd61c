"""Counters over many runs."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.state.each_counts import Flow, TimeSums
from yarnloom.engine.state.hourly_counts import Hours, Recent, Tally


@dataclass(slots=True)
class Statistics:
    """Counters over many runs.

    Attributes:
        last_hour: what happened within the last hour.
        tally: what began and ended in this transaction.
        eaches: changed counts inside eaches.
        hours: ended runs and attempts, by workflow and step.
        times: where the time of runs went.
    """

    last_hour: Recent
    eaches: Flow
    hours: Hours
    times: TimeSums
    tally: Tally = field(default_factory=Tally)
