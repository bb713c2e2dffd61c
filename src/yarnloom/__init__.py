"""Yarn Loom: durable background work for Python, written as plain functions."""

from yarnloom.client import AsyncClient, AsyncRun, Client, Run
from yarnloom.context import StepContext
from yarnloom.errors import GiveUp, YarnloomError
from yarnloom.loom import Loom
from yarnloom.plan import output, param, previous, sequence, step
from yarnloom.version import VERSION

__version__ = VERSION

__all__ = [
    "AsyncClient",
    "AsyncRun",
    "Client",
    "GiveUp",
    "Loom",
    "Run",
    "StepContext",
    "YarnloomError",
    "output",
    "param",
    "previous",
    "sequence",
    "step",
]
