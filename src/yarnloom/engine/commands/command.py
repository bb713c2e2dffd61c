"""What every command is, and how a use case says which it handles."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, TypeVar

F = TypeVar("F", bound=Callable[..., object])
HANDLED = "handled_command"


class Command:
    """Something that can be submitted to the engine; a kind says here how it is done.

    Attributes:
        is_query: it changes nothing, so it is answered also while nothing can be stored.
        is_large: the work has no bound, so it is done on a thread beside the event loop.
        changes_run: it changes the open steps of the run `run`, so they have rows before it.
        reads_ended_steps: it reads or changes ended steps of the run, so they have rows before it.
        changes_sessions: it changes which workers there are.
    """

    __slots__ = ()

    is_query: ClassVar[bool] = False
    is_large: ClassVar[bool] = False
    changes_run: ClassVar[bool] = False
    reads_ended_steps: ClassVar[bool] = False
    changes_sessions: ClassVar[bool] = False


def handles(kind: type[Command]) -> Callable[[F], F]:
    """Mark the use case that does commands of a kind: `engine/transaction.py` finds it by that."""

    def mark(use_case: F) -> F:
        setattr(use_case, HANDLED, kind)
        return use_case

    return mark


@dataclass(frozen=True, slots=True)
class DeferredAnswer:
    """An answer that is made at the end of the transaction, with all that follows from it."""

    make: Callable[[], Any]
