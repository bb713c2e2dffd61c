"""The client library: `Client` and `AsyncClient` over one shared core."""

from yarnloom.client.asynchronous import AsyncClient, AsyncRun
from yarnloom.client.sync import Client, Run
from yarnloom.client.wire import DEFAULT_URL, ENDED, Call, Target, default_who

__all__ = [
    "DEFAULT_URL",
    "ENDED",
    "AsyncClient",
    "AsyncRun",
    "Call",
    "Client",
    "Run",
    "Target",
    "default_who",
]
