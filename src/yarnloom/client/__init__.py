"""The client library: `Client` and `AsyncClient` over one shared core."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from yarnloom.client.starts import Start
from yarnloom.client.wire import DEFAULT_URL, ENDED, Call, Target, default_who

if TYPE_CHECKING:
    from yarnloom.client.async_runs import AsyncRun
    from yarnloom.client.asynchronous import AsyncClient
    from yarnloom.client.runs import Run
    from yarnloom.client.sync import Client

__all__ = [
    "DEFAULT_URL",
    "ENDED",
    "AsyncClient",
    "AsyncRun",
    "Call",
    "Client",
    "Run",
    "Start",
    "Target",
    "default_who",
]

# A worker needs none of these, which take their time to be loaded.
_LATER = {
    "AsyncClient": "asynchronous",
    "AsyncRun": "async_runs",
    "Client": "sync",
    "Run": "runs",
}


def __getattr__(name: str) -> Any:
    """Import a class on first use."""
    if name not in _LATER:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(importlib.import_module(f"{__name__}.{_LATER[name]}"), name)
