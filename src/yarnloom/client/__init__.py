"""The client library: `Client` and `AsyncClient` over one shared core."""

from yarnloom.client.async_runs import AsyncRun
from yarnloom.client.asynchronous import AsyncClient
from yarnloom.client.runs import Run
from yarnloom.client.starts import Start
from yarnloom.client.sync import Client
from yarnloom.client.wire import DEFAULT_URL, ENDED, Call, Target, default_who

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
