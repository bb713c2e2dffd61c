"""Made from `run_filters.py` by `make generate`: change that file instead."""

from __future__ import annotations

from datetime import datetime
from typing import TypedDict


class RunsFilter(TypedDict, total=False):
    """Which runs a list shows; a filter that is not given, or None, allows any.

    Attributes:
        workflow: runs of this workflow.
        tag: runs with this tag.
        key: runs that this start key made.
        schedule: runs of this schedule.
        who: runs that this one started.
        pool: runs that use this pool now, or wait for it.
        priority: runs of this priority.
        since: runs started then or later: 2h ago, or a time.
        until: runs started before then: 2h ago, or a time.
        within: runs started so long ago or later, as 24h.
        text: runs with this in their workflow, params, tags, key, error, ….
        followups_failed: runs of which a follow-up failed.
        without_reports: runs but for those that only tell of another run's end.
        saved: as this saved filter says; other filters count more.
    """

    workflow: str | None
    tag: str | None
    key: str | None
    schedule: str | None
    who: str | None
    pool: str | None
    priority: int | None
    since: datetime | None
    until: datetime | None
    within: str | None
    text: str | None
    followups_failed: bool | None
    without_reports: bool | None
    saved: str | None
