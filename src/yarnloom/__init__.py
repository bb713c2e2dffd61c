"""Yarn Loom: durable background work for Python, written as plain functions."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from yarnloom.version import VERSION

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient, AsyncRun, Client, Run, Start
    from yarnloom.context import AsyncStepContext, StepContext
    from yarnloom.ended import RunEnded
    from yarnloom.errors import GiveUp, NotDone, TryLater, UnsureEffect, YarnloomError
    from yarnloom.faults import FailedItem, FailedStep, Failure, Fault
    from yarnloom.files import File, Rows
    from yarnloom.loom import Loom
    from yarnloom.outbox import Outbox, Relay
    from yarnloom.plan import (
        Part,
        Rate,
        Retry,
        each,
        failure,
        failures,
        item,
        output,
        parallel,
        param,
        planned_at,
        previous,
        sequence,
        step,
    )
    from yarnloom.secrets import Secret

__version__ = VERSION

__all__ = [
    "AsyncClient",
    "AsyncRun",
    "AsyncStepContext",
    "Client",
    "FailedItem",
    "FailedStep",
    "Failure",
    "Fault",
    "File",
    "GiveUp",
    "Loom",
    "NotDone",
    "Outbox",
    "Part",
    "Rate",
    "Relay",
    "Retry",
    "Rows",
    "Run",
    "RunEnded",
    "Secret",
    "Start",
    "StepContext",
    "TryLater",
    "UnsureEffect",
    "YarnloomError",
    "each",
    "failure",
    "failures",
    "item",
    "output",
    "parallel",
    "param",
    "planned_at",
    "previous",
    "sequence",
    "step",
]

# Loaded at first use: a command, a client and a process that runs tasks need different ones.
_ROOMS = {
    "client": {"AsyncClient", "AsyncRun", "Client", "Run", "Start"},
    "context": {"AsyncStepContext", "StepContext"},
    "ended": {"RunEnded"},
    "errors": {"GiveUp", "NotDone", "TryLater", "UnsureEffect", "YarnloomError"},
    "faults": {"FailedItem", "FailedStep", "Failure", "Fault"},
    "files": {"File", "Rows"},
    "loom": {"Loom"},
    "outbox": {"Outbox", "Relay"},
    "secrets": {"Secret"},
}


def __getattr__(name: str) -> Any:
    """A public name, from the room that has it."""
    if name not in __all__:
        raise AttributeError(f"module 'yarnloom' has no attribute {name!r}")
    room = next((room for room, names in _ROOMS.items() if name in names), "plan")
    found = globals()[name] = getattr(import_module(f"yarnloom.{room}"), name)
    return found
