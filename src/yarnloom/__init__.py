"""Yarn Loom: durable background work for Python, written as plain functions."""

from typing import TYPE_CHECKING

from yarnloom.lazy_names import lazy_names
from yarnloom.version import VERSION

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient, AsyncRun, Client, Run, Start
    from yarnloom.errors import GiveUp, NotDone, TryLater, UnsureEffect, YarnloomError
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
    from yarnloom.sdk.async_step_context import AsyncStepContext
    from yarnloom.sdk.failures import FailedItem, FailedStep, Failure, Fault
    from yarnloom.sdk.file_values import File, Rows
    from yarnloom.sdk.loom import Loom
    from yarnloom.sdk.run_ended import RunEnded
    from yarnloom.sdk.step_context import StepContext
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

# A command, a client and a process that runs tasks need different ones.
_MODULES = {
    "client": ("AsyncClient", "AsyncRun", "Client", "Run", "Start"),
    "sdk.async_step_context": ("AsyncStepContext",),
    "sdk.step_context": ("StepContext",),
    "sdk.run_ended": ("RunEnded",),
    "errors": ("GiveUp", "NotDone", "TryLater", "UnsureEffect", "YarnloomError"),
    "sdk.failures": ("FailedItem", "FailedStep", "Failure", "Fault"),
    "sdk.file_values": ("File", "Rows"),
    "sdk.loom": ("Loom",),
    "outbox": ("Outbox", "Relay"),
    "secrets": ("Secret",),
}
_WHERE = dict.fromkeys(__all__, "plan") | {
    name: module for module, names in _MODULES.items() for name in names
}
__getattr__ = lazy_names(__name__, _WHERE)
