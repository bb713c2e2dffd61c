"""Yarn Loom: durable background work for Python, written as plain functions."""

from typing import TYPE_CHECKING, Any

from yarnloom.context import StepContext
from yarnloom.errors import GiveUp, TryLater, YarnloomError
from yarnloom.failures import FailedItem, FailedStep, Failure, Fault
from yarnloom.loom import Loom
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
    previous,
    sequence,
    step,
)
from yarnloom.version import VERSION

if TYPE_CHECKING:
    from yarnloom.client import AsyncClient, AsyncRun, Client, Run

__version__ = VERSION

__all__ = [
    "AsyncClient",
    "AsyncRun",
    "Client",
    "FailedItem",
    "FailedStep",
    "Failure",
    "Fault",
    "GiveUp",
    "Loom",
    "Part",
    "Rate",
    "Retry",
    "Run",
    "StepContext",
    "TryLater",
    "YarnloomError",
    "each",
    "failure",
    "failures",
    "item",
    "output",
    "parallel",
    "param",
    "previous",
    "sequence",
    "step",
]

_OF_CLIENT = {"AsyncClient", "AsyncRun", "Client", "Run"}


def __getattr__(name: str) -> Any:
    """The client's names, loaded at first use: processes that only run tasks start faster."""
    if name in _OF_CLIENT:
        from yarnloom import client

        return getattr(client, name)
    raise AttributeError(f"module 'yarnloom' has no attribute {name!r}")
