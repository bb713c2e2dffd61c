"""Which function does which command: the table of all use cases.

A use case says with `@handles` which command it does. One in a new file gets into the table by
naming that file here.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yarnloom.engine.commands.command import HANDLED, Command
from yarnloom.engine.compact import segments
from yarnloom.engine.dispatch import effects, kept_files, pool_settings
from yarnloom.engine.operations import (
    attempt_reports,
    cancel,
    change_run,
    due,
    links,
    list_results,
    mend,
    pause,
    publish,
    saved_filters,
    schedules,
    start,
    step_actions,
    worker_sessions,
)
from yarnloom.engine.queries import explain
from yarnloom.engine.state.transaction import Transaction

FILES = (
    *(attempt_reports, cancel, change_run, due, effects),
    *(explain, kept_files, links, list_results, mend),
    *(pause, pool_settings, publish, saved_filters, schedules),
    *(segments, start, step_actions, worker_sessions),
)

USE_CASES: dict[type[Command], Callable[[Transaction, Any], Any]] = {
    getattr(use_case, HANDLED): use_case
    for file in FILES
    for use_case in vars(file).values()
    if hasattr(use_case, HANDLED) and use_case.__module__ == file.__name__
}
