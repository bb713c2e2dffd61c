"""Which method does which command: the table of all use cases.

A use case says with `@handles` which command it does. One of a new class gets into the table by
naming that class here.
"""

from __future__ import annotations

from typing import Any

from yarnloom.engine.commands.command import HANDLED, Command
from yarnloom.engine.compact.segments import Segments
from yarnloom.engine.dispatch.effects import Effects
from yarnloom.engine.dispatch.kept_files import KeptFiles
from yarnloom.engine.dispatch.pool_settings import PoolSettings
from yarnloom.engine.operations.attempt_reports import AttemptReports
from yarnloom.engine.operations.attempts_in_hand import AttemptsInHand
from yarnloom.engine.operations.cancel import Cancelling
from yarnloom.engine.operations.change_run import RunChanges
from yarnloom.engine.operations.due import DueWork
from yarnloom.engine.operations.links import Links
from yarnloom.engine.operations.list_results import ListResults
from yarnloom.engine.operations.mend import Mending
from yarnloom.engine.operations.pause import Pausing
from yarnloom.engine.operations.publish import Publishing
from yarnloom.engine.operations.saved_filters import SavedFilters
from yarnloom.engine.operations.schedules import Schedules
from yarnloom.engine.operations.start import Starting
from yarnloom.engine.operations.step_actions import StepActions
from yarnloom.engine.operations.worker_sessions import WorkerSessions
from yarnloom.engine.queries.explain import Explanations
from yarnloom.engine.transaction import Transaction

CLASSES = (
    *(AttemptReports, AttemptsInHand, Cancelling, DueWork, Effects, Explanations, KeptFiles),
    *(Links, ListResults, Mending, Pausing, PoolSettings, Publishing, RunChanges, SavedFilters),
    *(Schedules, Segments, Starting, StepActions, WorkerSessions),
)

USE_CASES: dict[type[Command], tuple[type, str]] = {
    getattr(use_case, HANDLED): (kind, name)
    for kind in CLASSES
    for name, use_case in vars(kind).items()
    if hasattr(use_case, HANDLED)
}
"""By command the class and the name of the method that does it."""


def do(transaction: Transaction, command: Command) -> Any:
    """Do a command; return its answer."""
    kind, name = USE_CASES[type(command)]
    return getattr(transaction.of(kind), name)(command)
