"""Runs as flat JSON: each start, and each wait for an end, is answered with one.

`protocol/run_answers.py` has the model; each answer is held to it in the test run.
"""

from __future__ import annotations

from yarnloom.engine.records.runs import Counts, RunPage, RunProgress, RunRecord
from yarnloom.engine.records.unreadable import Unreadable
from yarnloom.units import iso_time
from yarnloom.values import JsonObject, dump

_TIMES = (
    *("created_at", "start_at", "start_by", "deadline_at", "paused_at"),
    *("started_at", "ended_at"),
)
_PROGRESS = tuple(RunProgress.__slots__)
_PLAIN = tuple(name for name in RunRecord.__slots__ if name not in {*_TIMES, "progress", "counts"})
_COUNTS = tuple(Counts.__slots__)


def counts_json(counts: Counts) -> JsonObject:
    """Return how many are in each state."""
    return plain_json(counts, _COUNTS)


def plain_json(record: object, names: tuple[str, ...]) -> JsonObject:
    """Return the fields of a record as they are; ten times as fast as `asdict`, which copies."""
    return {name: getattr(record, name) for name in names}


def run_text(run: RunRecord) -> bytes:
    """Return a run as JSON text."""
    return dump(run_json(run))


def run_json(run: RunRecord) -> JsonObject:
    """Return a run as a JSON object."""
    shown = plain_json(run, _PLAIN)
    for name in _TIMES:
        shown[name] = iso_time(getattr(run, name))
    shown["progress"] = plain_json(run.progress, _PROGRESS)
    shown["counts"] = counts_json(run.counts)
    return shown


def page_json(page: RunPage) -> JsonObject:
    """Return a page of the list of runs."""
    runs = [
        {**run.kept, "unreadable": run.unreadable} if isinstance(run, Unreadable) else run_json(run)
        for run in page.runs
    ]
    return {"runs": runs, "next": None if page.next is None else str(page.next)}
