"""One transaction: makes the objects of which its use cases consist, and does commands.

A use case says with `@handles` which command it does. One of a new class gets into the table by
naming that class here.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import fields
from typing import Any, TypeVar, get_type_hints

from yarnloom.engine.commands.command import HANDLED, Command
from yarnloom.engine.dispatch.effects import Effects
from yarnloom.engine.dispatch.kept_files import KeptFiles
from yarnloom.engine.dispatch.pool_settings import PoolSettings
from yarnloom.engine.queries.explain import Explanations
from yarnloom.engine.queries.pool_queue import PoolQueues
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.transaction_notes import Afterwards, Changes, Composing, begin_anew
from yarnloom.engine.use_cases.access import Access
from yarnloom.engine.use_cases.attempt_reports import AttemptReports
from yarnloom.engine.use_cases.attempts_in_hand import AttemptsInHand
from yarnloom.engine.use_cases.cancel import Cancelling
from yarnloom.engine.use_cases.change_run import RunChanges
from yarnloom.engine.use_cases.due import DueWork
from yarnloom.engine.use_cases.links import Links
from yarnloom.engine.use_cases.list_results import ListResults
from yarnloom.engine.use_cases.mend import Mending
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.engine.use_cases.publish import Publishing
from yarnloom.engine.use_cases.saved_filters import SavedFilters
from yarnloom.engine.use_cases.schedules import Schedules
from yarnloom.engine.use_cases.start import Starting
from yarnloom.engine.use_cases.step_actions import StepActions
from yarnloom.engine.use_cases.worker_sessions import WorkerSessions
from yarnloom.engine.without_rows.item_batches import Segments

T = TypeVar("T")

_NEEDED: dict[type, tuple[type, ...]] = {}
"""By class the classes of its fields."""


class Transaction:
    """One transaction after another.

    A use case is a method of a dataclass whose fields name all that it touches: aggregates, which
    own what is written, and other such classes. One object of each is made when it is needed, and
    serves all transactions until the memory is rebuilt.

    Args:
        parts: the aggregates.
    """

    def __init__(self, parts: Iterable[object]) -> None:
        self._made: dict[type, Any] = {type(part): part for part in parts}

    def begin(self, now: int, mono: float, ahead: int) -> None:
        """Begin the next transaction, at a time as `RunTime` has it."""
        time = self.of(RunTime)
        time.now, time.mono, time.ahead = now, mono, ahead
        for notes in (Changes, Afterwards, Composing):
            begin_anew(self.of(notes))
        begin_anew(self.of(Statistics).tally)

    def of(self, kind: type[T]) -> T:
        """Return the object of a class."""
        known = self._made
        made: T | None = known.get(kind)
        if made is None:
            made = known[kind] = kind(*[self.of(needed) for needed in _needed_by(kind)])
        return made


def _needed_by(kind: Any) -> tuple[type, ...]:
    """Return the classes of the fields of a dataclass."""
    if kind not in _NEEDED:
        hints = get_type_hints(kind)
        _NEEDED[kind] = tuple(hints[field.name] for field in fields(kind))
    return _NEEDED[kind]


CLASSES = (
    *(Access, AttemptReports, AttemptsInHand, Cancelling, DueWork, Effects, Explanations),
    *(
        KeptFiles,
        Links,
        ListResults,
        Mending,
        Pausing,
        PoolQueues,
        PoolSettings,
        Publishing,
        RunChanges,
        SavedFilters,
    ),
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
