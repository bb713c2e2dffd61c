"""Which function does which command: the table of all use cases.

A use case says with `@handles` which command it does. One in a new file gets into the table by
naming that file here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from inspect import signature
from operator import attrgetter
from typing import Any

from yarnloom.engine.commands.command import HANDLED, Command
from yarnloom.engine.compact import segments
from yarnloom.engine.dispatch import effects, kept_files, pool_settings
from yarnloom.engine.operations import (
    attempt_reports,
    attempts_in_hand,
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
from yarnloom.engine.state.memory import Memory
from yarnloom.engine.state.transaction import Transaction

FILES = (
    *(attempts_in_hand, attempt_reports, cancel, change_run, due, effects),
    *(explain, kept_files, links, list_results, mend),
    *(pause, pool_settings, publish, saved_filters, schedules),
    *(segments, start, step_actions, worker_sessions),
)

UseCase = Callable[[Transaction, Command], Any]


def _called_with_its_parts(use_case: Callable[..., Any]) -> UseCase:
    """Return a use case that gets those parts of a transaction that its parameters name.

    `unit`, `time` and the like are attributes of a transaction, `workers` and the like of its
    memory. `transaction` is all of it; the one other parameter is the command.
    """
    of_transaction = {field.name for field in fields(Transaction)} | {"vault"}
    of_memory = {field.name for field in fields(Memory)}
    paths = [
        name if name in of_transaction else f"memory.{name}" if name in of_memory else None
        for name in signature(use_case).parameters
        if name != "transaction"
    ]
    if paths == [None]:
        return use_case
    parts = [attrgetter(path) if path else None for path in paths]

    def call(transaction: Transaction, command: Command) -> Any:
        return use_case(*[part(transaction) if part else command for part in parts])

    return call


USE_CASES: dict[type[Command], UseCase] = {
    getattr(use_case, HANDLED): _called_with_its_parts(use_case)
    for file in FILES
    for use_case in vars(file).values()
    if hasattr(use_case, HANDLED) and use_case.__module__ == file.__name__
}
